"""The brushed motor: plant against SciPy's integrator, energy, loops with and without a sensor."""

from __future__ import annotations

import control
import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.entered import enter
from crisp_compass.course.open_points import open_points
from crisp_compass.course.outer_loop import outer_loop
from crisp_compass.course.waypoints.run import build_drive
from crisp_compass.course.waypoints.speed_loop import armature_droop, design_speed
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import (
    ALIGN,
    CURRENT,
    OFF,
    SPEED,
    Brushed,
    Control,
    Drive,
    Inverter,
    Load,
    Sensing,
)
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.scenarios import open_simulation

HATCH = "demo/hatch/hatch.bench.json"
MOTOR = Brushed(0.91, 1.4e-3, 1.4e-3, 0.0287, drop=0.55)
LOAD = Load(2.2e-5, 6e-6, 2.6e-3)


def at_voltage(volts: float, seconds: float, ts: float = 1e-5) -> tuple[Simulation, dict[str, FloatArray]]:
    sim = Simulation(Drive(MOTOR, LOAD, Inverter(14.0), Sensing(), Control(ts=ts, delay_samples=0.5)))
    sim.command(ALIGN, i_d=volts)
    return sim, sim.advance(seconds).columns


def test_a_start_at_full_voltage_is_what_scipy_integrates() -> None:
    m = MOTOR

    def slope(_: float, y: FloatArray) -> list[float]:
        i, w = y
        push = m.psi * i - LOAD.viscous * w
        held = w <= 0 and push <= LOAD.coulomb
        return [(9.0 - m.r * i - m.drop - m.psi * w) / m.lq, 0.0 if held else (push - LOAD.coulomb) / LOAD.inertia]

    truth = solve_ivp(slope, (0, 0.2), [0.0, 0.0], rtol=1e-9, atol=1e-10, max_step=1e-4, dense_output=True)
    _, found = at_voltage(9.0, 0.2)
    assert truth.sol is not None
    i, w = truth.sol(found["t"])
    assert found["i_q"] == pytest.approx(i, abs=3e-4 * float(np.max(i)))
    assert found["speed"] == pytest.approx(w, abs=3e-4 * float(np.max(w)))


def test_energy_adds_up_and_brushes_block_what_is_below_their_drop() -> None:
    sim, found = at_voltage(9.0, 0.08, ts=2e-6)
    i, w, t = found["i_q"], found["speed"], found["t"]
    given = np.trapezoid(9.0 * i, t)
    heat = np.trapezoid(MOTOR.r * i**2 + MOTOR.drop * i, t)
    rubbed = np.trapezoid(LOAD.viscous * w**2 + LOAD.coulomb * w, t)
    kept = 0.5 * MOTOR.lq * i[-1] ** 2 + 0.5 * LOAD.inertia * w[-1] ** 2
    assert given == pytest.approx(heat + rubbed + kept, rel=1e-6)
    _, below = at_voltage(0.9 * MOTOR.drop, 0.05)
    assert not below["i_q"].any()
    sim.command(OFF)
    sim.advance(0.01)
    assert sim.state[state.IQ] == 0.0  # the diodes have emptied the inductance


def test_current_loop_holds_its_reference_whatever_the_speed() -> None:
    drive = build_drive(load_bench(HATCH))
    sim = Simulation(drive._replace(load=Load(1e-4, 0.0, 0.0)))
    sim.command(CURRENT, i_q=1.2)
    trace = sim.advance(0.15)
    assert float(np.mean(trace["i_q"][-400:])) == pytest.approx(1.2, rel=0.02)
    assert float(np.mean(trace["torque"][-400:])) == pytest.approx(1.2 * drive.machine.psi, rel=0.02)


