"""Position loop and moves: margins against python-control, the profile against closed forms, following errors, limits and faults by the simulated drive."""

from __future__ import annotations

import math
from pathlib import Path

import control
import numpy as np
import pytest

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench
from crisp_compass.course.drive import build_drive
from crisp_compass.course.position import as_designed, design_of, move_of
from crisp_compass.course.speed_design import plant_of
from crisp_compass.errors import Refusal
from crisp_compass.loops.position import design_position, following_error
from crisp_compass.loops.speed import speed_gains
from crisp_compass.motion.profile import shortest
from crisp_compass.plant import state
from crisp_compass.plant.parameters import MOVE, SPEED
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.move import move_outlook, play, ready
from crisp_compass.studies.scenarios import open_simulation

DEMO = Path(__file__).parents[2] / "demo"


def demo(name: str, **motion: object) -> Bench:
    return enter(load_bench(DEMO / name / f"{name}.bench.json"), "motion", motion)


def test_the_loop_is_python_controls() -> None:
    bench = demo("winch")
    plant = plant_of(bench)
    kp, ki = (bench.settled["speed_loop"].values[k].value for k in ("kp", "ki"))
    found = design_position(plant, kp, ki, 80.0)
    ts = 1 / plant.loop_hz
    wc, wf = 2 * math.pi * plant.current_bandwidth_hz, 2 * math.pi * plant.filter_hz  # type: ignore[operator]
    a = [[-wc, 0, 0], [plant.kt / plant.inertia, -plant.viscous / plant.inertia, 0], [0, wf, -wf]]
    late = control.tf([1], [1, 0], ts)  # one period of computing; python-control's own hold is the rest
    shaft = control.sample_system(control.ss(a, [[wc], [0], [0]], [[0, 0, 1], [0, 1, 0]], 0), ts)
    seen, true = (control.ss2tf(shaft)[k, 0] for k in (0, 1))
    pi = control.tf([kp + ki * ts, -kp], [1, -1], ts)
    inner = control.minreal(pi * late * true / (1 + pi * late * seen), 1e-7, verbose=False)
    loop = 80.0 * inner * control.tf([0.5 * ts, 0.5 * ts], [1, -1], ts)
    f = np.geomspace(1.0, 0.4 / ts, 60)
    ours = found.loop.response(2 * math.pi * f)
    theirs = loop(np.exp(2j * math.pi * f * ts))
    np.testing.assert_allclose(ours, theirs, rtol=2e-3)
    # the answer to a step passes its place no further than is allowed, and a gain without margin is told
    proposed = design_position(plant, kp, ki)
    assert proposed.overshoot <= 1.0
    assert proposed.margins.phase_margin_deg >= 60
    assert math.isnan(design_position(plant, kp, ki, 1.05 * proposed.most).overshoot)
    assert design_position(plant, kp, ki, 0.95 * proposed.most).margins.stable
    wild = speed_gains(plant, a=1.05)
    with pytest.raises(Refusal, match="speed loop is not stable"):
        design_position(plant, 40 * wild[0], 40 * wild[1])


def _profile(sim: Simulation, seconds: float) -> tuple[np.ndarray, np.ndarray]:
    every = int(sim.drive.control.speed_divider)
    trace = sim.advance(seconds, every)
    return trace["t"], trace["angle_ref"]


@pytest.mark.parametrize(("way", "speed", "accel", "steps"), [(40.0, 150.0, 1500.0, 1), (-7.0, 150.0, 1500.0, 20), (0.03, 80.0, 900.0, 1), (3.0, 11.0, 4e4, 100)])
def test_the_profile_arrives_as_the_closed_form_says(way: float, speed: float, accel: float, steps: int) -> None:
    """Its end is exact, its time that of the shortest move to within two steps, and neither speed nor acceleration is passed."""
    bench = as_designed(demo("winch"))
    drive = build_drive(bench)
    drive = drive._replace(control=drive.control._replace(move_speed=speed, move_accel=accel, move_steps=float(steps)))
    sim = Simulation(drive)
    period = drive.control.ts * drive.control.speed_divider
    sim.command(MOVE, position=way)
    expected = shortest(way, speed, accel).duration + (steps - 1) * period
    _, at = _profile(sim, expected + 10 * period)
    moving = np.flatnonzero(np.abs(np.diff(at)) > 0)
    assert at[-1] == way
    assert (moving[-1] + 1) * period == pytest.approx(expected, abs=2.1 * period)
    rate = np.diff(at) / period
    assert np.max(np.abs(rate)) <= speed * (1 + 1e-9)
    assert np.max(np.abs(np.diff(rate))) / period <= accel * (1 + 1e-6)
    if steps > 1:  # the acceleration builds over so many steps
        jerk = np.max(np.abs(np.diff(rate, 2))) / period**2
        assert jerk <= 2.02 * accel / (steps * period)


