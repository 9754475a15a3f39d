"""Opening and saving benches for one window: every question about unsaved, changed or replaced files is asked here."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QSettings, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from crisp_compass.app.dialogs import ask_save_path, may_replace
from crisp_compass.app.document import Document
from crisp_compass.app.widgets.parts import unmarked
from crisp_compass.app.widgets.plot import refusal_text
from crisp_compass.bench.store import load_bench
from crisp_compass.errors import Refusal
from crisp_compass.files import fingerprint

_RECENT = 8
_KINDS = "Benches (*.bench.json)"


class BenchFiles(QObject):
    """New, open, save, save as, recent files. ``refused`` carries a sentence, ``done`` what was done, ``opened`` follows a bench."""

    refused = Signal(str)
    done = Signal(str)
    opened = Signal()

    def __init__(self, window: QWidget, document: Document, settings: QSettings) -> None:
        super().__init__(window)
        self._window, self._document, self._settings = window, document, settings

    def new(self) -> None:
        """Start an empty bench after asking about unsaved work."""
        if self.may_discard():
            self._document.new()
            self.opened.emit()

    def ask_open(self) -> None:
        """Ask for a bench and open it."""
        start = str(self._document.base)
        path, _ = QFileDialog.getOpenFileName(self._window, "Open bench", start, f"{_KINDS};;All files (*)")
        if path:
            self.open(Path(path))

    def open(self, path: Path) -> bool:
        """Open a bench; on refusal the open one stays, and nobody is asked about it."""
        known = fingerprint(path)
        try:
            bench = load_bench(path)
        except Refusal as refusal:
            self.refused.emit(refusal_text(refusal))
            return False
        if not self.may_discard():
            return False
        self._document.take(bench, path, known)
        self._remember(path)
        self.opened.emit()
        return True

    def save(self) -> bool:
        """Save, asking for a name if there is none; return whether it was saved."""
        path = self._document.path
        if path is None:
            return self.save_as()
        if self._document.changed_on_disk and not may_replace(
            self._window,
            f"{path.name} was changed by somebody else since it was opened here. Saving would replace those changes.",
        ):
            return False
        return self._save_to(path)

    def save_as(self) -> bool:
        """Save under a new name."""
        document = self._document
        name = document.bench.name.lower().replace(" ", "-").replace("/", "-")
        start = document.path or document.base / f"{name}.bench.json"
        path = ask_save_path(self._window, "Save bench", start, _KINDS, suffixes=(".bench.json", ".json"))
        return path is not None and self._save_to(path)

    def _save_to(self, path: Path) -> bool:
        try:
            self._document.save(path)
        except Refusal as refusal:
            self.refused.emit(refusal_text(refusal))
            return False
        self._remember(path)
        self.done.emit(f"Saved {path.name}")
        return True

    def may_discard(self) -> bool:
        """Ask about unsaved work; True if it may go."""
        if not self._document.unsaved:
            return True
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self._window, "Unsaved changes", unmarked(f"Save the changes of {self._document.title}?"),
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip
        if answer == buttons.Save:
            return self.save()
        return answer == buttons.Discard

    def _remember(self, path: Path) -> None:
        recent = [str(path.resolve()), *(p for p in self.recent() if p != str(path.resolve()))]
        self._settings.setValue("recent", recent[:_RECENT])

    def recent(self) -> list[str]:
        """Return the paths of benches opened lately, newest first."""
        stored = self._settings.value("recent") or []
        return [stored] if isinstance(stored, str) else [str(p) for p in stored]


def keep_picked(document: Document, settings: QSettings) -> Callable[[Path], None]:
    """Let the document know which captures the person chose, now and in earlier sessions; return what remembers one more."""
    stored = settings.value("picked") or []
    document.picked.update([stored] if isinstance(stored, str) else stored)

    def remember(path: Path) -> None:
        document.picked.add(str(path.resolve()))
        settings.setValue("picked", sorted(document.picked)[-400:])

    return remember