def test_speed_by_armature_voltage_droops_as_computed_and_an_encoder_does_not() -> None:
    bench = load_bench(HATCH)
    rated = bench.settings.plate.rated_current
    falls = {}
    for kind in ("none", "incremental"):
        changed = enter(bench, "sensor", {"kind": kind, "counts_per_rev": 4096})
        sim = open_simulation(changed)
        sim.command(SPEED, speed=150.0)
        sim.advance(1.5)
        m, load = sim.drive.machine, sim.drive.load
        sim.set_load(m.psi * rated - load.coulomb - load.viscous * 110)
        sim.advance(2.5)
        falls[kind] = 150.0 - sim.speed
    droop = armature_droop(bench)
    assert falls["none"] == pytest.approx(droop.cold, rel=0.08)
    assert abs(falls["incremental"]) < 2.0
    assert droop.hot > droop.cold
    more = enter(bench, "speed_loop", {"compensation": 0.8})
    assert armature_droop(more).cold < droop.cold
    assert build_drive(more).control.compensation == 0.6  # an edit waits until it is settled


def test_what_does_not_belong_to_a_brushed_motor_is_refused() -> None:
    bench = load_bench(HATCH)
    assert design_speed(bench).margins.stable
    with pytest.raises(ValueError, match=r"less than or equal to 0\.8"):
        enter(bench, "speed_loop", {"compensation": 0.95})
    with pytest.raises(Refusal, match="no halls"):
        build_drive(enter(bench, "sensor", {"kind": "halls"}))


def test_a_tachometer_holds_the_speed_without_counts() -> None:
    bench = enter(load_bench(HATCH), "sensor", {"kind": "tachometer"})
    sim = open_simulation(bench)
    sim.command(SPEED, speed=150.0)
    sim.advance(1.5)
    sim.set_load(0.6 * sim.drive.machine.psi * bench.settings.plate.rated_current)
    trace = sim.advance(2.5)
    assert float(np.mean(trace["speed"][-500:])) == pytest.approx(150.0, abs=0.5)


def measured(**more: object) -> Bench:
    """A controller of voltage: 24.5 rad/s per volt, 0.1 V off, answering in 0.12 s."""
    points = {
        "command1": 1.0,
        "speed1": 22.05,
        "command2": 8.0,
        "speed2": 193.55,
        "most": 10.0,
        "answer_time": 0.12,
        "trims": "neutral",
    }
    bench = enter(load_bench(HATCH), "plate", {"top_speed": 150.0})
    return enter(bench, "outer_loop", {**points, **more})


def test_the_loop_around_a_controller_that_is_there() -> None:
    found = outer_loop(measured())
    assert (found.gain, found.offset) == (pytest.approx(24.5), pytest.approx(0.1))
    assert found.headroom == pytest.approx(24.5 * 9.9 / 150)
    s = control.tf("s")
    loop = (found.kp + found.ki / s) * found.gain / (1 + 0.12 * s)
    _, margin, _, crossover = control.margin(loop)
    assert crossover == pytest.approx(2 * np.pi * 2.0, rel=1e-3)
    assert margin == pytest.approx(90.0, abs=0.5)
    assert not found.findings
    bench = measured(inner="current", current1=0.2, current2=2.3)
    found = outer_loop(bench)
    j, kt = (bench.settled[t].values[n].value for t, n in (("mechanics", "inertia"), ("flux", "flux_linkage")))
    loop = (found.kp + found.ki / s) * found.gain * kt / (j * s)
    _, margin, _, crossover = control.margin(loop)
    assert crossover == pytest.approx(2 * np.pi * 2.0, rel=0.05)
    assert margin == pytest.approx(76.0, abs=1.0)  # atan 4, about


def test_what_was_opened_for_tuning_stays_an_open_point_until_it_is_put_back() -> None:
    def codes(bench: Bench) -> set[str]:
        return {f.code for f in open_points(bench)}

    assert "limits-opened" in codes(measured(limits="opened"))
    assert "limits-opened" not in codes(measured(limits="put-back"))
    assert {f.code for f in outer_loop(measured(most=8.0)).findings} == {"no-headroom"}
    assert {f.code for f in outer_loop(measured(trims="as-found", speed2=-149.45)).findings} >= {
        "trims-not-neutral",
        "inverted",
    }
    with pytest.raises(Refusal, match="nearly the same"):
        outer_loop(measured(command2=1.05))
    with pytest.raises(Refusal, match="not measured yet"):
        outer_loop(measured(speed2=None))
