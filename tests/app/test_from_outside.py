"""What is registered from outside: every page opens, the drive runs, header and record are written. Which files that takes, ARCHITECTURE.md says."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

pytest.importorskip("PySide6")
from PySide6.QtCore import QSettings, QThreadPool
from pytestqt.qtbot import QtBot

from crisp_compass.app.main import make_application
from crisp_compass.app.waypoints.hand_over.files import HandOverPage
from crisp_compass.app.window import Window
from crisp_compass.bench.entered import enter
from crisp_compass.bench.plate import MagnetPlate
from crisp_compass.bench.store import load_bench, save_bench
from crisp_compass.course.course import waypoints_of
from crisp_compass.course.drive import build_drive
from crisp_compass.preparation.wiring import leads_of
from crisp_compass.record.formats import FORMS, export_settings
from crisp_compass.record.formats.form import Form
from crisp_compass.record.report import write_report
from crisp_compass.sensing import SENSORS
from crisp_compass.sensing.sensor import Sensor
from hands import copy_bench

RESOLVER = Sensor(
    "resolver", "resolver", "resolver", leads=(("sin +", "sin+"), ("sin −", "sin−")), steps=65536.0, turned="Zero it again.",
    sequence="resolver", turn_round="exchange its sine leads", proven_by=("alignment",),
)  # fmt: skip


def test_a_format_has_its_button(qtbot: QtBot, winch: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(FORMS, "lines", Form("lines", "lines", ".txt", "settings", 9, lambda bench: bench.name))
    make_application()
    window = Window(QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat))
    qtbot.addWidget(window)
    window.open(winch)
    window.travel("hand_over")
    page = window.page
    assert isinstance(page, HandOverPage)
    assert page.buttons["lines"].text() == "Save lines…"
    page.save_settings(tmp_path / "s.txt", "lines")
    assert (tmp_path / "s.txt").read_text() == load_bench(winch).name


def test_a_leg_a_setting_and_a_family_are_the_files_that_are_counted(winch: Path, tmp_path: Path) -> None:
    """In a process of its own, because both are found while the package is imported."""
    over, here = tmp_path / "over", Path(__file__).parent
    over.mkdir()
    bench = copy_bench(winch.parents[1] / "hatch" / "hatch.bench.json", tmp_path)
    command = [sys.executable, str(here / "outside.py"), str(over), str(bench), "coil"]
    environment = os.environ | {"PYTHONPATH": str(here.parent), "QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=300, check=False)
    assert done.returncode == 0, done.stderr[-2000:]
    found = json.loads(done.stdout)
    assert "cooling" in found["visited"]
    assert found["machine"] == "Coil"
    assert found["speed"] == pytest.approx(20.0, rel=1e-3)
    assert found["headline"] == "0.25 A"
    assert "fan current 250.0 mA → 500.0 mA" in found["edited"]
    assert "#define CC_COOLING_FAN_A (0.25f)" in found["written"]["c-header"]
    assert all('fan' in found["written"][form] for form in ("json", "csv"))
    assert "fan" in found["record"].lower()
    assert "Cooling" in found["record"]


@pytest.mark.thorough
def test_a_sensor_is_one_module(qtbot: QtBot, winch: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(SENSORS, "resolver", RESOLVER)
    monkeypatch.setattr(MagnetPlate, "sensors", (*MagnetPlate.sensors, "resolver"))
    bench = enter(load_bench(winch), "sensor", {"kind": "resolver"})
    save_bench(bench, tmp_path / "b.bench.json")
    assert load_bench(tmp_path / "b.bench.json").settings.sensor.kind == "resolver"
    assert "sin +" in [lead.name for lead in leads_of(bench)]
    assert build_drive(bench).sensing.counts_per_rev == 65536
    make_application()
    window = Window(QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat))
    qtbot.addWidget(window)
    window.open(tmp_path / "b.bench.json")
    window.travel("plate")
    assert window.page._fields["sensor.kind"].box.findText("resolver") >= 0
    for waypoint in waypoints_of(bench):
        for section in waypoint.sections:
            if section.applies(bench):
                window.travel(waypoint.key, section.name)
                assert window.page.answer.text
    qtbot.waitUntil(lambda: QThreadPool.globalInstance().activeThreadCount() == 0, timeout=180000)
    assert all(export_settings(bench, form) for form in ("c-header", "json", "csv"))
    assert "sin +" in write_report(bench, tmp_path, "now")
