"""How hot a motor gets: against SciPy's integrator and closed forms, the firmware's overload trip attacked with random loads, constants from captures, and the simulated drive."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench
from crisp_compass.capture.model import Capture
from crisp_compass.course.heat import bodies_of, heat_outlook, with_guard
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.identify.heating import fit_heating
from crisp_compass.thermal.classes import own_cooling, winding_limit
from crisp_compass.thermal.guard import Around, overload_for, worst_at_trip
from crisp_compass.thermal.model import (
    Bodies,
    Stretch,
    continuous_current,
    follow,
    hottest,
    one_body,
    shortest_period,
    steady,
    time_to,
)
from makers import ladder_slope, warmed

MOTOR = Bodies(0.9, 1.4, 25.0, 900.0, 1.5, 0.413)
HEAT = {"insulation": "F", "to_housing": 0.9, "to_air": 1.4, "winding_time": 25.0, "housing_time": 900.0}


def integrated(b: Bodies, ambient: float, current: object, seconds: float, extra: float = 0.0) -> FloatArray:
    """Winding and housing by SciPy, from the bodies' equations written out; ``current`` a function of time."""
    cw, ch = b.winding_time / b.to_housing, b.housing_time / b.to_air

    def slope(t: float, x: FloatArray) -> list[float]:
        watt = b.factor * b.r * current(t) ** 2 * (235 + x[0]) / (235 + b.reference)  # type: ignore[operator]
        through = (x[0] - x[1]) / b.to_housing
        return [(watt - through) / cw, (through + extra - (x[1] - ambient) / b.to_air) / ch]

    return np.asarray(solve_ivp(slope, (0, seconds), [ambient, ambient], rtol=1e-10, atol=1e-9, max_step=b.winding_time / 20, t_eval=np.linspace(0, seconds, 241)).y)


def test_courses_are_those_of_the_equations() -> None:
    told = follow(MOTOR, [Stretch(60.0, 12.0, 3.0), Stretch(60.0, 0.0)], 25.0, (25.0, 25.0))
    first = integrated(MOTOR, 25.0, lambda _: 12.0, 60.0, 3.0)
    assert told.winding[120] == pytest.approx(first[0, -1], abs=1e-4)
    assert told.housing[120] == pytest.approx(first[1, -1], abs=1e-4)
    # a cycle that repeats is what many of them lead to
    cycle = [Stretch(30.0, 12.0), Stretch(200.0, 1.0)]
    assert hottest(MOTOR, cycle, 25.0) == pytest.approx(follow(MOTOR, cycle * 40, 25.0, (25.0, 25.0), 60).winding[-120:].max(), abs=0.01)
    # the current that may flow for ever leads to the limit, and takes for ever; a little more gets there
    forever = continuous_current(MOTOR, 145.0, 40.0, housing_loss=2.0)
    assert steady(MOTOR, forever, 40.0, housing_loss=2.0)[0] == pytest.approx(145.0, abs=1e-6)
    assert math.isinf(time_to(MOTOR, 145.0, 0.999 * forever, 40.0, (40.0, 40.0), housing_loss=2.0))
    for current in (1.05 * forever, 3 * forever):
        seconds = time_to(MOTOR, 145.0, current, 40.0, (40.0, 40.0))
        assert follow(MOTOR, [Stretch(seconds, current)], 40.0, (40.0, 40.0)).winding[-1] == pytest.approx(145.0, abs=1e-5)
    # one body without copper's feedback in closed form: the loss of copper at a fixed temperature, T = T_a + P·R·(1 − e^(−t/τ))
    body = one_body(2.0, 100.0, 1.5, 1e-6)
    rise = follow(body, [Stretch(70.0, 0.0, 30.0)], 20.0, (20.0, 20.0)).winding[-1] - 20.0
    assert rise == pytest.approx(60.0 * -math.expm1(-0.7), rel=3e-3)
    # copper runs away where each kelvin makes more than it sheds: no temperature is the end
    assert math.isinf(steady(MOTOR, 15.0, 40.0)[0])
    assert math.isinf(hottest(MOTOR, [Stretch(1e3, 15.0)], 40.0))
    period = shortest_period(MOTOR, 145.0, [Stretch(20.0, 10.0)], Stretch(0.0, 0.0), 40.0)
    assert hottest(MOTOR, [Stretch(20.0, 10.0), Stretch(period - 20.0, 0.0)], 40.0) == pytest.approx(145.0, abs=0.3)


