"""Two snapshots of a drive side by side; no drive is needed for it."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QDialog, QVBoxLayout, QWidget

from crisp_compass.app.widgets.parts import label
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.drive.profile import Pair, Snapshot, side_by_side


class Snapshots(QDialog):
    """A table of both, what differs marked."""

    def __init__(self, first: Snapshot, second: Snapshot, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Two snapshots of a drive")
        self.resize(720, 520)
        self._pairs = side_by_side(first, second)
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 16, 20, 16)
        differ = sum(p.differs for p in self._pairs)
        self.answer = label(f"{differ} of {len(self._pairs)} differ" if differ else f"All {len(self._pairs)} agree", "heading")
        column.addWidget(self.answer)
        for one in (first, second):
            said = ", ".join(part for part in (one.drive, one.when.replace("T", " ")) if part)
            column.addWidget(label(f"{one.name}: {said or 'nothing says of what or when'}", "info"))
        self.different = QCheckBox("only what differs")
        self.different.setChecked(0 < differ < len(self._pairs))
        self.different.toggled.connect(self._show)
        column.addWidget(self.different)
        self.table = Table("Values of both snapshots", ("Parameter", first.name, second.name), widths={0: 220, 1: 190})
        column.addWidget(self.table, 1)
        self._show()

    def _show(self) -> None:
        self.table.show_rows([
            [Cell(p.name.replace("_", " ")), Cell(_shown(p, p.first), right=True), Cell(_shown(p, p.second), "ochre" if p.differs else "ink", bold=p.differs, right=True)]
            for p in self._pairs if p.differs or not self.different.isChecked()
        ])  # fmt: skip


def _shown(pair: Pair, value: float | None) -> str:
    return "–" if value is None else f"{value:.6g} {pair.unit}".rstrip()
