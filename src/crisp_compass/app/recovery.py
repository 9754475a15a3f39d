"""Unsaved work of sessions that ended without closing: offered by name and time, and never in place of an open bench."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QGridLayout, QPushButton, QVBoxLayout, QWidget

from crisp_compass.app.autosave import Leftover, leftovers
from crisp_compass.app.widgets.parts import Text, label


class RecoveryDialog(QDialog):
    """One row a session: restore, discard, or leave it for later. ``restore`` returns whether it could be."""

    def __init__(self, parent: QWidget, found: list[Leftover], restore: Callable[[Leftover], bool]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Restore unsaved changes?")
        self._restore = restore
        self.rows: list[tuple[Leftover, QPushButton, QPushButton]] = []
        grid = QGridLayout()
        grid.setHorizontalSpacing(14)
        for line, left in enumerate(found):
            name = Path(left.path).name if left.path else f"{left.name}, never saved"
            grid.addWidget(Text(name), line, 0)
            grid.addWidget(label(left.when.replace("T", " ")[:16], "info"), line, 1)
            take, drop = QPushButton("Restore"), QPushButton("Discard")
            take.setAccessibleName(f"Restore {name} of {left.when}")
            drop.setAccessibleName(f"Discard {name} of {left.when}")
            take.clicked.connect(lambda _on, x=left: self._on_restore(x))
            drop.clicked.connect(lambda _on, x=left: self._on_discard(x))
            grid.addWidget(take, line, 2)
            grid.addWidget(drop, line, 3)
            self.rows.append((left, take, drop))
        later = QDialogButtonBox()
        later.addButton("Later", QDialogButtonBox.ButtonRole.RejectRole)
        later.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(Text("These sessions ended without saving:"))
        column.addLayout(grid)
        column.addWidget(later)

    def _on_restore(self, left: Leftover) -> None:
        self._restore(left)
        self._done(left)

    def _on_discard(self, left: Leftover) -> None:
        left.file.unlink(missing_ok=True)
        self._done(left)

    def _done(self, left: Leftover) -> None:
        for other, take, drop in self.rows:
            if other is left:
                take.setEnabled(False)
                drop.setEnabled(False)
        if not any(take.isEnabled() for _, take, _ in self.rows):
            self.accept()


def offer_recovery(parent: QWidget, restore: Callable[[Leftover], bool]) -> None:
    """Offer what sessions that ended without closing left behind, if anything."""
    found = leftovers()
    if found:
        RecoveryDialog(parent, found, restore).exec()
