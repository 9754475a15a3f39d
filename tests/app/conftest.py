"""The real window for every test of it, closed clean afterwards."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QSettings, QThreadPool, QTimer
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from crisp_compass.app.main import make_application
from crisp_compass.app.theme import THEME
from crisp_compass.app.window import Window


@pytest.fixture
def window(qtbot: QtBot, tmp_path: Path) -> Iterator[Window]:
    make_application()
    THEME.use("light")
    made = Window(QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat))
    made.show()
    qtbot.waitExposed(made)
    made.activateWindow()
    qtbot.waitUntil(made.isActiveWindow, timeout=180000)
    yield made
    made.page.leave()
    made.document.undo_stack.setClean()
    made.document._recovered = False
    made.close()
    QThreadPool.globalInstance().waitForDone(20000)
    made.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.fixture(autouse=True)
def _no_dialog_waits_for_ever(qtbot: QtBot) -> Iterator[None]:
    """Close a dialog that nobody answers, so that the test fails instead of hanging."""

    before: list[object] = [None]

    def close() -> None:
        dialog = QApplication.activeModalWidget()
        if dialog is not None and dialog is before[0]:
            dialog.close()
        before[0] = dialog

    timer = QTimer()
    timer.setInterval(10000)
    timer.timeout.connect(close)
    timer.start()
    yield
    timer.stop()
