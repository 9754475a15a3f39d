"""Motion: a move typed in the person's unit, settled and handed over, run as a position; what Run shows beside it, and a sensor that is unplugged."""

from __future__ import annotations

import math
import re
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from pytestqt.qtbot import QtBot

from crisp_compass.app.page.trials_page import TrialsPage
from crisp_compass.app.waypoints.motion.axis import AxisPage
from crisp_compass.app.waypoints.motion.homing import HomingPage
from crisp_compass.app.waypoints.motion.move import MovePage
from crisp_compass.app.waypoints.motion.points import PointsPage
from crisp_compass.app.waypoints.motion.pulses import PulsesPage
from crisp_compass.app.waypoints.motion.success import SuccessPage
from crisp_compass.app.waypoints.motion.watching import WatchingPage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.waypoints.run.limits import LimitsPage
from crisp_compass.app.window import Window
from crisp_compass.capture import read_capture, write_capture
from crisp_compass.course.points import rows_of, with_rows
from crisp_compass.course.position import as_designed
from crisp_compass.course.pulses import pulses_of
from crisp_compass.course.speed_trials import next_change
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.motion.points import Row
from crisp_compass.quantities import grouped
from crisp_compass.record.formats import export_settings
from crisp_compass.studies.drift import drift
from hands import copy_bench, press_main, type_into


