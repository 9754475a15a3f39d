"""The sections of PWM and Current loop, driven by hand: window found, schemes compared, integers read, step judged, export."""

from __future__ import annotations

import math
import re
from functools import partial
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from crisp_compass.app.page.trials_page import TrialsPage
from crisp_compass.app.waypoints.current_loop.design import CurrentLoopPage
from crisp_compass.app.waypoints.current_loop.measured import MeasuredPage
from crisp_compass.app.waypoints.current_loop.number_format import FormatPage
from crisp_compass.app.waypoints.current_loop.torque_speed import WeakeningPage
from crisp_compass.app.waypoints.hand_over.files import HandOverPage
from crisp_compass.app.waypoints.pwm.carrier import CarrierPage
from crisp_compass.app.waypoints.pwm.command import CommandPage
from crisp_compass.app.waypoints.pwm.dead_time import DeadTimePage
from crisp_compass.app.waypoints.pwm.schemes import SchemesPage
from crisp_compass.app.waypoints.pwm.timer import PwmPage
from crisp_compass.app.waypoints.run.braking import BrakingPage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.waypoints.speed_loop.design import SpeedLoopPage
from crisp_compass.app.waypoints.speed_loop.measured import SpeedResponsePage
from crisp_compass.app.waypoints.speed_loop.reference import ReferencePage
from crisp_compass.app.waypoints.speed_loop.resonance import ResonancePage
from crisp_compass.app.widgets.parts import Text
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.app.window import Window
from crisp_compass.bench.entered import enter
from crisp_compass.bench.store import load_bench
from crisp_compass.capture import read_capture, write_capture
from crisp_compass.course.drive import build_drive
from crisp_compass.course.waypoints.speed_loop import propose
from crisp_compass.drive.hand import Hand, LocalLine
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.single import take_one
from crisp_compass.loops.step_fit import RunningLoop, respond
from crisp_compass.studies.scenarios import run_scenario
from hands import answering, choose, copy_bench, drop, dropped, press_main, type_into


