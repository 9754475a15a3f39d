"""The real window for every test of it, closed clean afterwards; reasons are taken as proposed."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QSettings, QThreadPool
from pytestqt.qtbot import QtBot

from crisp_compass.app.legs import base
from crisp_compass.app.main import make_application
from crisp_compass.app.theme import THEME
from crisp_compass.app.window import Window


@pytest.fixture
def window(qtbot: QtBot, tmp_path: Path) -> Iterator[Window]:
    make_application()
    THEME.use("light")
    made = Window(QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat))
    made.show()
    yield made
    made.page.leave()
    made.document.undo_stack.setClean()
    made.document._recovered = False
    made.close()
    QThreadPool.globalInstance().waitForDone(20000)
    made.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.fixture(autouse=True)
def _reasons(monkeypatch: pytest.MonkeyPatch) -> None:
    """Take the proposed reason, as Enter would."""
    monkeypatch.setattr(base.ReasonDialog, "exec", lambda self: base.QDialog.DialogCode.Accepted)