def test_random_targets_under_way_end_in_their_place() -> None:
    rng = np.random.default_rng(5)
    bench = as_designed(demo("winch", rounding=0.012))
    drive = build_drive(bench)
    accel, period = drive.control.move_accel, drive.control.ts * drive.control.speed_divider
    for _ in range(12):
        sim, last = Simulation(drive), 0.0
        sim.command(SPEED, speed=float(rng.uniform(-100, 100)))
        sim.advance(float(rng.uniform(0.0, 0.2)), 100)
        rates: list[np.ndarray] = []
        for _ in range(int(rng.integers(1, 6))):
            last = float(rng.uniform(-60, 60))
            sim.command(MOVE, position=last)
            rates.append(_profile(sim, float(rng.uniform(0.0, 0.4)))[1])
        _, at = _profile(sim, 3.0)
        whole = np.diff(np.concatenate([*rates, at])[1:]) / period
        assert at[-1] == last
        assert np.max(np.abs(np.diff(whole))) / period <= accel * (1 + 1e-6)
        assert abs(sim.state[state.THETA] - last) < 3 * 2 * math.pi / drive.sensing.counts_per_rev


@pytest.mark.parametrize("ahead", [0.0, 0.7, 1.0])
def test_the_following_error_is_that_of_theory(ahead: float) -> None:
    bench = as_designed(demo("winch", ahead=ahead, speed=60.0, distance=60.0))
    kv = bench.settled["motion"].values["kv"].value
    sim = ready(bench)
    sim.command(MOVE, position=60.0)
    trace = sim.advance(0.8, int(sim.drive.control.speed_divider))
    steady = np.abs(trace["speed"] - 60.0) < 0.5
    off = (trace["angle_ref"] - trace["angle"])[steady][-200:]
    count = 2 * math.pi / sim.drive.sensing.counts_per_rev
    assert float(np.mean(off)) == pytest.approx(following_error(60.0, kv, ahead), abs=1.5 * count)


def test_feed_forward_of_inertia_follows_closer_and_heavy_loads_fall_behind() -> None:
    plain = move_outlook(demo("winch", distance=30.0, rounding=0.02))
    ahead = enter(demo("winch", distance=30.0, rounding=0.02), "speed_loop", {"feed_forward": "both"})
    ahead = ahead.model_copy(update={"settled": {**ahead.settled}})
    told = move_outlook(_resettled(ahead))
    assert told.played.error < 0.4 * plain.played.error
    assert plain.margin == pytest.approx(2.5, rel=0.05)
    assert not [f for f in plain.findings if f.code in ("torque-short", "at-the-limit")]
    heavy = move_outlook(enter(demo("winch", distance=30.0, follow_limit=0.5), "run", {"load": 1.3}))
    assert heavy.margin < 1.0
    assert "torque-short" in [f.code for f in heavy.findings]
    assert heavy.played.fault == "following error"
    with pytest.raises(Refusal, match="no distance"):
        move_outlook(demo("winch", distance=0.0))
    with pytest.raises(Refusal, match="more than the 512"):
        move_of(demo("winch", rounding=2.0))
    with pytest.raises(Refusal, match="tells no position"):
        design_of(enter(demo("winch"), "sensor", {"kind": "halls"}))


def _resettled(bench: Bench) -> Bench:
    from crisp_compass.bench.rules import settle
    from crisp_compass.course.waypoints import BY_KEY

    propose = BY_KEY["speed_loop"].propose
    assert propose is not None
    return settle(bench, "speed_loop", propose(bench).values, reason="test", when="2026-05-12")


