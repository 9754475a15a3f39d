"""The window with a stepper, a brushed and an induction motor, and six-step: plate, captures, loops, run, header."""

from __future__ import annotations

from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.waypoints.circuit.hertz import HertzPage
from crisp_compass.app.waypoints.circuit.rotor import RotorPage
from crisp_compass.app.waypoints.current_loop.block import BlockPage
from crisp_compass.app.waypoints.current_loop.stepping import SteppingPage
from crisp_compass.app.waypoints.hand_over.files import HandOverPage
from crisp_compass.app.waypoints.plate.stepper_leads import StepperLeadsPage
from crisp_compass.app.waypoints.pwm.timer import PwmPage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.waypoints.run.limits import LimitsPage
from crisp_compass.app.window import Window
from crisp_compass.course.course import waypoints_of
from crisp_compass.course.waypoints import BY_KEY
from hands import copy_bench, dropped, press_main, type_into

DEMO = Path(__file__).resolve().parents[2] / "demo"


@pytest.mark.thorough
def test_a_stepper_from_captures_to_the_run(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "carousel" / "carousel.bench.json", tmp_path))
    for name, key in (("levels", "resistance"), ("steps", "inductance"), ("coast", "flux"), ("align", "commutation")):
        window.travel("plate")  # each finds its way by its channels
        before = len(window.document.bench.ledger)
        dropped(qtbot, window, tmp_path / f"carousel-{name}.csv")
        qtbot.waitUntil(lambda n=before: len(window.document.bench.ledger) > n and window.intake.idle, timeout=180000)  # type: ignore[misc]
        assert window.document.bench.evidence[key][-1].file == f"carousel-{name}.csv"
    window.travel("flux")
    flux = window.page
    assert isinstance(flux, CapturePage)
    qtbot.waitUntil(lambda: len(flux.pictures.data("fit")[0]) > 0, timeout=180000)
    assert float(flux.answer.text.split()[0]) == pytest.approx(5.27, rel=0.01)  # mWb of a winding, nothing halved
    window.travel("pwm")
    page = window.page
    assert isinstance(page, PwmPage)
    assert page.answer.text == "35.8 V usable"  # the whole link, less one leg's dead time
    page._fields["decay"].moved.emit("fast")
    assert page.answer.text == "35.5 V usable"
    window.document.undo_stack.undo()
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    qtbot.waitUntil(lambda: run.main_button is not None and run.main_button.isEnabled(), timeout=180000)
    run.start()
    qtbot.waitUntil(lambda: run.answer.text.endswith("rpm") and run.answer.text != "0 rpm", timeout=180000)
    run.stop()


@pytest.mark.thorough
def test_open_loop_stepping_answers_in_torque_and_its_levers_move_it(
    window: Window, qtbot: QtBot, tmp_path: Path
) -> None:
    window.open(copy_bench(DEMO / "carousel" / "carousel.bench.json", tmp_path))
    window.travel("current_loop", "Open-loop stepping")
    page = window.page
    assert isinstance(page, SteppingPage)
    qtbot.waitUntil(lambda: page.found is not None, timeout=120000)
    assert page.found is not None
    full = page.found
    assert full.peak == pytest.approx(2.1 * 2**0.5)
    type_into(qtbot, page.number("stepping.current"), "1.05")  # type: ignore[arg-type]
    qtbot.waitUntil(lambda: page.found is not full, timeout=120000)
    assert page.found is not None
    assert page.found.holding == pytest.approx(0.5 * full.holding)
    assert page.found.heat == pytest.approx(0.25 * full.heat)
    assert page.found.pull_out[0] < 0.65 * full.pull_out[0]


@pytest.mark.thorough
def test_a_brushed_motor_without_a_sensor_runs(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "hatch" / "hatch.bench.json", tmp_path))
    assert [w.name for w in waypoints_of(window.document.bench)][-1] == "Hand over"
    assert "commutation" not in [w.key for w in waypoints_of(window.document.bench)]
    window.travel("resistance")
    page = window.page
    assert isinstance(page, CapturePage)
    qtbot.waitUntil(lambda: len(page.pictures.data("fit")[0]) > 0, timeout=180000)
    assert page.answer.text == "873 mΩ"
    assert not window.dial.isVisible()
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    qtbot.waitUntil(lambda: run.main_button is not None and run.main_button.isEnabled(), timeout=180000)
    run.start()
    qtbot.waitUntil(lambda: run.answer.text.endswith("rpm") and run.answer.text != "0 rpm", timeout=180000)
    run.stop()
    dropped(qtbot, window, DEMO / "winch" / "winch-coast.csv")  # three phases: refused with what it looks like
    qtbot.waitUntil(lambda: "three-phase" in window.notices.text, timeout=180000)


def run_for_a_while(qtbot: QtBot, window: Window) -> RunPage:
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    qtbot.waitUntil(lambda: run.main_button is not None and run.main_button.isEnabled(), timeout=180000)
    run.start()
    qtbot.waitUntil(lambda: run.answer.text.endswith("rpm") and int(run.answer.text.split()[0]) > 20, timeout=180000)
    return run


