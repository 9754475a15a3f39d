"""Each setting changes what it claims to change: the plant, the predictions, the messages, the header."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import Bench, Quantity, load_bench, settle
from crisp_compass.bench.records import LedgerEntry
from crisp_compass.course.bridge import bench_window, plan_bench_pwm, usable_voltage
from crisp_compass.course.captures import add_evidence, evaluate, set_instrument
from crisp_compass.course.drive import build_drive
from crisp_compass.course.known import best_source, meter_phases, side_by_side
from crisp_compass.course.torque_speed import weakening_outlook
from crisp_compass.course.waypoints.current_loop import current_values, design_current, expected_step
from crisp_compass.course.waypoints.pwm import pwm_values
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import largest_linear_step
from crisp_compass.preparation.checks import record_reading, record_typed
from crisp_compass.preparation.supply import supply_outlook
from crisp_compass.record.formats import export_settings
from crisp_compass.record.handed import handed_settings
from crisp_compass.studies.scenarios import open_simulation
from crisp_compass.studies.step_band import Spread, current_band
from crisp_compass.studies.step_prediction import predict_current_step

WHEN = "2026-05-12T15:00:00"


@pytest.fixture
def bench(winch: Path) -> Bench:
    return load_bench(winch)


def changed(bench: Bench, topic: str, **fields: object) -> Bench:
    """Return the bench with fields of a page changed."""
    page = getattr(bench.settings, topic).model_copy(update=fields)
    return bench.model_copy(update={"settings": bench.settings.model_copy(update={topic: page})})


def settled_pwm(bench: Bench) -> Bench:
    """Settle the PWM of the page as it stands."""
    return settle(bench, "pwm", pwm_values(plan_bench_pwm(bench)), reason="test", when=WHEN)


PWM = [
    ({"scheme": "sine"}, 24.0), ({"scheme": "space-vector"}, 48 / math.sqrt(3)),
    ({"min_pulse": 1e-6}, 48 / math.sqrt(3) * (1 - 2e-6 * 20e3)),
]  # fmt: skip


@pytest.mark.parametrize(("fields", "command"), PWM)
def test_scheme_and_minimum_pulse_reach_plant_steps_and_messages(
    bench: Bench, fields: dict[str, object], command: float
) -> None:
    bench = settled_pwm(changed(bench, "pwm", shunts="in-line", **fields))
    usable = usable_voltage(bench)
    assert usable.command == pytest.approx(command)
    drive = build_drive(bench)
    assert drive.control.volts_per_bus * 48.0 == pytest.approx(command)
    assert expected_step(bench, {}).v_limit == pytest.approx(command)
    current = design_current(bench)
    step = min(
        largest_linear_step(command, a.kp, a.ki, bench.settled["resistance"].values["resistance"].value, 5e-5)
        for a in (current.d, current.q)
    )
    assert any(f"{step:.3g} A" in f.text and f"{command:.3g} V" in f.text for f in current.findings)
    assert weakening_outlook(bench).limits.v_limit == pytest.approx(usable.motor)
    sim = open_simulation(bench)
    sim.retune(drive._replace(load=drive.load._replace(inertia=1e9), control=drive.control._replace(i_trip=1e9)))
    sim.command(2, i_q=1e6)
    trace = sim.advance(0.01)
    assert float(np.max(np.hypot(trace["v_d"], trace["v_q"]))) == pytest.approx(
        command, rel=0.02
    )  # the supply sags a little


def test_a_sampling_window_narrows_the_voltage_and_a_closed_one_leaves_none(bench: Bench) -> None:
    narrow = changed(bench, "pwm", shunts="three", settling=6e-6)
    assert usable_voltage(narrow, planned=True).command == pytest.approx(bench_window(narrow).limit)
    assert usable_voltage(narrow, planned=True).command < 0.8 * 48 / math.sqrt(3)
    closed = changed(bench, "pwm", shunts="three", settling=40e-6)
    assert "window-closed" in [f.code for f in plan_bench_pwm(closed).findings]
    with pytest.raises(Refusal, match="leave no voltage for the motor"):
        build_drive(settled_pwm(closed))
    one = changed(bench, "pwm", shunts="one")  # such drives shift their pulses
    assert usable_voltage(one, planned=True).command == pytest.approx(48 / math.sqrt(3))


def test_the_delay_reaches_plant_prediction_and_thousand_runs(bench: Bench) -> None:
    tops = []
    for delay in (1.0, 1.5, 3.0):
        slow = changed(bench, "current_loop", delay_samples=delay, bandwidth_hz=1500.0, step=1.0)
        assert build_drive(slow).control.delay_samples == 1.5  # edited, not settled: the drive keeps the settled one
        values = current_values(slow, design_current(slow))
        slow = settle(slow, "current_loop", values, reason="test", when=WHEN)
        assert build_drive(slow).control.delay_samples == delay
        found = design_current(slow)
        still = current_band(slow, found, runs=20, spread=Spread(20.0, 20.0, 0.0, 0.0))
        predicted = predict_current_step(slow, found)
        size = slow.settings.current_loop.step
        tops.append(
            (
                float(np.max(still.middle)) / size - 1,
                float(np.max(predicted.response)) / size - 1,
                found.q.overshoot_pct / 100,
            )
        )
    for band, prediction, linear in tops:
        assert band == pytest.approx(linear, abs=0.04)
        assert prediction == pytest.approx(linear, abs=0.04)
    assert tops[2][2] > tops[1][2] + 0.1 > tops[0][2] + 0.1


def test_resistance_keeps_its_temperature(bench: Bench, winch: Path, tmp_path: Path) -> None:
    """Settled at 90 °C the thousand runs scale from there: a winding at 10 °C has 25 % less, not 4 %."""
    warm = changed(bench, "resistance", temperature=90.0)
    found = evaluate(warm, "resistance", winch.parent / "winch-staircase.csv", base=tmp_path, when=WHEN).evidence
    values = {k: found.estimates[k] for k in ("resistance", "temperature")}
    assert values["temperature"] == Quantity(value=90.0, unit="degC")
    warm = settle(warm, "resistance", values, reason="hot", when=WHEN)
    band = current_band(warm, design_current(warm), runs=60, spread=Spread(10.0, 10.0, 0.0, 0.0))
    assert "R −2" in band.worst_text  # copper: (235 + 10)/(235 + 90) = 0.754
    assert "#define CC_RESISTANCE_TEMPERATURE_DEGC (90.0f)" in export_settings(warm, "c-header")


def test_meter_readings_have_one_store_whichever_way_they_come() -> None:
    typed = record_typed(Bench(), LedgerEntry(when=WHEN, kind="ruv", text="", value=Quantity(value=0.9, unit="Ω")))
    measured = record_reading(Bench(), "pairs", "uv", 0.9, WHEN)
    assert typed.checks["pairs"].values == measured.checks["pairs"].values == {"uv": 0.9}
    newer = record_reading(typed, "pairs", "uv", 0.8, WHEN)
    for bench, value in ((typed, 0.45), (newer, 0.40)):
        solved = meter_phases(bench)
        assert solved is not None
        assert solved.mean.value == pytest.approx(value)
        best = best_source(bench, "resistance")
        assert best is not None
        assert best.value == pytest.approx(value)


def test_one_answer_to_the_best_value(bench: Bench) -> None:
    """With Kt alone on the plate the supply page finds the flux too."""
    bare = changed(Bench(), "plate", kt=0.1, pole_pairs=4)
    assert supply_outlook(bare).reach is not None
    best = best_source(bare, "flux_linkage")
    assert best is not None
    assert best.value == pytest.approx(0.1 / (1.5 * 4 * math.sqrt(2)))
    assert best_source(bench, "flux_linkage").kind == "settled"  # type: ignore[union-attr]


def test_a_meters_bar_knows_each_last_digit_gain_and_contacts() -> None:
    """0.49, 0.48, 0.481: two of them were read to 10 mΩ, and no handheld meter is exact to 0.3 mΩ."""
    bench = Bench()
    for name, value in (("uv", 0.49), ("vw", 0.48), ("wu", 0.481)):
        bench = record_reading(bench, "pairs", name, value, WHEN)
    bare = changed(bench, "instruments", meter_gain=0.0, meter_contact=0.0)
    digits, whole = (meter_phases(b) for b in (bare, bench))
    assert digits is not None
    assert whole is not None
    by_hand = 0.5 * math.sqrt(2 * 0.01**2 + 0.001**2) / math.sqrt(12) / 3
    assert digits.mean.u == pytest.approx(by_hand, rel=1e-9)
    assert whole.mean.u == pytest.approx(
        math.hypot(0.5 * 0.004 / math.sqrt(3), 0.5 * 0.004, 0.004 * whole.mean.value, by_hand), rel=1e-9
    )


def test_the_instruments_gain_is_in_every_bar_but_hides_no_scatter(bench: Bench) -> None:
    first = bench.evidence["resistance"][0]
    r = first.estimates["resistance"]
    assert r.u is not None
    assert r.u_repeat is not None
    assert r.u > 1.3e-2 * r.value > 3 * r.u_repeat
    # a repeat that is off by ten of its own u disagrees, however wide the gains make both bars
    off = r.model_copy(update={"value": r.value + 10 * r.u_repeat})
    again = first.model_copy(update={"file": "again.csv", "estimates": {**first.estimates, "resistance": off}})
    found = side_by_side(add_evidence(bench, again), "resistance").agreement
    assert found is not None
    assert not found.agrees
    # and a better data sheet narrows the bars of what was captured before
    better = (
        set_instrument(set_instrument(bench, "v_gain", 0.0), "i_gain", 0.0)
        .evidence["resistance"][0]
        .estimates["resistance"]
    )
    assert better.u == pytest.approx(r.u_repeat, rel=1e-9)
    assert better.interval95 is not None
    assert better.interval95[1] - better.interval95[0] == pytest.approx(2 * 1.96 * r.u_repeat, rel=0.2)
    with pytest.raises(Refusal, match="is not possible"):
        set_instrument(bench, "v_gain", 3.0)


#: Settings that act in the firmware without being settled: demo bench, setting, another value.
HANDED = [
    ("winch", "run", "i_limit", 3.3), ("winch", "run", "i_trip", 9.9), ("winch", "run", "v_min", 21.0), ("winch", "current_loop", "delay_samples", 2.5),
    ("hatch", "speed_loop", "compensation", 0.31), ("pump", "start_up", "catch", 0.123), ("pump", "start_up", "ahead", 1.1),
    ("pump", "start_up", "wait", 0.77), ("pump", "start_up", "blend", 0.033), ("pump", "start_up", "lost", 0.044),
    ("pump", "start_up", "low_current", 1.9), ("pump", "start_up", "low_share", 0.55), ("hoist", "run", "i_limit", 5.1),
    ("winch", "run", "weakening", 3.0), ("winch", "run", "i_continuous", 2.0), ("winch", "run", "on_fault", "brake"), ("winch", "speed_loop", "set_point", "filtered"),
    ("pump", "start_up", "retries", 2), ("winch", "speed_loop", "rounding", 0.05), ("winch", "speed_loop", "feed_forward", "both"), ("winch", "speed_loop", "low_pass_hz", 300.0),
    ("pump", "speed_loop", "notch_hz", 90.0), ("hatch", "speed_loop", "feed_forward", "inertia"), ("hoist", "speed_loop", "feed_forward", "friction"), ("hoist", "circuit", "field_off", 2.0), ("winch", "speed_loop", "slow_below", 30.0),
]  # fmt: skip


@pytest.mark.parametrize(("name", "topic", "field", "value"), HANDED)
def test_what_the_simulated_firmware_is_set_with_is_handed_over(
    name: str, topic: str, field: str, value: object
) -> None:
    """A setting changed alone changes the plant's drive and every export: a tuning that only the simulation knows is a lie in the header."""
    plain = load_bench(Path("demo") / name / f"{name}.bench.json")
    if field == "low_share":
        plain = changed(plain, "start_up", low_current=1.5)
    other = changed(plain, topic, **{field: value})
    for bench_ in (plain, other):  # what waits until it is settled is settled
        assert handed_settings(bench_)
    if topic in other.settled:
        held = other.settled[topic].settings
        other = other.model_copy(
            update={
                "settled": {
                    **other.settled,
                    topic: other.settled[topic].model_copy(
                        update={"settings": {**held, **({field: value} if field in type(getattr(other.settings, topic)).settles else {})}}
                    ),
                }
            }
        )
    assert build_drive(plain) != build_drive(other)
    for form in ("c-header", "json", "csv"):
        before, after = export_settings(plain, form), export_settings(other, form)
        gone, come = (
            set(before.splitlines()) - set(after.splitlines()),
            set(after.splitlines()) - set(before.splitlines()),
        )
        assert come, form
        assert all("firmware" not in line for line in gone)


def test_limits_of_bus_and_speed_reach_plant_and_header(bench: Bench) -> None:
    """Empty they are none; set they trip, each by its own name, and stand in the header."""
    assert "V_MAX" not in export_settings(bench, "c-header")
    assert build_drive(bench).control.v_max == build_drive(bench).control.speed_trip == 1e9
    limited = changed(bench, "run", v_max=55.0, speed_trip=90.0)
    header = export_settings(limited, "c-header")
    assert "CC_RUN_V_MAX_V (55.0f)" in header
    assert "CC_RUN_SPEED_TRIP_RAD_S (90.0f)" in header
    for at, (supply, speed, fault) in enumerate(
        ((48.0, 80.0, ""), (56.0, 80.0, "over-voltage"), (48.0, 120.0, "over-speed"))
    ):
        sim = open_simulation(limited, seed=at + 1)
        sim.set_supply(supply)
        sim.command(1, speed=speed)
        sim.advance(0.3)
        assert sim.fault == fault
