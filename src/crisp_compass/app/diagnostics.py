"""Diagnostics: what somebody who is to help needs, looked at first, saved as one file, with the bench only where that is wished."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication, QCheckBox, QDialog, QHBoxLayout, QPlainTextEdit, QVBoxLayout, QWidget

from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.logs import diagnostics
from crisp_compass.app.widgets.parts import button, label
from crisp_compass.app.widgets.plot import refusal_text
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import dump_bench
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically


def told(settings: QSettings, bench: Bench | None) -> str:
    """Return the text: versions, machine, screens, settings, the end of the log; and the bench, if one is given."""
    kept = [f"{key}: {settings.value(key)}" for key in settings.allKeys() if key != "geometry" and "recent" not in key.lower()]
    text = "\n".join([diagnostics(), "", "settings", *(kept or ["none kept"])])
    return text if bench is None else f"{text}\n\nbench\n{dump_bench(bench)}"


class DiagnosticsDialog(QDialog):
    """The text as it will be written, a tick for the bench, copy and save."""

    def __init__(self, parent: QWidget, settings: QSettings, bench: Bench) -> None:
        super().__init__(parent)
        self.setWindowTitle("Diagnostics")
        self.resize(820, 560)
        self._settings, self._bench = settings, bench
        self.view = QPlainTextEdit(readOnly=True)
        self.view.setObjectName("code")
        self.view.setAccessibleName("Diagnostics as they will be written")
        self.tick = QCheckBox("Include the bench: its figures, notes and names of files")
        self.tick.toggled.connect(self._show)
        self.said = label("", "caution")
        copy, save = button("Copy", ""), button("Save…", "main")
        copy.clicked.connect(lambda: QApplication.clipboard().setText(self.view.toPlainText()))
        save.clicked.connect(self._ask)
        row = QHBoxLayout()
        row.addWidget(self.tick, 1)
        row.addWidget(copy)
        row.addWidget(save)
        column = QVBoxLayout(self)
        column.addWidget(label("Look at it first: this and nothing else goes into the file.", "reason"))
        column.addWidget(self.view, 1)
        column.addWidget(self.said)
        column.addLayout(row)
        self._show()

    def _show(self) -> None:
        self.view.setPlainText(told(self._settings, self._bench if self.tick.isChecked() else None))

    def _ask(self) -> None:
        path = ask_save_path(self, "Save diagnostics", Path("crisp-compass-diagnostics.txt"), "Text (*.txt)", suffixes=(".txt",))
        if path is not None:
            self.save(path)

    def save(self, path: Path) -> None:
        """Write what is shown into a file."""
        try:
            write_atomically(path, self.view.toPlainText())
        except Refusal as refusal:
            self.said.setText(refusal_text(refusal))
        else:
            self.said.setText(f"Written to {path}")
