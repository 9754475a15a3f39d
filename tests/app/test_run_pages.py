"""Run, envelope, and the load side: what binds, the load on the map, and a limit above its reason that disarms Run until it is named."""

from __future__ import annotations

import math
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from crisp_compass.app.waypoints.plate.load_side import LoadSidePage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.waypoints.run.envelope import EnvelopePage
from crisp_compass.app.waypoints.speed_loop.number_format import SpeedFormatPage
from crisp_compass.app.widgets.parts import Text
from crisp_compass.app.window import Window
from hands import copy_bench, type_into


def test_what_limits_it(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run", "Envelope")
    page = window.page
    assert isinstance(page, EnvelopePage)
    qtbot.waitUntil(lambda: "the firmware's current limit" in page.answer._doubt.text(), timeout=60000)
    assert len(page.plot.data("map")[0]) > 100
    assert not page.because.isVisibleTo(page)
    type_into(qtbot, page.number("load"), "500 mN·m")
    qtbot.waitUntil(lambda: page.rows.texts["load"] == "500 mN·m" and page.rows.texts["efficiency"] == "87 %", timeout=20000)
    type_into(qtbot, page.number("limits.gear_torque"), "0.6")
    qtbot.waitUntil(lambda: "the gear's peak torque" in page.answer._doubt.text(), timeout=20000)
    assert page.because.isVisibleTo(page)
    window.travel("run", "Drive")
    run = window.page
    assert isinstance(run, RunPage)
    assert "say why on Run, Envelope" in run.answer._reason.text()
    assert run.port is None
    window.travel("run", "Envelope")
    page.because.setText("a new gear is ordered")
    page.because.editingFinished.emit()
    assert window.document.bench.settings.limits.because == "a new gear is ordered"
    window.travel("run", "Drive")
    assert run.port is not None
    window.document.undo_stack.undo()
    assert window.document.bench.settings.limits.because == ""


def test_the_load_side_reaches_speed_fields_and_run(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("plate", "Load side")
    page = window.page
    assert isinstance(page, LoadSidePage)
    assert page.answer.text == "Not yet"
    page._fields["load_side.kind"].moved.emit("wheel")
    for name, text in (("diameter", "120 mm"), ("ratio", "20"), ("mass", "25 kg"), ("velocity", "15 m/min")):
        type_into(qtbot, page.number(f"load_side.{name}"), text)
    page._fields["load_side.way"].moved.emit("vertical")
    assert page.answer.text == "796 rpm"
    qtbot.waitUntil(lambda: len(page.plot.data("peak")[0]) > 50, timeout=20000)
    assert page.main_button is not None
    page.main_button.click()
    assert window.document.bench.settings.run.load_kind == "drives"
    window.travel("run", "Drive")
    run = window.page
    assert isinstance(run, RunPage)
    type_into(qtbot, run.number("speed"), "10 m/min")
    assert abs(window.document.bench.settings.run.speed - 10 / 60 / 0.003) < 1e-6
    assert "10.0 m/min" in run.number("speed")._frame.toolTip()
    run.start()
    run.advance(0.4)
    assert "m/min at the load" in run._state("")
    run.stop()
    window.travel("speed_loop", "Design")  # whatever text names a speed tells it at the load, too
    cells = [window.page.figures.item(row, 1) for row in range(window.page.figures.rowCount())]  # type: ignore[attr-defined]
    tips = {cell.text(): cell.toolTip() for cell in cells if cell.text().endswith(" rpm")}
    assert tips
    for text, tip in tips.items():
        speed, there = float(text.removesuffix(" rpm")), tip.removeprefix(f"{text} = ").removesuffix(" m/min at the load")
        assert float(there) == pytest.approx(speed * 0.003 * 2 * math.pi, rel=0.01)


def test_run_holds_a_torque(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run", "Drive")
    run = window.page
    assert isinstance(run, RunPage)
    assert not run.number("torque").isVisibleTo(run)
    run._fields["holds"].moved.emit("torque")
    assert not run.number("speed").isVisibleTo(run)
    type_into(qtbot, run.number("torque"), "300 mN·m")
    assert "set an over-speed trip" in " ".join(t.text() for t in run.findings.findChildren(Text))
    run.start()
    run.advance(0.05)
    assert run._state("").startswith("torque 300 mN·m")
    assert run.port is not None
    assert run.port.speed > 1.0
    run.reverse.click()
    assert window.document.bench.settings.run.torque == -0.3
    run.advance(0.2)
    assert run.port.speed < 0.0
    run.stop()


def test_the_speed_loops_integers(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("speed_loop", "Number format")
    page = window.page
    assert isinstance(page, SpeedFormatPage)
    assert page.answer.text == f"Kp {page.integers.texts['Kp']}"
    kp, shift = page.integers.texts["Kp"].split(" >> ")
    ki, ki_shift = page.integers.texts["Ki·Ts"].split(" >> ")
    for name, text in (("kp_integer", kp), ("kp_shift", shift), ("ki_integer", ki), ("ki_shift", ki_shift)):
        type_into(qtbot, page.number(name), text)
    assert page.read.texts["verdict"] == "sound"
    assert len(page.step.data("read")[0]) > 20
    type_into(qtbot, page.number("kp_integer"), "9999999")
    assert "does not fit" in " ".join(t.text() for t in page.findings.findChildren(Text))
