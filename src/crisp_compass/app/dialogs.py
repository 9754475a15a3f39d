"""Questions about files, in one place: the name is complete before anybody is asked whether to replace it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from crisp_compass.app.widgets.parts import unmarked


def ask_save_path(parent: QWidget, title: str, start: Path, kinds: str, suffixes: tuple[str, ...]) -> Path | None:
    """Return where to save, with one of ``suffixes`` (the first where none was typed), or None.

    The file dialog asks nothing about replacing: it does not know the name that the file will have.
    """
    text, _ = QFileDialog.getSaveFileName(
        parent, title, str(start), kinds, options=QFileDialog.Option.DontConfirmOverwrite
    )
    if not text:
        return None
    path = Path(text)
    if not path.name.lower().endswith(suffixes):
        path = path.with_name(path.name + suffixes[0])
    if path.exists() and not may_replace(parent, f"{path.name} is already there."):
        return None
    return path


def may_replace(parent: QWidget, why: str, *, go: str = "Replace") -> bool:
    """Ask whether a file may be replaced, or written after all; leaving it is the answer that Enter gives."""
    box = QMessageBox(QMessageBox.Icon.Question, f"{go}?", unmarked(why), parent=parent)
    box.addButton(go, QMessageBox.ButtonRole.DestructiveRole)
    keep = box.addButton("Keep" if go == "Replace" else "Cancel", QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(keep)
    box.setEscapeButton(keep)
    box.exec()
    return box.clickedButton() is not keep
