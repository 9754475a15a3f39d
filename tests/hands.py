"""What a person's hands do with the window."""

from __future__ import annotations

import shutil
from pathlib import Path

from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from pytestqt.qtbot import QtBot

from crisp_compass.app.widgets.lever import Lever
from crisp_compass.app.window import Window


def drop(window: Window, path: Path) -> None:
    """Drop a file on the window."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    event = QDropEvent(
        QPointF(400, 400), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)


def press_main(qtbot: QtBot, window: Window) -> None:
    """Press the page's main button."""
    button = window.page.main_button
    assert button is not None
    assert button.isEnabled()
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)


def copy_bench(path: Path, folder: Path) -> Path:
    """Copy a bench with its captures."""
    for file in path.parent.iterdir():
        shutil.copy(file, folder)
    return folder / path.name


def type_into(qtbot: QtBot, lever: Lever, text: str) -> None:
    """Type over a lever's text and press Enter."""
    lever.edit.setFocus()
    lever.edit.selectAll()
    qtbot.keyClicks(lever.edit, text)
    qtbot.keyClick(lever.edit, Qt.Key.Key_Return)
