"""The brushed motor: plant against SciPy's integrator, energy, loops with and without a sensor."""

from __future__ import annotations

import math

import control
import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.entered import enter
from crisp_compass.course.drive import build_drive
from crisp_compass.course.open_points import open_points
from crisp_compass.course.outer_loop import outer_loop
from crisp_compass.course.speed_design import armature_droop, armature_findings, design_speed, filter_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.current import current_gains
from crisp_compass.loops.speed import ArmatureSensor, SpeedPlant, tune_speed
from crisp_compass.loops.speed_figures import relay_swing
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
from crisp_compass.sensing.sensor import ARMATURE
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


# ---- the speed told by the armature's voltage: the sampled design against the plant

R, L, KE, J, B = 0.93, 1.3e-3, 0.034, 2.9e-5, 7e-6


def on_armature_voltage(design_kp: float, ki: float, filter_hz: float, k: float, drop: float = 0.0) -> Simulation:
    kp_q, ki_q = current_gains(R, L, bandwidth_hz=900, delay=7.5e-5)
    figures = Control(
        ts=5e-5, kp_q=kp_q, ki_q=ki_q, kp_d=kp_q, ki_d=ki_q, kp_speed=design_kp, ki_speed=ki, speed_filter=2 * math.pi * filter_hz, ramp=1e9,
        psi=KE, lq=L, ld=L, r=R, compensation=k, volts_per_bus=1.0, i_limit=6.0 if drop else 1e9,
    )  # fmt: skip
    supply = Inverter(14.0 if drop else 1e4)
    sim = Simulation(Drive(Brushed(R, L, L, KE, drop), Load(J, B, 0.0), supply, Sensing(angle_sensor=float(ARMATURE)), figures))
    sim.command(SPEED, speed=60.0)
    sim.advance(3.0)
    return sim


@pytest.mark.parametrize(("a", "filter_hz", "k"), [(2, 20, 0.0), (2, 20, 0.8), (3, 60, 0.5), (6, 60, 0.0), (6, 150, 0.8)])
def test_overshoot_on_armature_voltage_is_what_the_plant_does(a: float, filter_hz: float, k: float) -> None:
    sensor = ArmatureSensor((1 - k) * R / KE, L / KE)
    design = tune_speed(
        inertia=J, kt=KE, viscous=B, loop_hz=2000, current_bandwidth_hz=900, filter_hz=filter_hz, a=a, armature=sensor
    )
    sim = on_armature_voltage(design.kp, design.ki, filter_hz, k)
    before = sim.speed
    sim.command(SPEED, speed=80.0)
    speed = sim.advance(0.6)["speed"]
    assert 100 * ((speed.max() - before) / (speed[-1] - before) - 1) == pytest.approx(design.overshoot_pct, abs=2.5)
    plain = tune_speed(inertia=J, kt=KE, viscous=B, loop_hz=2000, current_bandwidth_hz=900, filter_hz=filter_hz, a=a)
    assert abs(plain.overshoot_pct - design.overshoot_pct) > 2  # which leaves out what the sensor sees


def test_the_largest_filter_that_holds_holds_and_the_plant_swings_beyond() -> None:
    bench = load_bench(HATCH)
    held = enter(bench, "speed_loop", {"a": 3.0, "compensation": 0.5, "filter_hz": None})
    design = design_speed(held)
    assert (design.margins.stable, design.margins.gain_margin_db > 6, filter_of(held) < 60) == (True, True, True)
    assert {f.code: f.level for f in armature_findings(held, design)} == {"armature-limits": "info"}
    wide = design_speed(enter(held, "speed_loop", {"filter_hz": 300.0}))
    assert [f.code for f in wide.findings] == ["unstable"]
    full = design_speed(enter(held, "speed_loop", {"compensation": 0.8}))
    assert full.margins.phase_margin_deg != pytest.approx(design.margins.phase_margin_deg, abs=1)
    settled = {f: design_speed(enter(held, "speed_loop", {"filter_hz": f})) for f in (filter_of(held), 150.0)}
    swings = []
    for filter_hz, found in settled.items():
        sim = open_simulation(bench)
        c = sim.drive.control
        sim.retune(
            sim.drive._replace(
                control=c._replace(kp_speed=found.kp, ki_speed=found.ki, speed_filter=2 * math.pi * filter_hz, compensation=0.5)
            )
        )
        sim.command(SPEED, speed=100.0)
        sim.advance(2.0)
        swings.append(float(np.ptp(sim.advance(0.3)["i_q"])))
    assert (swings[0] < 0.3, swings[1] > 2.0) == (True, True)


def test_brushes_that_act_as_a_relay_are_told() -> None:
    for filter_hz, a, k, swings in ((110, 3, 0.8, True), (30, 3, 0.5, False)):
        plant = SpeedPlant(J, KE, B, 2000, 900, filter_hz, 0.0, ArmatureSensor((1 - k) * R / KE, L / KE, 0.5 / KE))
        design = tune_speed(
            inertia=J, kt=KE, viscous=B, loop_hz=2000, current_bandwidth_hz=900, filter_hz=filter_hz, a=a, armature=plant.armature
        )
        told = relay_swing(plant, design.kp, design.ki)
        seen = float(np.ptp(on_armature_voltage(design.kp, design.ki, filter_hz, k, 0.5).advance(0.3)["i_q"])) / 2
        assert (told > 0.5, seen > 0.5) == (swings, swings)