@pytest.mark.thorough
def test_a_proposed_overload_trip_keeps_any_load_within_the_limit() -> None:
    """Random currents, held back only by the counter, as the firmware counts: the winding stays below its limit, and the trip is no more timid than it must be."""
    around, most, limit = Around(40.0, 2.0), 15.0, 145.0
    lets = 0.9 * continuous_current(MOTOR, limit, around.ambient, housing_loss=around.housing_loss)
    seconds = overload_for(MOTOR, around, limit, lets, most)
    assert seconds is not None
    i2t = seconds * (most**2 - lets**2)
    assert worst_at_trip(MOTOR, around, lets, i2t, most)[0] == pytest.approx(limit, abs=0.5)
    assert worst_at_trip(MOTOR, around, lets, 4 * i2t, most)[0] > limit + 10
    hottest_seen = 0.0
    for seed in range(6):
        rng, counted, at = np.random.default_rng(seed), 0.0, np.array(steady(MOTOR, lets, around.ambient, housing_loss=2.0))
        cw, ch, step = MOTOR.winding_time / MOTOR.to_housing, MOTOR.housing_time / MOTOR.to_air, 0.05
        for _ in range(300):
            current, left = rng.choice([0.0, lets, rng.uniform(lets, most), most]), rng.exponential(20.0)
            while left > 0:
                flows = current if counted < i2t or current <= lets else lets  # at the trip's edge the firmware lets no more through
                counted = max(counted + (flows**2 - lets**2) * step, 0.0)
                watt = MOTOR.copper(flows, at[0])
                through = (at[0] - at[1]) / MOTOR.to_housing
                at = at + step * np.array([(watt - through) / cw, (through + 2.0 - (at[1] - 40.0) / MOTOR.to_air) / ch])
                left, hottest_seen = left - step, max(hottest_seen, float(at[0]))
    assert limit - 25 < hottest_seen < limit + 1.5


@pytest.mark.thorough
def test_a_warmed_motor_tells_its_thermal_constants() -> None:
    held, names = [], ("to_housing", "to_air", "winding_time", "housing_time")
    for seed in range(10):
        capture, truth = warmed(seed)
        found = fit_heating(capture)
        assert found.two
        for name, true in zip(names, truth, strict=True):
            estimate = found.estimates[name]
            assert estimate.value == pytest.approx(true, rel=0.08), (seed, name)
            held.append(estimate.low <= true <= estimate.high)
    assert np.mean(held) > 0.85
    # by a sensor while it cools from a known loss: the same ladder
    b = Bodies(0.6, 1.1, 20.0, 600.0, 1.5, 0.2)
    t = np.linspace(0, 2400, 900)
    start = [22.0 + 50 * 1.7, 22.0 + 50 * 1.1]
    cooling = solve_ivp(lambda _, x: ladder_slope(b, 22.0, 0.0, x), (0, 2400), start, t_eval=t, rtol=1e-9).y[0] + 0.05 * np.random.default_rng(1).standard_normal(900)
    sensed = fit_heating(Capture("cool.csv", t, {"temp": cooling}, {}), loss=50.0)
    for name, true in zip(names, (0.6, 1.1, 20.0, 600.0), strict=True):
        assert sensed.estimates[name].value == pytest.approx(true, rel=0.06)
    capture, _ = warmed(3)
    for columns, notes, message in (
        ({"v_ab": capture["v_ab"], "i_a": capture["i_a"]}, {}, "temperature of the cold motor"), ({"temp": cooling}, {}, "how much heat"),
        ({"v_ab": -capture["v_ab"], "i_a": capture["i_a"]}, {"temperature_c": "20"}, "heat"), ({"temp": np.full(900, 30.0) + 0.01 * np.arange(900) % 3}, {"loss_w": "20"}, "warmer|K only|in sight"),
        ({"temp": cooling}, {"loss_w": "much"}, "is not a number"),
    ):  # fmt: skip
        n = len(next(iter(columns.values())))
        with pytest.raises(Refusal, match=message):
            fit_heating(Capture("x.csv", np.linspace(0, 2400, n), columns, notes))


@pytest.mark.thorough
def test_a_motor_of_more_bodies_is_predicted_and_said_to_be_one() -> None:
    """Winding, iron, housing and air whose convection grows with the temperature, which is no ladder of two: steady rises at another current within 15 %, and the finding."""
    for seed in range(4):
        g = np.random.default_rng(seed)
        rw, rh, r, ambient, grows = g.uniform(0.3, 1.5), g.uniform(0.5, 2.0), 0.3, 20.0, g.uniform(0.1, 0.25)
        cw, ci, ch = 20.0 / rw, 150.0 / rh, 500.0 / rh

        def course(current: float, seconds: float, at: FloatArray, rw: float = rw, rh: float = rh, cw: float = cw, ci: float = ci, ch: float = ch, grows: float = grows) -> FloatArray:
            def slope(_: float, x: FloatArray) -> list[float]:
                watt = 2 * 0.3 * current**2 * (235 + x[0]) / 255
                one, two = (x[0] - x[1]) / (0.7 * rw), (x[1] - x[2]) / (0.3 * rw)
                air = (x[2] - 20.0) / rh * (max(x[2] - 20.0, 1e-3) / 30) ** grows
                return [(watt - one) / cw, (one - two) / ci, (two - air) / ch]

            return np.asarray(solve_ivp(slope, (0, seconds), [20.0] * 3, t_eval=at, method="LSODA", rtol=1e-8, atol=1e-8, max_step=10.0).y[0])

        current = math.sqrt(60.0 / (rw + rh) / (2 * r * 1.15))
        t = np.linspace(0, 2600, 1300)
        ohm = 2 * r * (235 + course(current, 2600, t)) / 255
        v = ohm * current * (1 + 1e-4 * g.standard_normal(len(t)))
        found = fit_heating(Capture("real.csv", t, {"v_ab": v, "i_a": np.full(len(t), current)}, {"temperature_c": "20"}))
        assert found.two
        e = {k: q.value for k, q in found.estimates.items()}
        told = steady(Bodies(e["to_housing"], e["to_air"], e["winding_time"], e["housing_time"], 2.0, r, 20.0), 0.8 * current, ambient)[0]
        true = course(0.8 * current, 20000, np.array([20000.0]))[-1]
        assert told - ambient == pytest.approx(true - ambient, rel=0.15)
    assert "more-bodies" in {f.code for f in found.findings}


