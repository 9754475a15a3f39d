"""The voyage without a window: evidence, design from settled values, outlook of pages, scenarios, the course."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import Bench, Quantity, load_bench, settle
from crisp_compass.bench.entered import enter, info_of, with_family
from crisp_compass.bench.plate import PLATES
from crisp_compass.bench.settings import Settings
from crisp_compass.capture import read_capture
from crisp_compass.course.bridge import plan_bench_pwm
from crisp_compass.course.captures import add_evidence, differs, evaluate, guess_kind
from crisp_compass.course.course import State, headline, state_of, waypoints_of
from crisp_compass.course.drive import build_drive
from crisp_compass.course.open_points import check_bench, edited_text, next_bearing
from crisp_compass.course.speed_design import design_speed
from crisp_compass.course.waypoints import WAYPOINTS
from crisp_compass.course.waypoints.current_loop import design_current
from crisp_compass.course.waypoints.inductance import inductance_values
from crisp_compass.course.waypoints.plate import plate_values
from crisp_compass.errors import Refusal
from crisp_compass.firmware.plan import plan_of
from crisp_compass.record.formats import export_settings
from crisp_compass.studies.scenarios import SCENARIOS, open_simulation, run_scenario
from crisp_compass.studies.step_prediction import (
    bode,
    nice,
    predict_current_step,
    predict_speed_step,
    pwm_picture,
)

WHEN = "2026-05-12T15:00:00"


@pytest.fixture
def bench(winch: Path) -> Bench:
    return load_bench(winch)


def _fields(bench: Bench, topic: str, **fields: object) -> Bench:
    if "family" in fields:
        return with_family(bench, str(fields.pop("family")), **fields)
    page = getattr(bench.settings, topic).model_copy(update=fields)
    return bench.model_copy(update={"settings": bench.settings.model_copy(update={topic: page})})


def test_every_demo_capture_finds_its_leg(winch: Path, thruster: Path) -> None:
    wanted = {
        "winch-staircase": "resistance", "winch-step-d": "inductance", "winch-step-q": "inductance", "winch-coast": "flux",
        "thruster-staircase": "resistance", "thruster-step": "inductance", "thruster-coast": "flux", "thruster-hand-turn": "commutation",
    }  # fmt: skip
    for name, waypoint in wanted.items():
        folder = winch.parent if name.startswith("winch") else thruster.parent
        assert guess_kind(Bench(), read_capture(folder / f"{name}.csv")).topic == waypoint


def test_a_run_belongs_to_the_speed_loop_and_a_held_step_to_its_own(bench: Bench, tmp_path: Path) -> None:
    from crisp_compass.capture import write_capture
    from crisp_compass.studies.scenarios import capture_columns

    for scenario in ("speed-step", "current-step"):
        trace, _ = run_scenario(bench, scenario)
        write_capture(tmp_path / f"{scenario}.csv", trace["t"], capture_columns(trace), {})
    assert guess_kind(Bench(), read_capture(tmp_path / "speed-step.csv")).topic == "speed_loop"
    assert guess_kind(Bench(), read_capture(tmp_path / "current-step.csv")).topic == "current_loop"


def test_evidence_of_one_kind_takes_the_place_of_the_old(bench: Bench, winch: Path) -> None:
    assert [e.kind for e in bench.evidence["inductance"]] == ["lcr_angle", "steps_d", "steps_q"]
    again = evaluate(bench, "inductance", winch.parent / "winch-step-d.csv", base=winch.parent, when=WHEN).evidence
    assert not differs(again, bench.evidence["inductance"][1])
    fresh = add_evidence(bench, again)
    assert sorted(e.kind for e in fresh.evidence["inductance"]) == ["lcr_angle", "steps_d", "steps_q"]
    assert fresh.ledger[-1].kind == "file"


def test_inductance_needs_both_axes_or_one_for_both(bench: Bench) -> None:
    values = inductance_values(bench)
    assert values["lq"].value / values["ld"].value == pytest.approx(1.214 / 0.981, rel=5e-3)
    one = bench.model_copy(update={"evidence": {"inductance": bench.evidence["inductance"][1:2]}})
    with pytest.raises(Refusal, match="only the d axis was captured; capture the q axis too"):
        inductance_values(one)
    with pytest.raises(Refusal, match="no step capture"):
        inductance_values(Bench())


def test_rated_current_base_is_applied_once(bench: Bench) -> None:
    rms = _fields(bench, "plate", rated_current=5.0, current_base="rms")
    assert plate_values(rms)["rated_current"].value == pytest.approx(5 * math.sqrt(2))


def test_design_uses_settled_values_not_evidence(bench: Bench) -> None:
    base = design_current(bench)
    other = settle(bench, "resistance", {"resistance": Quantity(value=0.8, unit="Ω")}, reason="test", when=WHEN)
    q, lq = design_current(other).q, bench.settled["inductance"].values["lq"].value
    assert q.ki / q.kp == pytest.approx(0.8 / lq, rel=1e-9)  # the zero lies on the settled winding's pole
    assert q.margins.crossover_hz == pytest.approx(base.q.margins.crossover_hz, rel=1e-9)
    assert build_drive(other).machine.r == 0.8
    optimum = design_current(_fields(bench, "current_loop", method="modulus-optimum"))
    assert "modulus optimum" in optimum.method


def test_drive_needs_what_it_runs_on(bench: Bench, thruster: Path) -> None:
    for topic in ("flux", "current_loop", "speed_loop", "pwm"):
        without = bench.model_copy(update={"settled": {k: v for k, v in bench.settled.items() if k != topic}})
        with pytest.raises(Refusal, match="is not settled; settle it on the"):
            build_drive(without)
    with pytest.raises(Refusal, match="hall table is not settled"):
        build_drive(_fields(bench, "sensor", kind="halls"))


@pytest.mark.thorough(only=["shake"])
@pytest.mark.parametrize("name", SCENARIOS)
def test_scenarios_run_without_a_fault_and_start_at_zero(bench: Bench, name: str) -> None:
    trace, fault = run_scenario(bench, name)
    assert fault == ""
    assert trace["t"][0] == 0.0
    assert np.all(np.diff(trace["t"]) > 0)
    again, _ = run_scenario(bench, name)
    np.testing.assert_array_equal(trace["i_q"], again["i_q"])


def test_a_scenario_that_trips_says_so(bench: Bench) -> None:
    _, fault = run_scenario(_fields(bench, "run", i_trip=0.5, i_limit=8.0), "speed-step")
    assert fault == "over-current"


def test_predictions_settle_where_they_should(bench: Bench) -> None:
    current = design_current(bench)
    step = predict_current_step(bench, current)
    assert step.response[-1] == pytest.approx(3.0, rel=0.03)
    speed = design_speed(bench)
    time, plain, filtered = predict_speed_step(speed)
    assert len(time) == len(plain) == len(filtered)
    assert 100 * (plain.max() - 1) == pytest.approx(speed.overshoot_pct, abs=0.5)
    assert filtered.max() < plain.max()
    for curve, loop in ((bode(current.q), current.q), (bode(speed), speed)):
        crossing = np.interp(0.0, -curve.gain_db, curve.frequency)
        assert crossing == pytest.approx(loop.margins.crossover_hz, rel=0.02)
        phase = np.interp(loop.margins.crossover_hz, curve.frequency, curve.phase_deg)
        assert phase + 180 == pytest.approx(loop.margins.phase_margin_deg, abs=1.0)


def test_large_steps_meet_the_voltage_limit(bench: Bench) -> None:
    """At the limit the current climbs with (Vdc/√3 − R·i)/L, which the linear prediction would beat."""
    large = _fields(bench, "current_loop", step=30.0)
    found = predict_current_step(large, design_current(large))
    lq = bench.settled["inductance"].values["lq"].value
    slope = np.max(np.diff(found.response)) * 20e3
    assert slope <= 48 / math.sqrt(3) / lq * 1.001
    assert slope > 0.9 * 48 / math.sqrt(3) / lq


def test_pwm_picture_and_nice_durations(bench: Bench) -> None:
    figures = plan_bench_pwm(bench)
    picture = pwm_picture(bench, figures.loop_hz, figures.v_limit)
    assert picture.duty.shape == (361, 3)
    assert picture.duty.max() == pytest.approx(1.0, abs=1e-3)
    assert picture.verdict.level == "info"
    assert [nice(x) for x in (0.0011, 0.0019, 0.0031, 0.009)] == pytest.approx([0.002, 0.002, 0.005, 0.01])


def test_the_course_walks_from_nothing_to_everything(winch: Path) -> None:
    full = load_bench(winch)
    bench = full.model_copy(update={"settled": {}, "evidence": {}})
    for topic in ("plate", "resistance", "inductance", "flux", "pwm", "current_loop"):
        assert next_bearing(bench).waypoint == topic
        assert any(f.code == "next-step" for f in check_bench(bench))
        bench = bench.model_copy(update={"settled": {**bench.settled, topic: full.settled[topic]}})
    assert next_bearing(bench).waypoint == "current_loop"  # the demo's is stale
    assert all(headline(bench, waypoint) for waypoint in WAYPOINTS[:4])
    assert state_of(bench, WAYPOINTS[-1]) is State.EVIDENCE


def test_commutation_is_needed_only_where_there_are_halls(bench: Bench) -> None:
    assert next(
        waypoint.optional(bench) for waypoint in waypoints_of(bench) if waypoint.key == "commutation"
    )  # an encoder's index can wait
    halls = _fields(bench, "sensor", kind="halls")
    assert "commutation" in [waypoint.key for waypoint in waypoints_of(halls)]
    run = next(waypoint for waypoint in WAYPOINTS if waypoint.key == "run")
    assert state_of(halls, run) is State.BLOCKED


def test_check_names_too_few_steps_per_turn(bench: Bench) -> None:
    fast = _fields(bench, "plate", top_speed=30000 * 2 * math.pi / 60)
    fast = settle(fast, "plate", plate_values(fast), reason="x", when=WHEN)
    codes = [f.code for f in check_bench(fast)]
    assert "top-speed-beyond-supply" in codes
    assert "too-few-samples-per-turn" in codes


def test_live_simulation_is_the_scenario(bench: Bench) -> None:
    sim = open_simulation(bench)
    assert sim.speed == 0.0
    assert sim.drive == build_drive(bench)


def test_another_kind_of_motor_gets_nothing_of_the_old_one(bench: Bench, tmp_path: Path) -> None:
    """No magnet arithmetic for another family: designs, captures, settling and exports refuse in one sentence, or leave it out."""
    other = with_family(bench, "induction")
    assert with_family(other, "sinusoidal").settings == bench.settings  # nothing that was said is lost on the way
    capture = Path("demo/winch/winch-staircase.csv").resolve()
    for act in (
        lambda: design_current(other), lambda: design_speed(other), lambda: build_drive(other), lambda: plan_of(other),
        lambda: evaluate(other, "flux", capture, base=tmp_path, when=WHEN),
        lambda: settle(other, "flux", {"flux_linkage": Quantity(value=0.1, unit="Wb")}, reason="x", when=WHEN),
    ):  # fmt: skip
        with pytest.raises(Refusal, match=r"has no such leg|is not settled"):
            act()
    assert "CC_FLUX" in export_settings(bench, "c-header")
    assert "CC_FLUX" not in export_settings(other, "c-header")
    assert "other-family-settled" in [f.code for f in check_bench(other) if f.level == "caution"]
    assert next_bearing(other).waypoint == "plate"  # what its rated current means is another thing now
    assert not {"inductance", "flux", "commutation"} & {w.key for w in waypoints_of(other)}
    brushed = with_family(bench, "brushed")  # no commutation: its brushes do that
    assert "commutation" not in [w.key for w in waypoints_of(brushed)]
    with pytest.raises(Refusal, match="v_cmd, which a brushed motor does not have"):
        evaluate(brushed, "resistance", capture, base=tmp_path, when=WHEN)


def test_every_field_that_is_settled_has_words_and_a_unit_of_its_own() -> None:
    """What was edited is said as people say it: an angle in degrees, a speed in rpm, never a bare number in SI."""
    models = {t: [i.annotation] for t, i in Settings.model_fields.items()} | {"plate": [*PLATES.values()]}
    missing = [
        f"{topic}.{field}"
        for topic, kinds in models.items()
        for model in kinds
        for field in (*getattr(model, "settles", ()), *getattr(model, "presumable", ()))
        if not info_of(topic, field).title
    ]
    assert not missing
    bench = load_bench(Path(__file__).parents[2] / "demo" / "carousel" / "carousel.bench.json")
    assert "standing window empty → 5.000°" in edited_text(enter(bench, "motion", {"window": 0.0872664626}), "motion")