@pytest.mark.thorough
def test_an_induction_motor_from_its_tests_to_both_firmwares(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "hoist" / "hoist.bench.json", tmp_path))
    keys = [w.key for w in waypoints_of(window.document.bench)]
    assert "circuit" in keys
    assert not {"inductance", "flux", "commutation"} & set(keys)
    for name in ("locked", "no-load", "decay", "dc"):
        window.travel("plate")
        before = len(window.document.bench.ledger)
        dropped(qtbot, window, tmp_path / f"hoist-{name}.csv")
        qtbot.waitUntil(lambda n=before: len(window.document.bench.ledger) > n and window.intake.idle, timeout=180000)  # type: ignore[misc]
    assert {e.kind for e in window.document.bench.evidence["circuit"]} == {"no_load", "locked_rotor", "rotor_decay"}
    window.travel("circuit")
    page = window.page
    assert isinstance(page, CapturePage)
    qtbot.waitUntil(lambda: len(page.pictures.data("fit")[0]) > 0, timeout=180000)
    assert float(page.answer.text.split()[1]) == pytest.approx(204.6, rel=0.01)
    window.travel("circuit", "Rotor time constant")
    rotor = window.page
    assert isinstance(rotor, RotorPage)
    first = rotor.answer.text
    type_into(qtbot, rotor.number("rotor_error"), "-30")
    assert rotor.answer.text != first
    assert rotor.dial_view.frame is not None
    assert rotor.dial_view.rotor is not None
    assert rotor.dial_view.frame > rotor.dial_view.rotor  # too short: the frame runs ahead
    run = run_for_a_while(qtbot, window)
    assert run.dial_view.frame is not None
    run.stop()
    window.travel("circuit", "Volts per hertz")
    hertz = window.page
    assert isinstance(hertz, HertzPage)
    qtbot.waitUntil(lambda: hertz.found is not None, timeout=180000)
    hertz._fields["firmware"].moved.emit("volts-per-hertz")
    assert not {"current_loop", "speed_loop"} & {w.key for w in waypoints_of(window.document.bench)}
    run = run_for_a_while(qtbot, window)
    run.stop()
    window.travel("run", "Limits")
    limits = window.page
    assert isinstance(limits, LimitsPage)
    hidden = {name for name in ("speed_trip", "weakening", "on_fault", "i_continuous") if limits._fields[name].isHidden()}
    assert hidden == {"speed_trip", "weakening", "on_fault"}  # a turned voltage tells no speed, a cage brakes nothing
    window.travel("hand_over")
    files = window.page
    assert isinstance(files, HandOverPage)
    header = files.preview.toPlainText()
    assert "CC_CIRCUIT_ROTOR_RESISTANCE_OHM" in header
    assert "CC_HERTZ_BOOST_V" in header
    assert "CC_CURRENT_LOOP" not in header  # this firmware closes none


@pytest.mark.thorough
def test_six_step_reaches_run_and_header(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "winch" / "winch.bench.json", tmp_path))
    window.travel("current_loop", "Six-step")
    page = window.page
    assert isinstance(page, BlockPage)
    qtbot.waitUntil(lambda: page.found is not None, timeout=180000)
    assert page.found is not None
    assert page.found.origin == "as captured"
    assert page.found.block.ripple > 2 * page.found.sine.ripple
    before = page.answer.reason
    type_into(qtbot, page.number("advance"), "20")
    assert page.answer.reason != before
    assert "let the advance grow" in page.answer.reason  # 80 % of rated load is not turned from every angle
    page._fields["commutation"].moved.emit("block")
    document = window.document
    for key in ("current_loop", "speed_loop"):
        proposal = BY_KEY[key].propose
        assert proposal is not None
        document.settle(key, proposal(document.bench), reason="six-step wanted")
    run = run_for_a_while(qtbot, window)
    assert run.port is not None
    assert run.port.parameters()["block"] == 1.0
    assert run.port.parameters()["advance"] == pytest.approx(0.349, abs=0.001)
    run.stop()
    window.travel("hand_over")
    files = window.page
    assert isinstance(files, HandOverPage)
    assert "CC_CURRENT_LOOP_KP_PAIR_V_PER_A" in files.preview.toPlainText()


def test_the_leads_of_a_stepper_are_read_in_the_window(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "carousel" / "carousel.bench.json", tmp_path))
    window.travel("plate", "Leads")
    page = window.page
    assert isinstance(page, StepperLeadsPage)
    for row, text in ((0, "2.1"), (1, "OL"), (5, "2.2")):  # 1-2, 1-3, 3-4
        item = page.readings.item(row, 1)
        assert item is not None
        item.setText(text)
    assert page.answer.text == "1–2, 3–4"
    item = page.readings.item(1, 1)
    assert item is not None
    item.setText("two")
    assert item.text() == "OL"  # refused, nothing lost
    assert window.notices.text
    window.document.undo_stack.undo()
    assert page.answer.text == "1–2"


def test_from_an_empty_bench_by_what_the_data_sheet_states(window: Window, qtbot: QtBot) -> None:
    window.travel("plate")
    page = window.page
    for name, text in (("r", "1.8"), ("inductance", "4.2m"), ("kt", "0.12")):
        type_into(qtbot, page.number(name), text)  # type: ignore[arg-type]
    press_main(qtbot, window)
    for key in ("resistance", "flux"):
        window.travel(key)
        assert window.page.answer.text.startswith("≈ ")
        press_main(qtbot, window)
        assert window.document.bench.settled[key].origin == "data-sheet"
    assert window.document.bench.settled["resistance"].values["resistance"].value == pytest.approx(0.9)  # line to line
    window.travel("inductance")
    assert window.page.answer.text == "≈ 2.10 mH"
    for pair, text in (("uv", "3.9m"), ("vw", "4.4m"), ("wu", "4.2m")):
        type_into(qtbot, window.page.number(pair), text)  # type: ignore[arg-type]
    assert window.page.answer.text.startswith("Ld ")
    press_main(qtbot, window)
    first = window.document.bench.settled["inductance"]
    assert first.origin == "measured"
    type_into(qtbot, window.page.number("uv"), "4.0m")  # type: ignore[arg-type]
    press_main(qtbot, window)  # a reading that was taken again can be settled again
    assert window.document.bench.settled["inductance"].values["ld"].value != first.values["ld"].value
    window.document.undo_stack.undo()
    assert window.document.bench.settled["inductance"] == first