def test_one_carrier_period_and_its_window(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("pwm", "Carrier period")
    page = window.page
    assert isinstance(page, CarrierPage)
    assert page.answer.text.endswith("open")
    assert page.rows.texts["needed after a switching"] == "1.26 µs"
    # the voltage is turned on the dial: the duties follow
    before = page.rows.texts["duties A, B, C"]
    window.dial.setFocus()
    for _ in range(8):
        qtbot.keyClick(window.dial, Qt.Key.Key_Right)
    assert page.rows.texts["duties A, B, C"] != before
    assert math.degrees(window.document.bench.settings.view.voltage_angle) == pytest.approx(68.6, abs=0.2)
    page._fields["shunts"].moved.emit("one")
    type_into(qtbot, page.number("view.modulation_depth"), "12")  # type: ignore[arg-type]
    type_into(qtbot, page.number("view.voltage_angle"), "60")  # type: ignore[arg-type]
    assert page.answer.text == "No window here"
    assert "shift their pulses" in page.answer.reason
    page._fields["shunts"].moved.emit("in-line")
    assert page.answer.text == "At any time"
    ripple = page.ripple.data("A")[1]
    assert float(np.max(ripple)) > 0
    type_into(qtbot, page.number("settling"), "40u")  # type: ignore[arg-type]
    page._fields["shunts"].moved.emit("three")
    window.travel("pwm", "Timer")
    timer = window.page
    assert isinstance(timer, PwmPage)
    # a window that is open nowhere leaves no voltage, and says so
    assert any("seen long enough at no voltage at all" in t for t in timer.findings.texts)
    assert "0 V usable" in timer.answer.text


@pytest.mark.thorough
def test_schemes_dead_time_and_bad_settings(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("pwm", "Schemes")
    page = window.page
    assert isinstance(page, SchemesPage)
    qtbot.waitUntil(lambda: page.cells["sine"][1].text() == "24.0 V", timeout=180000)
    assert page.cells["space-vector"][1].text() == "27.7 V"
    assert "lowest loss: DPWM1, clamped 60°" in page.answer.reason
    page._fields["scheme"].moved.emit("clamped-60")
    qtbot.waitUntil(lambda: page.answer.text == "DPWM1, clamped 60°", timeout=180000)
    window.travel("pwm", "Dead time")
    dead = window.page
    assert isinstance(dead, DeadTimePage)
    assert dead.settings.texts["add to a leg's compare, i > 0"] == "+13.5 counts"
    type_into(qtbot, dead.number("dead_time"), "20u")
    assert "dead time takes more than half" in dead.answer.reason.lower()
    window.document.undo_stack.undo()
    type_into(qtbot, dead.number("min_pulse"), "14u")
    assert "shortest pulse takes more than a quarter" in dead.answer.reason
    window.document.undo_stack.undo()
    window.travel("pwm")
    timer = window.page
    assert isinstance(timer, PwmPage)
    timer._fields["updates"].moved.emit("twice")
    assert timer._values[6].text() == "40.0 kHz"
    timer._fields["aligned"].moved.emit("edge")
    assert "loads the timer once a period" in timer.answer.reason


def test_a_command_from_capture_to_speed(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    t = np.arange(20000) / 1e6
    for name, hertz in (("slow", 500.0), ("good", 2000.0)):
        level = ((t * hertz) % 1 < 0.2999).astype(float)
        write_capture(tmp_path / f"{name}.csv", t, {"command": level}, {})
    dropped(qtbot, window, tmp_path / "good.csv")
    qtbot.waitUntil(
        lambda: isinstance(window.page, CommandPage) and window.page.evidence() is not None, timeout=30000
    )
    page = window.page
    assert isinstance(page, CommandPage)
    assert page.answer.text == "545 rpm"  # 2000 rpm · (0.2999 − 0.06)/(0.94 − 0.06)
    # turning from 17 %, top speed at 42 %: 25 steps at 1 %, 250 at 0.1 % (common practice)
    type_into(qtbot, page.number("command_low"), "17")  # type: ignore[arg-type]
    type_into(qtbot, page.number("command_high"), "42")  # type: ignore[arg-type]
    type_into(qtbot, page.number("band_low"), "1k")  # type: ignore[arg-type]
    type_into(qtbot, page.number("band_high"), "10k")  # type: ignore[arg-type]
    assert page.answer.text == "1040 rpm"
    assert page.pictures.texts["steps of the command"] == "25"
    assert page.pictures.texts["half speed, analogue"] == "5.00 V"
    drop(window, tmp_path / "slow.csv")
    qtbot.waitUntil(lambda: page.answer.text == "0 rpm", timeout=180000)
    assert any("outside the legal band" in t for t in page.findings.texts)
    type_into(qtbot, page.number("command_high"), "10")
    assert "not above" in page.answer.reason


@pytest.mark.thorough
def test_design_by_placement_with_its_thousand_runs(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("current_loop")
    page = window.page
    assert isinstance(page, CurrentLoopPage)
    qtbot.waitUntil(lambda: page.band is not None, timeout=180000)
    assert page.band is not None
    assert page.band.runs == 1000
    press_main(qtbot, window)  # settled with today's R: no longer stale
    qtbot.waitUntil(lambda: page.band is not None and "Over 1000 runs" in page.answer.reason, timeout=180000)
    page._fields["method"].moved.emit("placement")
    assert page.answer.text != "Not yet"
    assert not page.number("damping").isHidden()
    type_into(qtbot, page.number("bandwidth_hz"), "6k")  # type: ignore[arg-type]
    assert page.answer.text == "Not yet"
    assert "cannot be placed" in page.answer.reason
    window.document.undo_stack.undo()
    assert page.answer.text != "Not yet"


def test_a_measured_step_is_judged_kept_and_advised_on(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    settled = {
        k: v
        for t in ("resistance", "inductance", "current_loop")
        for k, v in window.document.bench.settled[t].values.items()
    }
    e = RunningLoop(
        settled["kp_q"].value,
        settled["ki_q"].value,
        20e3,
        settled["resistance"].value,
        settled["lq"].value,
        1.5,
        48 / math.sqrt(3),
    )
    t = np.arange(-40, 160) / 20e3
    y = respond(e, e.r, 0.7 * e.inductance, 1.5 / 20e3, np.full(170, 1.5), t)
    y += 0.006 * np.random.default_rng(0).standard_normal(200)
    write_capture(tmp_path / "step.csv", t + 0.002, {"i_q_ref": np.where(t >= 0, 1.5, 0.0), "i_q": y}, {})
    dropped(qtbot, window, tmp_path / "step.csv")
    qtbot.waitUntil(
        lambda: isinstance(window.page, MeasuredPage) and window.page.reading.evaluated is not None, timeout=30000
    )
    page = window.page
    assert isinstance(page, MeasuredPage)
    assert page.answer.text == "Not as designed"
    assert "L is 30 % lower" in page.answer.reason
    assert page.pictures.texts["delay, periods"].startswith("1.5 → 1.")
    qtbot.mouseClick(page.keep_button, Qt.MouseButton.LeftButton)
    window.travel("current_loop", "Trials")
    trials = window.page
    assert isinstance(trials, TrialsPage)
    assert trials.answer.text == "1 trial"
    # the trial is the measured one: its own points, not the design's step
    kept = window.document.bench.current_trials[0]
    assert np.interp(0.002, *np.array(kept.curve).T) == pytest.approx(1.0, abs=0.02)
    assert float(np.max(trials.plot.data("last")[1])) == pytest.approx(1 + (kept.overshoot or 0), abs=1e-3)
    assert trials.cells[0][0].text() == "1  measured at 1.5 A"
    type_into(qtbot, trials.number("trial_kp"), "18")
    type_into(qtbot, trials.number("trial_ki"), "6k")
    type_into(qtbot, trials.number("trial_current"), "500m")
    press_main(qtbot, window)
    assert trials.answer.text == "2 trials"
    assert "come down" in trials.answer.reason
    assert "Next:" in trials.answer.reason
    # two results of the drive's own tuning that jump with the test current
    trials.automatic.setChecked(True)
    for kp, amps in (("7", "1"), ("310", "2")):
        type_into(qtbot, trials.number("trial_kp"), kp)
        type_into(qtbot, trials.number("trial_current"), amps)
        press_main(qtbot, window)
    assert any("no winding does that" in t for t in trials.findings.texts)
    qtbot.mouseClick(trials.clear, Qt.MouseButton.LeftButton)
    assert trials.answer.text == "No trial yet"
    window.document.undo_stack.undo()
    assert trials.answer.text == "4 trials"


@pytest.mark.thorough
def test_integers_there_and_back_then_c_sources(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("current_loop", "Number format")
    page = window.page
    assert isinstance(page, FormatPage)
    kp, _, shift = page.integers.texts["Kp"].partition(" >> ")
    ki, _, ki_shift = page.integers.texts["Ki·Ts"].partition(" >> ")
    for field, text in (("kp_integer", kp), ("kp_shift", shift), ("ki_integer", ki), ("ki_shift", ki_shift)):
        type_into(qtbot, page.number(field), text)  # type: ignore[arg-type]
    assert page.read.texts["verdict"] == "sound"
    assert page.read.texts["crossover"] == "1.20 kHz"
    type_into(qtbot, page.number("ki_integer"), "1")  # type: ignore[arg-type]
    assert page.read.texts["verdict"] == "doubtful"
    type_into(qtbot, page.number("v_base"), "40")  # type: ignore[arg-type]
    assert page.answer.text == "Not yet"
    assert "a full scale of 40.0 V ends below the bus of 48.0 V" in page.answer.reason
    window.document.undo_stack.undo()
    window.travel("hand_over")
    hand = window.page
    assert isinstance(hand, HandOverPage)
    folder = tmp_path / "fw"
    with qtbot.waitSignal(hand.written, timeout=120_000) as told:
        hand.save_firmware(folder)
        assert hand.buttons["firmware"].text() == "Making firmware…"
    assert re.match(r"\d+ files written to ", told.args[0])
    own, drive = folder / "hardware" / "cc_hardware.c", folder / "src" / "cc_drive.c"
    own.write_text("mine")
    drive.write_text("changed by hand")
    with answering(choose("Keep")) as asked:
        hand.save_firmware(folder)
        qtbot.waitUntil(lambda: bool(asked), timeout=120_000)
    assert "src/cc_drive.c in fw were changed by hand" in asked[0].text()  # type: ignore[attr-defined]
    assert drive.read_text() == "changed by hand"
    with answering(choose("Replace")), qtbot.waitSignal(hand.written, timeout=120_000) as told:
        hand.save_firmware(folder)
    assert told.args[0].endswith("hardware/cc_hardware.c left as it is.")
    assert own.read_text() == "mine"
    assert "cc_step" in drive.read_text()



def test_torque_over_speed(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("current_loop", "Torque and speed")
    page = window.page
    assert isinstance(page, WeakeningPage)
    qtbot.waitUntil(lambda: page.answer.text.startswith("1.06 N·m up to 19"), timeout=180000)
    speed, best = page.torque.data("best")
    plain = page.torque.data("plain")[1]
    assert (best >= plain - 1e-9).all()
    assert best[-1] < 0.05 * best[0]
    type_into(qtbot, page.number("plate.v_bus"), "24")
    qtbot.waitUntil(lambda: float(page.torque.data("best")[0][-1]) < float(speed[-1]), timeout=180000)


def _says(page: SpeedResponsePage, text: str) -> bool:
    return page.answer.text == "Not as designed" and text in " ".join(page.findings.texts)


@pytest.mark.thorough
def test_a_measured_response_of_the_speed_says_what_differs(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("speed_loop", "Measured response")
    page = window.page
    assert isinstance(page, SpeedResponsePage)
    assert page.answer.text == "No response yet"
    # what is to be expected stands there already
    qtbot.waitUntil(lambda: bool(page.pictures.plots) and "by design" in page.pictures._drawn[0], timeout=60_000)
    bench = window.document.bench
    drive = ServedDrive(bench)
    line = LocalLine(drive)
    hand = Hand(line, drive.description, line.pass_time, clock=line.clock)
    taken = take_one(bench, hand, tmp_path, "speed_steps", now=lambda: "2026-12-01T00:00:00", prefix="own")
    page.load(tmp_path / taken.evidence.file)
    qtbot.waitUntil(lambda: page.answer.text == "As designed", timeout=60_000)
    assert "overshoot" in page.answer._doubt.text()
    text = (tmp_path / taken.evidence.file).read_text()
    note = float(text.partition("# kp: ")[2].partition("\n")[0])
    for meant, said in ((1.9 * note, "Kp acts as"), (20.0 * note, "unstable by design")):  # another gain was meant to run than did
        (tmp_path / "other.csv").write_text(text.replace(f"# kp: {note:.9g}", f"# kp: {meant:.9g}"))
        page.load(tmp_path / "other.csv")
        qtbot.waitUntil(partial(_says, page, said), timeout=60_000)
    assert page.main_button is None  # it settles nothing
    for _ in range(3):
        window.document.undo_stack.undo()
    assert "speed_loop" not in window.document.bench.evidence


def test_a_run_is_recorded_and_read_by_the_speed_loop(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run")
    page = window.page
    assert isinstance(page, RunPage)
    qtbot.waitUntil(lambda: page.port is not None, timeout=60_000)
    page.recorder.click()
    page.recorder.click()
    assert "nothing was recorded" in window.notices.text.lower()
    window.document.set_field("speed_loop", "ramp", 1e6)
    window.document.settle("speed_loop", propose(window.document.bench), reason="a step is wanted")
    window.document.set_field("run", "speed", 60.0)
    page.start()
    page.advance(1.0)
    page.recorder.click()
    page.advance(0.3)
    window.document.set_field("run", "speed", 66.0)
    page.advance(0.6)
    assert page.recorder.text().startswith("Recorded")
    out = tmp_path / "run.csv"
    monkeypatch.setattr("crisp_compass.app.waypoints.run.drive.ask_save_path", lambda *_, **__: out)
    page.recorder.click()
    page.stop()
    kept = read_capture(out)
    assert {"speed", "speed_ref", "i_q", "v_bus"} <= set(kept.columns)
    assert 0.85 < kept.time[-1] < 1.1  # frames of the running page come in between
    assert abs(float(kept["speed_ref"][-1]) - 66.0) < 0.01
    window.travel("speed_loop", "Measured response")
    response = window.page
    assert isinstance(response, SpeedResponsePage)
    response.load(out)
    qtbot.waitUntil(lambda: response.answer.text.endswith("s designed"), timeout=20_000)
    assert response.answer.text == "As designed", (response.findings.texts, response.answer.reason, response.answer._doubt.text())


def test_the_speed_loop_by_each_method_and_along_its_ramp(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    """What a method needs is what it shows; figures stand beside the simulated drive's; the ramp's page settles what it sets, and it is undone."""
    window.open(copy_bench(winch, tmp_path))
    window.travel("speed_loop", "Design")
    page = window.page
    assert isinstance(page, SpeedLoopPage)
    qtbot.waitUntil(lambda: page.trial is not None, timeout=120000)
    told = {page.figures.item(r, 0).text(): (page.figures.item(r, 1).text(), page.figures.item(r, 2).text()) for r in range(page.figures.rowCount())}  # type: ignore[union-attr]
    assert {"overshoot", "settles to ±2 %", "a tenth of it left after", "stiffness", "current's ripple, turning", "kick of one count at rest", "single counts below"} < set(told)
    designed, simulated = (float(x.split()[0]) for x in told["overshoot"])
    assert abs(designed - simulated) < 6
    gains = page.answer.text
    shown = {"bandwidth": {"bandwidth_hz"}, "placement": {"bandwidth_hz", "damping"}, "stiffest": {"noise_share"}, "symmetric-optimum": {"a"}}
    for method, fields in shown.items():
        window.document.set_field("speed_loop", "method", method)
        qtbot.waitUntil(lambda: page.number("a").isHidden() != ("a" in fields), timeout=5000)  # noqa: B023
        assert {f for f in ("a", "bandwidth_hz", "damping", "noise_share") if not page.number(f).isHidden()} == fields
        assert method == "symmetric-optimum" or page.answer.text != gains
    window.document.set_field("speed_loop", "method", "placement")
    window.document.set_field("speed_loop", "bandwidth_hz", 900.0)
    assert "no room" in page.answer._reason.text()
    assert page.figures.isHidden()
    window.document.undo_stack.undo()
    window.document.undo_stack.undo()
    window.travel("speed_loop", "Reference")
    ramp = window.page
    assert isinstance(ramp, ReferencePage)
    qtbot.waitUntil(lambda: "of its ramp" in ramp.answer.text, timeout=120000)
    plain = ramp.found.error
    ramp._fields["feed_forward"].moved.emit("both")  # type: ignore[union-attr]
    type_into(qtbot, ramp.number("rounding"), "30 ms")
    type_into(qtbot, ramp.number("ramp"), "12000 rpm/s")
    qtbot.waitUntil(lambda: ramp.found.error < 0.6 * plain, timeout=60000)
    assert window.document.bench.settings.speed_loop.ramp == pytest.approx(12000 * 2 * 3.14159265 / 60)
    assert ramp.rows.texts["S-curve"].startswith("30.0 ms")
    assert ramp.number("set_weight").isHidden()
    assert "edited, not settled" in ramp.answer._reason.text()


@pytest.mark.thorough
def test_a_shaft_that_twists_is_read_taken_and_notched(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    """A noise from the simulated drive is dropped on Resonance: the shaft is told, taken into simulation and design, a notch put on it; each is one step back."""
    bench = copy_bench(winch, tmp_path)
    two = enter(load_bench(bench), "coupling", {"resonance_hz": 140.0, "load_share": 0.5, "damping": 0.02})
    trace, fault = run_scenario(two, "shake")
    assert not fault
    capture = tmp_path / "shake.csv"
    write_capture(capture, trace["t"], {k: trace[k] for k in ("speed_ref", "speed", "i_q")}, {"excitation": "noise"})
    window.open(bench)
    window.travel("speed_loop", "Resonance")
    page = window.page
    assert isinstance(page, ResonancePage)
    assert page.answer.text == "Taken as rigid"
    assert not page.take_notch.isEnabled()
    drop(window, capture)
    qtbot.waitUntil(lambda: "±" in page.answer.text, timeout=120000)
    assert float(page.answer.text.split()[0]) == pytest.approx(140, rel=0.01)
    page.take_shaft.click()
    assert window.document.bench.settings.coupling.resonance_hz == pytest.approx(140, rel=0.01)
    assert page.number("coupling.load_share").edit.text().startswith(("49", "50"))
    boxes = {k: v for box in page.pictures.findChildren(Rows) for k, v in box.texts.items()}
    assert {"on a rigid shaft", "on this one, no filter", "with what is set"} < set(boxes)
    page.take_notch.click()
    assert window.document.bench.settings.speed_loop.notch_hz == pytest.approx(140, rel=0.01)
    assert build_drive(window.document.bench).load.second > 0
    window.travel("speed_loop", "Design")
    assert "Notch at 140 Hz in the torque current" in window.page.answer._reason.text() or "edited" in window.page.answer._reason.text()
    window.document.undo_stack.undo()
    window.document.undo_stack.undo()
    assert window.document.bench.settings.coupling.resonance_hz is None
    assert window.document.bench.settings.speed_loop.notch_hz is None


def test_braking_says_where_the_energy_goes(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run", "Braking")
    page = window.page
    assert isinstance(page, BrakingPage)
    qtbot.waitUntil(lambda: page.answer.text.startswith("Bus up to"), timeout=120000)
    assert "enter the link capacitor" in page.answer._reason.text()
    window.document.set_field("bus", "sinks", "no")  # the demo runs on a battery, which takes back
    type_into(qtbot, page.number("bus.capacitance"), "1000 µF")
    assert window.document.bench.settings.bus.capacitance == pytest.approx(1e-3)
    qtbot.waitUntil(lambda: "√(V² + 2E/C)" in page.answer._reason.text(), timeout=60000)
    assert "resistor at most" in page.rows.texts
    type_into(qtbot, page.number("v_max"), "60")
    qtbot.waitUntil(lambda: page.answer.text == "Trips: over-voltage", timeout=60000)
    type_into(qtbot, page.number("bus.brake_ohm"), "22")
    qtbot.waitUntil(lambda: page.answer.text == "Not yet", timeout=60000)
    assert "no level" in page.answer._reason.text()
    type_into(qtbot, page.number("bus.brake_on"), "57")
    qtbot.waitUntil(lambda: page.answer.text.startswith("Bus up to 57"), timeout=60000)
    assert "hot enough to burn" in " ".join(t.text() for t in page.findings.findChildren(Text))
    assert page.rows.texts["of it in the resistor"].endswith("mJ")
