"""The window with a motor without a sensor: from the sequence to the map, a failed start, the climb, a measured run, Run and Hand over."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from crisp_compass.app.page import map_work
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.waypoints.plate.motor import PlatePage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.waypoints.start_up.climb import ClimbPage
from crisp_compass.app.waypoints.start_up.estimator import EstimatorPage
from crisp_compass.app.waypoints.start_up.failed_start import FailedStartPage
from crisp_compass.app.waypoints.start_up.injection import InjectionPage
from crisp_compass.app.waypoints.start_up.low_speed import LowSpeedPage
from crisp_compass.app.waypoints.start_up.sequence import SequencePage
from crisp_compass.app.waypoints.start_up.success_map import MapPage
from crisp_compass.app.window import Window
from crisp_compass.course.course import waypoints_of
from crisp_compass.record.content import content_of
from crisp_compass.studies.batch import close_pool
from hands import copy_bench, dropped, type_into

DEMO = Path(__file__).resolve().parents[2] / "demo"


@pytest.fixture
def pump(window: Window, tmp_path: Path) -> Window:
    window.open(copy_bench(DEMO / "pump" / "pump.bench.json", tmp_path))
    return window


@pytest.mark.thorough
def test_sequence_rows_are_copied_pasted_judged_and_levers_move_them(pump: Window, qtbot: QtBot) -> None:
    assert "commutation" not in [w.key for w in waypoints_of(pump.document.bench)]
    pump.travel("start_up")
    page = pump.page
    assert isinstance(page, SequencePage)
    qtbot.waitUntil(lambda: page.found is not None, timeout=180000)
    assert page.found is not None
    assert page.found.started == page.found.tried
    assert page.answer.text == "Hand-over at 2445 rpm"
    clipboard = QApplication.clipboard()
    for text, part in (
        ("Copy C", "START_ROWS[4]"),
        ("Copy JSON", '"end_speed_rpm"'),
        ("Copy table", "current_a,end_speed_rpm"),
    ):
        next(b for b in page.findChildren(type(page.paste)) if b.text() == text).click()
        assert part in clipboard.text()
    clipboard.setText("1.4 0 0.3 0\n2.1 2400 0.01 1")
    page.judge_clipboard()
    qtbot.waitUntil(lambda: page.answer.text == "Pasted: 2 rows", timeout=180000)
    assert any("cannot be followed" in line.text.text() for line in page.findings._lines)
    clipboard.setText("nonsense")
    page.judge_clipboard()  # back to the design
    qtbot.waitUntil(lambda: page.answer.text == "Hand-over at 2445 rpm", timeout=180000)
    with qtbot.waitSignal(page.refused):
        page.judge_clipboard()
    before = page.found
    type_into(qtbot, page.number("times"), "8")
    qtbot.waitUntil(lambda: page.found is not before, timeout=180000)
    assert page.found.design.hand_over == pytest.approx(2 * before.design.hand_over)
    type_into(qtbot, page.number("ramp_current"), "0.1")
    qtbot.waitUntil(lambda: page.answer.text == "Not yet", timeout=180000)
    assert "at least" in page.answer.reason


@pytest.mark.thorough
def test_the_estimator_page_shows_where_the_angle_is_good(pump: Window, qtbot: QtBot) -> None:
    pump.travel("start_up", "Estimator")
    page = pump.page
    assert isinstance(page, EstimatorPage)
    qtbot.waitUntil(lambda: page.found is not None, timeout=180000)
    assert page.answer.text.startswith("Good from")
    assert page.rows.texts["loop frequency"] == "110 Hz"
    assert "flux observer is proposed" in page.answer.reason
    # a wrong resistance shows while the rotor is dragged, not once the current lies along the back-EMF
    assert "R in full 12" in page.rows.texts["angle at hand-over, dragged"]
    assert "R in full 0.0" in page.rows.texts["angle at hand-over, closed"]
    page._fields["method"].moved.emit("flux")
    qtbot.waitUntil(lambda: page.answer._doubt.text().startswith("Flux observer"), timeout=180000)
    before = page.found
    type_into(qtbot, page.number("r_doubt"), "60")
    qtbot.waitUntil(lambda: page.found is not before, timeout=180000)
    assert page.found is not None
    assert before is not None
    assert page.found.design.hand_over > 1.5 * before.design.hand_over


@pytest.mark.thorough
def test_the_map_grows_is_cancelled_and_a_cell_is_played(
    pump: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(map_work, "_EVERY", 0.0)
    pump.travel("start_up", "Success map")
    page = pump.page
    assert isinstance(page, MapPage)
    page.cells, page.draws, page.tries = 8, 2, 30
    assert page.answer.text == "Not run yet"
    try:
        page.on_main()
        qtbot.waitUntil(lambda: page.made is not None, timeout=180000)
        page.cancel()
        assert page.answer.text == "Cancelled"
        assert page.main_button is not None
        assert page.main_button.isEnabled()
        page.on_main()
        qtbot.waitUntil(lambda: page.rate is not None, timeout=180000)
        assert page.rate is not None
        assert page.rate.tries == 30
        assert page.answer.text.endswith("% start")
        assert page.map._counts.sum() == 8 * 8 * 2
        page.map.choose(7, 7)  # heavy load, steep ramp
        qtbot.waitUntil(lambda: len(page.played.data("true")[0]) > 0, timeout=180000)
        assert "fell out" in page.answer.reason
        page._fields["up"].moved.emit("load")  # both levers alike
        with qtbot.waitSignal(page.refused):
            page.on_main()
    finally:
        close_pool()


@pytest.mark.thorough
def test_a_failed_start_is_ranked_logged_and_recorded(pump: Window, qtbot: QtBot, tmp_path: Path) -> None:
    pump.travel("start_up", "Failed start")
    page = pump.page
    assert isinstance(page, FailedStartPage)
    qtbot.waitUntil(lambda: page.found is not None, timeout=120000)
    page.seen_now.moved.emit("wrong-way")
    assert "exchange two leads" in page.answer.text
    page.seen_now.moved.emit("falls-back")
    assert page.answer.text.startswith("Look at ")
    before = page._lines[0][1].text()
    type_into(qtbot, page.looked["speed"], "3000")  # type: ignore[arg-type]
    type_into(qtbot, page.looked["voltage"], "0.97")  # type: ignore[arg-type]
    assert page._lines[0][1].text() != before
    assert page._now.speed == pytest.approx(314.16, abs=0.01)
    page.seen_now.moved.emit("wrong-way")
    assert page.looked["speed"].value is None  # type: ignore[union-attr]
    page.changed.show_value("leads")
    page.on_main()
    bench = pump.document.bench
    assert [(t.symptom, t.changed) for t in bench.start_trials] == [("wrong-way", "leads")]
    assert {"Starts that failed", "Start sequence"} <= {s.title for s in content_of(bench, tmp_path, "now")}
    pump.document.undo_stack.undo()
    assert not pump.document.bench.start_trials


def test_climb_low_speed_and_a_measured_run(pump: Window, qtbot: QtBot, tmp_path: Path) -> None:
    pump.travel("start_up", "Climb")
    page = pump.page
    assert isinstance(page, ClimbPage)
    qtbot.waitUntil(lambda: page.found is not None, timeout=180000)
    assert page.answer.text == "Next: 16\u202f089 rpm"  # the measured run went to 12,000
    type_into(qtbot, page.number("climb_speed"), "16000")
    type_into(qtbot, page.number("climb_current"), "0.9")
    page.on_main()
    qtbot.waitUntil(lambda: page.answer.text == "Stop the climb", timeout=180000)
    pump.travel("start_up", "Low speed")
    low = pump.page
    assert isinstance(low, LowSpeedPage)
    qtbot.waitUntil(lambda: low.found is not None, timeout=180000)
    type_into(qtbot, low.number("lowest"), "9000")
    qtbot.waitUntil(lambda: low.answer.text == "Sensorless throughout", timeout=180000)
    before = len(pump.document.bench.ledger)
    pump.travel("plate")
    dropped(qtbot, pump, tmp_path / "pump-start.csv")
    qtbot.waitUntil(lambda: len(pump.document.bench.ledger) > before and pump.intake.idle, timeout=180000)
    assert pump.document.bench.evidence["start_up"][-1].file == "pump-start.csv"
    pump.travel("start_up", "Measured run")
    run = pump.page
    assert isinstance(run, CapturePage)
    assert run.answer.text.startswith("Valid from")
    qtbot.waitUntil(lambda: len(run.pictures.data("estimate, valid")[0]) > 0, timeout=180000)


def test_a_motor_without_a_sensor_runs_and_is_handed_over(pump: Window, qtbot: QtBot) -> None:
    pump.travel("plate")
    plate = pump.page
    assert isinstance(plate, PlatePage)
    assert "none" in [
        plate._fields["sensor.kind"].box.itemData(k) for k in range(plate._fields["sensor.kind"].box.count())
    ]
    pump.travel("run")
    run = pump.page
    assert isinstance(run, RunPage)
    qtbot.waitUntil(lambda: run.main_button is not None and run.main_button.isEnabled(), timeout=180000)
    run.start()
    qtbot.waitUntil(lambda: "forced" in run.dial_view.caption, timeout=180000)
    assert run.dial_view.frame is not None
    qtbot.waitUntil(lambda: "closed" in run.dial_view.caption, timeout=180000)
    axis = run.current_plot.getAxis("left")  # half an ampere: ticks in mA, and said so
    qtbot.waitUntil(lambda: ("[mA]" in axis.labelString()) == (axis.autoSIPrefixScale == 1e3), timeout=180000)
    assert "[A]" in axis.labelString() or axis.autoSIPrefixScale == 1e3
    assert np.isfinite(run.dial_view.frame)
    run.stop()


def test_injection_is_judged_chosen_and_reaches_the_other_pages(pump: Window, qtbot: QtBot) -> None:
    pump.travel("start_up", "Injection")
    page = pump.page
    assert isinstance(page, InjectionPage)
    qtbot.waitUntil(lambda: page.found is not None, timeout=180000)
    assert page.answer.text == "Not at standstill"
    assert "not with this motor" in page.answer._doubt.text().lower()
    # a motor with magnets inside its rotor
    told = pump.document.bench.settled["inductance"]
    lq = told.values["lq"].model_copy(update={"value": 1.8 * told.values["ld"].value})
    changed = told.model_copy(update={"values": {**told.values, "lq": lq}})
    pump.document.edit(
        "inductance", pump.document.bench.model_copy(update={"settled": {**pump.document.bench.settled, "inductance": changed}})
    )  # fmt: skip
    qtbot.waitUntil(lambda: page.answer.text.startswith("Found within"), timeout=180000)
    page._fields["standstill"].moved.emit("injection")
    assert pump.document.bench.settings.start_up.standstill == "injection"
    volts = page.rows.texts["injected"]
    type_into(qtbot, page.number("inject_volts"), "1.7")
    qtbot.waitUntil(lambda: page.rows.texts["injected"] != volts, timeout=180000)
    assert page.main_button is not None
    assert page.main_button.isEnabled()
    pump.travel("start_up", "Sequence")
    sequence = pump.page
    assert isinstance(sequence, SequencePage)
    qtbot.waitUntil(lambda: sequence.found is not None and not sequence.paste.isEnabled(), timeout=180000)
    assert not sequence.number("acceleration").isEnabled()
    assert "1.7" in sequence.rows.texts["1  axis"]
    pump.travel("start_up", "Injection")
    again = pump.page
    assert isinstance(again, InjectionPage)
    type_into(qtbot, again.number("inject_volts"), "9")
    qtbot.waitUntil(lambda: "inject at most" in again.answer.reason, timeout=180000)
