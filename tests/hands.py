"""What a person's hands do with the window."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from PySide6.QtCore import QMimeData, QPointF, Qt, QTimer, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QWidget
from pytestqt.qtbot import QtBot

from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.app.widgets.reason import ReasonDialog
from crisp_compass.app.window import Window


def drop(window: Window, path: Path) -> None:
    """Drop a file on the window."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    event = QDropEvent(
        QPointF(400, 400), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)


@contextmanager
def answering(act: Callable[[QWidget], None]) -> Iterator[list[QWidget]]:
    """Answer every real dialog that opens meanwhile with ``act``; yields those that were seen."""
    seen: list[QWidget] = []

    def look() -> None:
        dialog = QApplication.activeModalWidget()
        if dialog is not None and (not seen or seen[-1] is not dialog):
            seen.append(dialog)
            act(dialog)

    timer = QTimer()
    timer.timeout.connect(look)
    timer.start(5)
    try:
        yield seen
    finally:
        timer.stop()


def choose(text: str) -> Callable[[QWidget], None]:
    """Return what presses the button of a dialog that says ``text``."""

    def act(dialog: QWidget) -> None:
        button = next(b for b in dialog.findChildren(QAbstractButton) if b.text().replace("&", "") == text)
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)

    return act


def give_reason(dialog: QWidget) -> None:
    """Take the proposed reason with Enter; type one where none is proposed."""
    if isinstance(dialog, ReasonDialog):
        if not dialog.edit.text():
            QTest.keyClicks(dialog.edit, "read off the board")
        QTest.keyClick(dialog.edit, Qt.Key.Key_Return)


def press_main(qtbot: QtBot, window: Window) -> None:
    """Press the page's main button, and answer its question for a reason."""
    button = window.page.main_button
    assert button is not None
    assert button.isEnabled()
    with answering(give_reason):
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)


def dropped(qtbot: QtBot, window: Window, path: Path) -> None:
    """Drop a capture, wait until it is read, and go where the notice says that it went."""
    drop(window, path)
    qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    if not window.notices.isHidden() and window.notices.action.isVisible():
        qtbot.mouseClick(window.notices.action, Qt.MouseButton.LeftButton)


def copy_bench(path: Path, folder: Path) -> Path:
    """Copy a bench with its captures."""
    for file in path.parent.iterdir():
        shutil.copy(file, folder)
    return folder / path.name


def type_into(qtbot: QtBot, number: NumberField, text: str) -> None:
    """Type over a number's text and press Enter."""
    number.edit.setFocus()
    number.edit.selectAll()
    qtbot.keyClicks(number.edit, text)
    qtbot.keyClick(number.edit, Qt.Key.Key_Return)