@pytest.mark.parametrize("name", ["carousel", "hoist"])
def test_other_families_hold_a_place(name: str) -> None:
    bench = as_designed(demo(name, distance=8.0, speed=30.0, accel=300.0, rounding=0.02, window=0.02))
    sim = ready(bench)
    for _ in range(2):
        played = play(sim, move_of(bench), tail=1.5)  # detents and friction let go slowly
        assert not played.fault
        assert played.error < math.radians(5)
        assert played.left < 2 * 0.02 + 2 * math.pi / sim.drive.sensing.counts_per_rev
        assert sim.state[state.STANDS]


def _powers(sim: Simulation, seconds: float) -> np.ndarray:
    """Mean power from the bus over each millisecond, W."""
    found = []
    steps = max(round(1e-3 / sim.drive.control.ts), 1)
    for _ in range(round(seconds / 1e-3)):
        drawn = []
        for _ in range(steps):
            sim.skip(sim.drive.control.ts)
            drawn.append(sim.state[state.DRAWN])
        found.append(float(np.mean(drawn)))
    return np.array(found)


@pytest.mark.parametrize(("name", "most", "back"), [("winch", 25.0, 15.0), ("carousel", 0.9, 0.25)])
def test_power_either_way_is_held(name: str, most: float, back: float) -> None:
    """What the bridge draws and gives stays within what is entered, to what the current's swing and the iron add."""
    bench = load_bench(DEMO / name / f"{name}.bench.json")
    speed = 0.6 * bench.settings.plate.top_speed
    ramps = {}
    for told in ({}, {"power_from": most, "power_into": back}):
        sim = open_simulation(enter(bench, "bus", told))
        sim.command(SPEED, speed=speed)
        up = _powers(sim, 1.5 * speed / sim.drive.control.ramp + 0.05)
        sim.command(SPEED, speed=0.0)
        down = _powers(sim, 1.2 * speed / sim.drive.control.ramp + 0.05)
        ramps[bool(told)] = (up.max(), down.min())
    assert ramps[False][0] > 1.2 * most  # or nothing is limited
    assert ramps[False][1] < -1.2 * back
    assert ramps[True][0] < 1.08 * most
    assert ramps[True][1] > -1.08 * back


def test_a_low_bus_takes_driving_torque_back() -> None:
    bench = enter(load_bench(DEMO / "winch" / "winch.bench.json"), "bus", {"low_start": 44.0, "low_end": 34.0})
    sim = open_simulation(bench)
    sim.set_load(0.6, drives=False)
    sim.command(SPEED, speed=100.0)
    sim.skip(0.3)
    most = sim.drive.control.i_limit
    for volts in (42.0, 39.0, 36.0):
        sim.set_supply(volts)
        sim.command(SPEED, speed=400.0)
        asked = sim.advance(0.1)["i_q_ref"]
        share = (float(sim.state[state.V_BUS]) - 34.0) / 10.0
        assert float(np.max(asked[-100:])) == pytest.approx(share * most, rel=0.05)
        sim.command(SPEED, speed=100.0)
        sim.skip(0.2)
    for fields, said in (({"low_end": 20.0}, "trips at 30.0 V before"), ({"low_start": 30.0}, "is not below"), ({"low_start": 52.0}, "never all of it"), ({"low_end": None}, "only one end")):
        with pytest.raises(Refusal, match=said):
            build_drive(enter(bench, "bus", fields))


def test_a_sensor_that_is_lost_and_a_stall_that_is_not_watched() -> None:
    sim = open_simulation(load_bench(DEMO / "winch" / "winch.bench.json"))
    sim.command(SPEED, speed=100.0)
    sim.skip(0.2)
    sim.lose_sensor(True)
    sim.advance(1.5, 100)
    assert sim.fault in ("stall", "over-current")  # an encoder's count stands still: nothing else tells
    sim.lose_sensor(False)
    sim.acknowledge()
    sim.command(SPEED, speed=50.0)
    sim.advance(1.0, 100)
    assert sim.speed == pytest.approx(50.0, rel=0.02)
    for after, fault in ((0.2, "stall"), (None, "")):
        held = open_simulation(enter(load_bench(DEMO / "winch" / "winch.bench.json"), "run", {"stall_time": after, "load": 50.0}))
        held.command(SPEED, speed=100.0)
        held.advance(2.0, 1000)
        assert held.fault == fault