def test_a_move_from_the_page_to_a_run(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    document = window.document
    document.set_field("load_side", "kind", "screw")
    document.set_field("load_side", "lead", 0.005)
    window.travel("motion", "Move")
    page = window.page
    assert isinstance(page, MovePage)
    qtbot.waitUntil(lambda: "off at most" in page.answer.text, timeout=120000)
    type_into(qtbot, page.number("distance"), "25 mm")
    assert document.bench.settings.motion.distance == 2 * math.pi * 5
    type_into(qtbot, page.number("rounding"), "20 ms")
    qtbot.waitUntil(lambda: page.rows.texts.get("way at the load") == "25.00 mm", timeout=60000)
    assert page.rows.texts["torque there over needed"] == "2.5 times"
    assert len(page.off.data("off")[0]) > 100
    type_into(qtbot, page.number("kv"), "5000")
    qtbot.waitUntil(lambda: "unstable" in [f.code for f in page.found.findings], timeout=60000)
    assert page.main_button is not None
    assert not page.main_button.isEnabled()
    document.set_field("motion", "kv", None)
    qtbot.waitUntil(lambda: page.main_button.isEnabled(), timeout=60000)
    press_main(qtbot, window)
    assert "CC_MOTION_KV_PER_S" in export_settings(document.bench, "c-header")
    assert BY_KEY["motion"].headline(document.bench.settled["motion"]).startswith("Kv")

    window.travel("run", "Drive")
    run = window.page
    assert isinstance(run, RunPage)
    document.set_field("run", "holds", "position")
    type_into(qtbot, run.number("place"), "3 turn")
    run._timer.setInterval(100000)
    run.start()
    for _ in range(10):
        run.advance(0.1)
    assert isinstance(run.port, SimulatedDrive)
    assert abs(run.port.place - 6 * math.pi) < 0.01
    assert "place 3.000 turns" in run.figures.text()
    assert "to 3 turns" in run.answer._doubt.text()
    # the sensor goes: the count stands still, the drive trips, and Limits remembers at what
    document.set_field("run", "holds", "speed")
    run.advance(0.5)
    run.unplug.click()
    for _ in range(20):
        run.advance(0.1)
        if run.port.fault:
            break
    assert run.port.fault in ("stall", "over-current", "following error")
    assert document.trips[-1].fault == run.port.fault
    window.travel("run", "Limits")
    limits = window.page
    assert isinstance(limits, LimitsPage)
    assert run.port.fault in limits.trips.texts


def test_speed_trials_advise_one_change_at_a_time(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    """From gains that ring to calm ones, by what each trial shows; undone at one stroke."""
    window.open(copy_bench(winch, tmp_path))
    document = window.document
    window.travel("speed_loop", "Trials")
    page = window.page
    assert isinstance(page, TrialsPage)
    assert page.answer.text == "No trial yet"
    settled = document.bench.settled["speed_loop"].values
    kp, ki, said = 3.5 * settled["kp"].value, settled["ki"].value, []
    for _ in range(8):
        document.set_field("speed_loop", "trial_kp", kp)
        document.set_field("speed_loop", "trial_ki", ki)
        assert page.main_button is not None
        page.main_button.click()
        last = page.rows[-1]
        found = next_change(last.figures.overshoot if np.isfinite(last.figures.overshoot) else 0.0, last.margins, kp, ki, last.bandwidth_hz)
        assert (found[0] == kp) or (found[1] == ki)
        said.append(found[2])
        if found[:2] == (kp, ki):
            break
        kp, ki = found[:2]
    assert "Kp" in said[0]
    assert said[-1] == "Fast and calm: keep it."
    assert page.rows[-1].margins.phase_margin_deg > 30
    assert len(document.bench.speed_trials) == len(said)
    document.undo_stack.undo()
    assert len(document.bench.speed_trials) == len(said) - 1


def test_a_measured_run_with_the_simulated_one_beside_it(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    bench = copy_bench(winch, tmp_path)
    window.open(bench)
    t = np.arange(0.0, 1.5, 1e-3)
    reference = np.clip(1500.0 * (t - 0.2), 0.0, 90.0)
    path = tmp_path / "run.csv"
    write_capture(path, t, {"speed_ref": reference, "speed": 0.97 * reference, "i_q": np.full(len(t), 0.2)}, {})
    assert len(read_capture(path).time) == len(t)
    window.travel("run", "Drive")
    run = window.page
    assert isinstance(run, RunPage)
    run._timer.setInterval(100000)
    run.source.take(path)
    qtbot.waitUntil(lambda: run.port is not None and run.port.identity.kind == "replay", timeout=20000)
    run.start()
    run.advance(1.4)
    assert "the simulated drive over the same reference" in run.answer._doubt.text()
    told = run.traces.history
    assert abs(float(told["speed_sim"][-1]) - 90.0) < 1.0
    assert abs(float(told["speed"][-1]) - 87.3) < 0.1
    assert len(run.speed_plot.data("simulated")[0]) > 100


@pytest.mark.thorough
def test_ways_in_pulses_and_a_stepped_move(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch.parents[1] / "carousel" / "carousel.bench.json", tmp_path))
    document = window.document
    window.travel("motion", "Ways and pulses")
    page = window.page
    assert isinstance(page, PulsesPage)
    assert page.rows.texts["full steps"] == "520"
    assert page.rows.texts["counts ×4"] == grouped(20800)
    type_into(qtbot, page.number("pulse_way"), "0.09")
    assert page.rows.texts["gear"] == "2 / 1"
    assert page.rows.texts["drift"] == "exact: nothing drifts"
    type_into(qtbot, page.number("input_hz"), "10 kHz")
    assert "pulses-too-fast" in [f.code for f in pulses_of(page.seen).findings]
    # without a sensor the field is stepped, and what is lost is told beside what is believed
    document.set_field("sensor", "kind", "none")
    window.travel("motion", "Move")
    move = window.page
    assert isinstance(move, MovePage)
    qtbot.waitUntil(lambda: move.answer.text == "keeps its place", timeout=120000)
    assert "full steps" in move.rows.texts
    document.set_field("run", "load", 1.0)
    qtbot.waitUntil(lambda: "steps lost" in move.answer.text, timeout=120000)
    lost = int(move.answer.text.split()[0])
    assert lost % 4 == 0
    document.set_field("run", "load", 0.0)
    qtbot.waitUntil(lambda: move.answer.text == "keeps its place", timeout=120000)
    press_main(qtbot, window)
    assert "kv" not in document.bench.settled["motion"].values


def test_a_table_of_points_is_mended_pasted_and_undone(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch.parents[1] / "carousel" / "carousel.bench.json", tmp_path))
    document = window.document
    window.travel("motion", "Points")
    page = window.page
    assert isinstance(page, PointsPage)
    qtbot.waitUntil(lambda: page.answer.text == "row 17 fails", timeout=120000)
    item = page.table.item(16, 4)
    assert item is not None
    item.setText("250")
    assert document.bench.points[16].accel == 250.0
    qtbot.waitUntil(lambda: page.answer.text.endswith(" s") and page.run is not None, timeout=120000)
    assert len(page.plot.data("shaft")[0]) > 100
    cell = page.table.item(2, 1)
    assert cell is not None
    cell.setText("everywhere")
    assert document.bench.points[2].target == 2 * np.pi * 1.3
    shown = page.table.item(2, 1)
    assert shown is not None
    assert shown.text() == "1.3"  # what was refused is put back
    QGuiApplication.clipboard().setText("target\tdwell\n6 mm\t0.5\n0\t\n")
    page.table.setFocus()
    qtbot.keyClick(page.table, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    assert len(document.bench.points) == 26
    assert document.bench.points[24].target == 2 * np.pi
    document.undo_stack.undo()
    assert len(document.bench.points) == 24
    path = tmp_path / "new.csv"
    path.write_text("target;speed\n1;100\n0;1e99\n")
    page.take(path)
    assert len(document.bench.points) == 24
    path.write_text("target;speed\n1;100\n0;90\n")
    page.take(path)
    assert [p.target for p in document.bench.points] == [2 * np.pi, 0.0]


def test_homing_has_its_number_and_reaches_what_is_handed_over(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch.parents[1] / "carousel" / "carousel.bench.json", tmp_path))
    document = window.document
    window.travel("motion", "Homing")
    page = window.page
    assert isinstance(page, HomingPage)
    qtbot.waitUntil(lambda: page.answer.text == "method 37", timeout=20000)
    assert "HOMING_METHOD" not in export_settings(document.bench, "c-header")
    document.set_field("homing", "reference", "home-switch")
    document.set_field("homing", "ends", "edge")
    qtbot.waitUntil(lambda: page.answer.text == "method 19", timeout=20000)
    assert len(page.many.data("found")[0]) == 1000
    type_into(qtbot, page.number("homing.room"), "0.01 mm")
    qtbot.waitUntil(lambda: page.found is not None and "runs-into-the-stop" in [f.code for f in page.found.findings], timeout=20000)
    assert "#define CC_HOMING_METHOD (19.0f)" in export_settings(document.bench, "c-header")


@pytest.mark.thorough
def test_how_quickly_a_stepper_can_be_moved(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    """The map grows, is called off and run; what is changed afterwards takes it down."""
    window.open(copy_bench(winch.parent.parent / "carousel" / "carousel.bench.json", tmp_path))
    window.document.set_field("sensor", "kind", "none")
    window.document.set_fields("quick", {"motion": {"distance": 3.0, "speed": 15.0, "rounding": None}, "run": {"load": 0.3}})
    window.travel("motion", "Success")
    page = window.page
    assert isinstance(page, SuccessPage)
    qtbot.waitUntil(lambda: page.answer.text == "Not run yet", timeout=60000)
    assert page.main_button is not None
    page.main_button.click()
    assert page.stop.isEnabled()
    page.cancel()
    assert page.answer.text == "Cancelled"
    page.columns, page.cells, page.draws, page.tries = 4, 3, 1, 10
    page.main_button.click()
    qtbot.waitUntil(lambda: page.rate is not None, timeout=180000)
    assert "rad/s²" in page.answer.text
    assert page.made is not None
    assert (page.made.outcomes >= 0).all()
    assert page.rows.texts["supply, down to"] == "−10 %"
    type_into(qtbot, page.number("run.load"), "0.2")
    assert page.answer.text == "Not run yet"
    assert page.rate is None


@pytest.mark.parametrize("sensor", ["none", "incremental"])
def test_an_obstacle_is_dropped_on_the_axis_while_it_runs(window: Window, winch: Path, tmp_path: Path, sensor: str) -> None:
    """A stepped field goes on and loses steps by fours without a word; a drive with a sensor stalls. Gone, the field turns the rotor again."""
    window.open(copy_bench(winch.parent.parent / "carousel" / "carousel.bench.json", tmp_path))
    window.document.set_field("sensor", "kind", sensor)
    window.travel("run", "Drive")
    run = window.page
    assert isinstance(run, RunPage)
    window.document.set_fields("slow", {"run": {"speed": 15.0, "load": 0.0, "holds": "speed"}})
    run._timer.setInterval(100000)
    run.start()
    for _ in range(8):
        run.advance(0.1)
    assert isinstance(run.port, SimulatedDrive)
    assert run.port.speed == pytest.approx(15.0, rel=0.3)
    run.obstacle.click()
    for _ in range(12):
        run.advance(0.1)
    assert abs(run.port.speed) < 0.1
    if sensor == "none":
        lost = run.port.lost_steps
        assert lost is not None
        assert abs(lost) > 100
        assert lost % 4 == 0
        assert f"steps lost {abs(lost)}" in run.figures.text()
        run.obstacle.click()
        for _ in range(8):
            run.advance(0.1)
        assert not run.port.fault
    else:
        assert run.port.lost_steps is None
        assert run.port.fault in ("stall", "following error")


def test_an_encoder_that_watches_from_the_plate_to_a_blocked_run(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch.parents[1] / "carousel" / "carousel.bench.json", tmp_path))
    document = window.document
    window.travel("plate", "Motor")
    window.page._fields["stepping.encoder"].moved.emit("watches")
    window.travel("motion", "Watching")
    page = window.page
    assert isinstance(page, WatchingPage)
    type_into(qtbot, page.number("window"), "0.2 °")
    type_into(qtbot, page.number("stepping.obstacle"), "150 ms")
    qtbot.waitUntil(lambda: page.answer.text == "Finds its place again" and page.rows.texts["stands within"] == "0.20°", timeout=120000)
    assert page.rows.texts["counts a full step"] == "40"
    type_into(qtbot, page.number("stepping.corrections"), "0")
    qtbot.waitUntil(lambda: page.answer.text == "Gives up", timeout=60000)
    type_into(qtbot, page.number("stepping.corrections"), "5")
    qtbot.waitUntil(lambda: page.answer.text == "Finds its place again", timeout=60000)
    press_main(qtbot, window)
    header = export_settings(document.bench, "c-header")
    assert re.search(r"CC_STEPPING_CORRECTIONS\s+\(?5", header)
    window.travel("run", "Drive")
    run = window.page
    assert isinstance(run, RunPage)
    document.set_field("run", "holds", "position")
    type_into(qtbot, run.number("place"), "2 turn")
    run._timer.setInterval(100000)
    run.start()
    run.advance(0.2)
    run.obstacle.click()
    run.advance(0.3)
    assert isinstance(run.port, SimulatedDrive)
    assert run.port.corrections
    assert "of 5" in run.figures.text()
    run.obstacle.click()
    for _ in range(30):
        run.advance(0.1)
    assert abs(run.port.place - 4 * math.pi) < math.radians(0.4)
    assert run.port.lost_steps == 0
    run.stop()


@pytest.mark.parametrize("sensor", ["incremental", "none"])
def test_the_axis_is_jogged_taught_and_run_row_by_row(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path, sensor: str) -> None:
    window.open(copy_bench(winch.parents[1] / "carousel" / "carousel.bench.json", tmp_path))
    document = window.document
    document.set_field("sensor", "kind", sensor)
    document.edit("no points", with_rows(document.bench, []))
    window.travel("motion", "Axis")
    page = window.page
    assert isinstance(page, AxisPage)
    qtbot.waitUntil(lambda: page.drive is not None, timeout=60000)
    page._timer.setInterval(100000)
    assert page.main_button is not None
    assert page.drive is not None
    page.run(again=False)  # a table without rows
    assert "table is empty" in window.notices.text
    type_into(qtbot, page.number("jog_slow"), "60 rpm")
    page.advance(0.3)
    page.jog_on.pressed.emit()
    page.advance(1.0)
    assert page.drive.place > 0.9 * 2 * math.pi * 0.9
    assert page.drive.speed == pytest.approx(2 * math.pi, rel=0.3)
    page.jog_on.released.emit()
    page.advance(0.3)
    assert abs(page.drive.speed) < 0.3
    place = page.drive.place
    page.step(-1)
    page.advance(1.0)
    assert page.drive.place - place == pytest.approx(-0.1 * math.pi, abs=0.02)
    page.take()
    page.step(1)
    page.advance(1.0)
    page.take()
    taught = [p.target for p in document.bench.points]
    assert taught[1] - taught[0] == pytest.approx(0.1 * math.pi, abs=2e-3)
    rows = rows_of(document.bench)
    document.edit("branch", with_rows(document.bench, [Row(rows[0].target, dwell=0.1, branch=(3, 0)), rows[1]]))
    page.run_row()
    page.advance(1.0)
    assert page.runner is not None
    assert page.runner.row is None
    assert page.drive.place == pytest.approx(taught[0], abs=0.01)
    page.run(again=True)
    page.advance(3.0)
    assert page.runner.cycles >= 1
    assert max(abs(off) for off in page.runner.offs) < 0.02
    page.inputs[2].click()
    assert page.bits.text() == "0x04"
    before = page.runner.cycles
    page.advance(2.0)
    assert page.runner.cycles > before
    assert page.drive.place == pytest.approx(taught[0], abs=0.02)  # row 2 is never reached now
    page.halt()
    assert not page.running
    made = drift(as_designed(document.bench), 3, lambda _: None, lambda: False)
    assert len(made.off) == 3
    assert made.lost == 0
    page.thousand()
    qtbot.waitUntil(lambda: page._told is not None and len(page._told.off) > 0, timeout=60000)
    page.thousand()
    assert page.many.text() == "Run 1000 cycles"
    window.travel("plate")
