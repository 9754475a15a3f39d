"""The bench's file, changed by somebody else while it is open: a line that says so, with what can be done about it."""

from __future__ import annotations

import difflib
from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QTimer, Signal
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFrame,
    QHBoxLayout,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.bench_files import BenchFiles
from crisp_compass.app.document import Document
from crisp_compass.app.widgets.parts import Text, label
from crisp_compass.app.widgets.plot import refusal_text
from crisp_compass.bench.store import dump_bench, load_bench
from crisp_compass.errors import Refusal

#: A program that saves touches a file several times; looked at once it has been quiet for this long, ms.
_QUIET_MS = 150
_MOST_LINES = 2000


class DiskWatch(QFrame):
    """Hidden until the file is another than the one that was read or written here. ``refused`` carries a sentence."""

    refused = Signal(str)

    def __init__(self, parent: QWidget, document: Document, files: BenchFiles) -> None:
        super().__init__(parent)
        self.setObjectName("busy")
        self._document, self._files = document, files
        self._watcher = QFileSystemWatcher(self)
        self._quiet = QTimer(self)
        self._quiet.setSingleShot(True)
        self._quiet.setInterval(_QUIET_MS)
        self._quiet.timeout.connect(self.look)
        for changed in (self._watcher.fileChanged, self._watcher.directoryChanged):
            changed.connect(lambda _path: self._quiet.start())
        document.renamed.connect(self._on_file)
        self.text = Text()
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 2, 6, 2)
        row.addWidget(self.text, 1)
        self.reload, self.keep, self.compare = (QPushButton(t) for t in ("Reload", "Keep mine", "Compare…"))
        for button, slot in ((self.reload, self._on_reload), (self.keep, self._on_keep), (self.compare, self._on_compare)):
            button.setObjectName("small")
            button.clicked.connect(slot)
            row.addWidget(button)
        self.hide()
        self._on_file()

    def _on_file(self) -> None:
        """Watch the file that the document has now, and its folder: a saved file is often a new one under the old name."""
        watched = [*self._watcher.files(), *self._watcher.directories()]
        if watched:
            self._watcher.removePaths(watched)
        path = self._document.path
        if path is not None:
            self._watcher.addPaths([str(p) for p in (path, path.parent) if p.exists()])
        self.look()

    def look(self) -> None:
        """Show the line where the file on disk is another one."""
        path = self._document.path
        if path is not None and path.exists() and str(path) not in self._watcher.files():
            self._watcher.addPath(str(path))
        changed = path is not None and self._document.changed_on_disk
        if changed and path is not None:
            mine = "Your unsaved changes are still here." if self._document.unsaved else "Nothing of yours is unsaved."
            self.text.setText(f"{path.name} was changed on disk by somebody else. {mine}")
        self.setVisible(changed)

    def _on_reload(self) -> None:
        path = self._document.path
        if path is not None and self._files.open(path):
            self.look()

    def _on_keep(self) -> None:
        self._document.keep_mine()
        self.look()

    def _on_compare(self) -> None:
        path = self._document.path
        if path is None:
            return
        try:
            theirs = dump_bench(load_bench(path))
        except Refusal as refusal:
            self.refused.emit(refusal_text(refusal))
            return
        Comparison(self.window(), path, theirs, dump_bench(self._document.bench)).exec()


class Comparison(QDialog):
    """Both benches line by line, what is the same left out."""

    def __init__(self, parent: QWidget, path: Path, theirs: str, mine: str) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"What differs in {path.name}")
        lines = list(difflib.unified_diff(theirs.splitlines(), mine.splitlines(), "on disk", "here", lineterm="", n=1))
        self.view = QPlainTextEdit("\n".join(lines[:_MOST_LINES]) or "Both say the same.")
        self.view.setObjectName("code")
        self.view.setReadOnly(True)
        self.view.setAccessibleName("Differences")
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(label("− stands on disk, + stands here", "info"))
        column.addWidget(self.view, 1)
        column.addWidget(buttons)
        self.resize(760, 520)
