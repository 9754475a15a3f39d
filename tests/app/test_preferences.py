"""Settings of this machine: each is at work at once, kept, and what is kept in a broken way is as usual; large text and small windows."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QSettings
from pytestqt.qtbot import QtBot

from crisp_compass import quantities
from crisp_compass.app.preferences import Preferences, PreferencesDialog, apply, keep, read, use_size
from crisp_compass.app.theme import THEME
from crisp_compass.app.window import Window
from hands import type_into


@pytest.fixture
def dialog(window: Window, qtbot: QtBot) -> PreferencesDialog:
    made = PreferencesDialog(window)
    qtbot.addWidget(made)
    made.show()
    return made


def test_each_setting_is_at_work_at_once_and_kept(window: Window, qtbot: QtBot, dialog: PreferencesDialog, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(quantities, "_mark", quantities.THOUSANDS)
    dialog.theme.moved.emit("night")
    assert THEME.name == "night"
    dialog.theme.moved.emit("light")
    assert quantities.grouped(12345.0) == "12\u202f345"
    dialog.thousands.moved.emit("False")
    assert quantities.grouped(12345.0) == "12345"
    type_into(qtbot, dialog.autosave, "2 s")
    assert window.document._autosave.interval() == 2000
    assert dialog.isVisible()  # Enter in a field is that field’s: no button answers it
    dialog.unit.moved.emit("mm/s")
    type_into(qtbot, dialog.trusted["meter_gain"], "0.1 %")
    dialog._set(folder=str(tmp_path))
    assert window.document.base == tmp_path
    window.document.new()
    assert window.document.bench.settings.load_side.unit == "mm/s"
    assert window.document.bench.settings.instruments.meter_gain == pytest.approx(1e-3)
    assert window.document.untouched
    kept = read(window.settings)
    assert (kept.thousands, kept.autosave, kept.unit, kept.folder) == (False, 2.0, "mm/s", str(tmp_path))
    apply(window, Preferences())


def test_the_text_grows_at_the_next_start_only(window: Window, dialog: PreferencesDialog) -> None:
    environment: dict[str, str] = {}
    use_size(window.settings, environment)
    assert not environment
    dialog.text_size.moved.emit("150")
    assert "next start" in dialog.said.text()
    use_size(window.settings, environment)
    assert environment == {"QT_SCALE_FACTOR": "1.5"}
    own = {"QT_SCALE_FACTOR": "3"}
    use_size(window.settings, own)  # what the person's environment says goes before it
    assert own == {"QT_SCALE_FACTOR": "3"}


@pytest.mark.parametrize(("name", "value"), [("size", "5000"), ("autosave", "nan"), ("autosave", "-1"), ("unit", "parsec/s"), ("meter_gain", "7"), ("size", "large")])
def test_what_is_kept_in_a_broken_way_is_as_usual(tmp_path: Path, name: str, value: str) -> None:
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    keep(settings, Preferences(theme="night"))
    settings.setValue(f"preferences/{name}", value)
    assert read(settings) == Preferences(theme="night")


def test_a_small_window_leaves_its_room_to_the_page(window: Window, qtbot: QtBot, winch: Path) -> None:
    """As much as 200 % of text leaves of 1280 × 800: the panel goes, a reading and the guide bring it back, the course names one leg."""
    window.open(winch)
    window.resize(640, 400)
    qtbot.waitUntil(lambda: window.width() == 640)
    assert not window._panel.isVisibleTo(window)
    assert window.course._crowded()
    window.read_entry()
    assert window._panel.isVisibleTo(window)
    window.toggle_guide()
    assert window._panel.isVisibleTo(window)
    window.toggle_guide()
    assert not window._panel.isVisibleTo(window)
    window.resize(1280, 800)
    qtbot.waitUntil(lambda: window.width() == 1280)
    assert window._panel.isVisibleTo(window)
    assert not window.course._crowded()