def hot(**more: object) -> Bench:
    return enter(load_bench(Path("demo/winch/winch.bench.json")), "heat", {**HEAT, **more})


def test_a_bench_knows_its_limits_and_what_is_missing() -> None:
    """Classes by IEC 60034-1 (from memory): class F 105 K above air of 40 °C, class B 80 K."""
    assert (winding_limit("F"), winding_limit("B")) == (145.0, 120.0)
    plain = load_bench(Path("demo/winch/winch.bench.json"))
    with pytest.raises(Refusal, match="sheds its heat"):
        heat_outlook(plain)
    by_plate = enter(plain, "heat", {"insulation": "F"})
    rated = enter(by_plate, "heat", {"speed": plain.settings.plate.rated_speed or plain.settings.plate.top_speed})
    assert heat_outlook(rated).winding == pytest.approx(145.0, abs=0.1)  # the rated point is where the class's limit is reached
    with pytest.raises(Refusal, match="time constants"):
        heat_outlook(enter(by_plate, "heat", {"duty": "S2"}))
    with pytest.raises(Refusal, match="does not fit"):
        heat_outlook(hot(duty="S3", on_time=700.0))
    assert heat_outlook(hot(limit=100.0)).limit == 100.0
    known = bodies_of(plain)
    assert known is None
    # a fan on the shaft leaves less at standstill, and a settled hoist's rotor heats, too
    assert own_cooling(0.0, 0.4) == pytest.approx(2.5)
    assert own_cooling(1.0, 0.4) == 1.0
    fan = heat_outlook(hot(cooling="own"))
    assert fan.at_rest < fan.continuous
    # the proposed trip, taken, is what the firmware then lets happen
    free = enter(hot(), "run", {"i_limit": 14.0, "i_trip": 20.0})
    before = heat_outlook(free).guard
    assert before is not None
    assert before.worst > 1000
    after = heat_outlook(with_guard(free, before)).guard
    assert after is not None
    assert 130 < after.worst < 146


def test_the_simulated_drive_gets_warm_and_trips() -> None:
    """A shaft that is held: winding and housing follow the current, the resistance follows the winding, and the limit trips."""
    bench = enter(enter(hot(), "run", {"load": 50.0, "i_limit": 9.0, "i_trip": 30.0, "temp_trip": 65.0}), "heat", {"winding_time": 4.0, "ambient": 25.0})
    drive = SimulatedDrive(bench)
    assert drive.winding == 25.0
    token = drive.arm("test")
    drive.run_at(token, 50.0)
    cold, seen = drive._sim.drive.machine.r, []
    drive._sim.drive = drive._sim.drive._replace(control=drive._sim.drive.control._replace(stall_time=1e3))
    drive._cold = drive._cold._replace(control=drive._sim.drive.control)
    for _ in range(150):
        told = drive.exchange(token, 0.05)
        seen.append((float(told["t"][-1]), float(told["temp"][-1]), float(np.hypot(told["i_d"], told["i_q"])[-1])))
        if drive.fault:
            break
    assert drive.fault == "over-temperature"
    t, winding, current = np.array(seen).T
    known = bodies_of(bench)
    assert known is not None
    reference = integrated(known.bodies, 25.0, lambda s: float(np.interp(s, t, current)), float(t[-1]))[0]
    assert winding[-1] == pytest.approx(reference[-1], abs=0.6)
    assert drive._sim.drive.machine.r / cold == pytest.approx((235 + winding[-1]) / (235 + 25.0), rel=2e-3)
    drive.acknowledge()
    assert (drive.fault, drive.winding) == ("", 25.0)
    assert SimulatedDrive(load_bench(Path("demo/winch/winch.bench.json"))).winding is None
