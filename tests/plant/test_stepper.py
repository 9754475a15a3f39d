"""The two-phase stepper: plant against SciPy's integrator and textbook torque, stepping, bridges."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.bench import load_bench
from crisp_compass.bench.entered import enter
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.course import sections_of
from crisp_compass.course.drive import build_drive
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.estimates import FloatArray
from crisp_compass.modulation.full_bridge import Decay, leg_duties, winding_ripple
from crisp_compass.plant import state
from crisp_compass.plant.control.stepping import table_angle
from crisp_compass.plant.parameters import ALIGN, SPEED, STEP, Control, Drive, Inverter, Load, Machine, Sensing
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.scenarios import open_simulation
from crisp_compass.studies.stepping import pull_out, reaches, shaking, step_motor, stepping_outlook

CAROUSEL = "demo/carousel/carousel.bench.json"
MOTOR = Machine(1.3, 2.1e-3, 2.5e-3, 4.6e-3, 50.0, torque_factor=1.0, detent=0.011)
LOAD = Load(2.4e-5, 3e-4, 0.0)


def drive(*, microsteps: float = 16.0, load: Load = LOAD, machine: Machine = MOTOR, volts: float = 30.0) -> Drive:
    gains = {f"{k}_{a}": 2 * math.pi * 900 * x for k, x in (("kp", machine.ld), ("ki", machine.r)) for a in "dq"}
    control = Control(ts=4e-5, ramp=300.0, microsteps=microsteps, volts_per_bus=1.0, **gains)
    return Drive(machine, load, Inverter(volts), Sensing(), control)


def test_the_rotor_swings_as_scipy_integrates_the_windings_themselves() -> None:
    """Own windings A and B, saliency as L(2θ), detent by its energy; a voltage is switched onto A with the rotor at 40°."""
    m, volts = MOTOR, 2.6
    mean, swing = 0.5 * (m.ld + m.lq), 0.5 * (m.ld - m.lq)

    def slope(_: float, y: FloatArray) -> list[float]:
        i_a, i_b, w, theta = y
        c2, s2 = math.cos(2 * theta), math.sin(2 * theta)
        inductance = np.array([[mean + swing * c2, swing * s2], [swing * s2, mean - swing * c2]])
        turned = 2 * swing * np.array([[-s2, c2], [c2, s2]])
        magnet = m.psi * np.array([-math.sin(theta), math.cos(theta)])
        i = np.array([i_a, i_b])
        we = m.pole_pairs * w
        change = np.linalg.solve(inductance, np.array([volts, 0.0]) - m.r * i - we * (turned @ i + magnet))
        torque = m.pole_pairs * (0.5 * i @ turned @ i + magnet @ i) - m.detent * math.sin(4 * theta)
        return [change[0], change[1], (torque - LOAD.viscous * w) / LOAD.inertia, we]

    start = math.radians(40)
    truth = solve_ivp(slope, (0, 0.03), [0.0, 0.0, 0.0, start], rtol=1e-9, atol=1e-10, dense_output=True)
    sim = Simulation(drive()._replace(control=Control(ts=1e-5, delay_samples=0.5)))
    sim.state[state.THETA] = start / m.pole_pairs
    sim.command(ALIGN, i_d=volts)
    trace = sim.advance(0.03)
    assert truth.sol is not None
    i_a, _, w, theta = truth.sol(trace["t"])
    assert trace["i_a"] == pytest.approx(i_a, abs=5e-4 * float(np.max(np.abs(i_a))))
    assert trace["theta_e"] == pytest.approx(theta, abs=5e-4)
    assert trace["speed"] == pytest.approx(w, abs=2e-3 * float(np.max(np.abs(w))))
    assert not trace["i_c"].any()


def test_energy_of_supply_copper_friction_and_motion_adds_up() -> None:
    sim = Simulation(drive()._replace(control=Control(ts=2e-6, delay_samples=0.5)))
    m = MOTOR
    sim.state[state.THETA] = math.radians(60) / m.pole_pairs
    sim.command(ALIGN, i_d=4.0)
    trace = sim.advance(0.012)
    t, i_d, i_q, w = trace["t"], trace["i_d"], trace["i_q"], trace["speed"]
    given = np.trapezoid(4.0 * trace["i_a"], t)
    copper = np.trapezoid(m.r * (i_d**2 + i_q**2), t)
    rubbed = np.trapezoid(LOAD.viscous * w**2, t)
    magnetic = 0.5 * (m.ld * i_d[-1] ** 2 + m.lq * i_q[-1] ** 2)
    theta = trace["theta_e"]
    detent = -m.detent / 4 / m.pole_pairs * (math.cos(4 * theta[-1]) - math.cos(4 * theta[0]))
    moving = 0.5 * LOAD.inertia * w[-1] ** 2
    assert given == pytest.approx(copper + rubbed + magnetic + detent + moving, rel=1e-6)


@pytest.mark.parametrize(("lag_deg", "share"), [(90, 1.0), (30, 0.5), (-90, -1.0)])
def test_static_torque_is_the_sine_of_the_angle_to_the_held_field(lag_deg: float, share: float) -> None:
    """T = p·ψ·I·sin δ (textbook single-harmonic torque curve)."""
    held = drive(load=Load(1e12, 0, 0), machine=MOTOR._replace(detent=0.0, lq=MOTOR.ld), microsteps=0.0)
    sim = Simulation(held)
    sim.state[state.THETA] = -math.radians(lag_deg) / MOTOR.pole_pairs
    sim.command(STEP, i_d=2.0)
    sim.advance(0.05)
    assert sim.state[state.TORQUE] == pytest.approx(share * 50 * MOTOR.psi * 2.0, rel=1e-3)


def test_the_table_has_whole_entries_with_peak_root_two_of_rms() -> None:
    for microsteps in (2.0, 8.0, 256.0):
        entries = {
            round(table_angle(x, microsteps) / (math.pi / 2 / microsteps), 6) for x in np.linspace(0, 6.28, 5000)
        }
        assert all(e == round(e) for e in entries)
        assert len(entries) >= 4 * microsteps
    full = [table_angle(x, 1.0) for x in (0.1, 1.7)]  # full steps: both windings on
    assert np.degrees(full) == pytest.approx([45, 135])
    # one microstep of a table of n moves the load-free rotor by 1/n step; of a loaded one, sin(90°/n) of the torque is there
    assert math.sin(math.pi / 2 / 16) == pytest.approx(0.098, abs=1e-3)


def test_it_follows_slowly_falls_out_by_physics_and_never_beyond_what_the_supply_allows() -> None:
    d, current = drive(load=LOAD._replace(coulomb=4e-3)), 2.4
    most = 50 * MOTOR.psi * current
    slow, fast = (pull_out(d, current, w) for w in (4.0, 90.0))
    assert slow == pytest.approx(most, rel=0.06)
    assert 0 < fast < 0.8 * most
    limit = step_motor(MOTOR).most_torque(current, 30.0, np.array([4.0, 90.0]))
    assert fast < 1.05 * limit[1]
    assert reaches(d, current, 90.0)
    assert not reaches(d._replace(control=d.control._replace(ramp=4e4)), current, 90.0)  # no ramp: it stays behind
    assert pull_out(d, 0.5 * current, 4.0) == pytest.approx(0.5 * most, rel=0.1)  # half the current, half the torque


@pytest.mark.thorough
def test_speeds_beyond_a_resonance_are_judged_on_their_own() -> None:
    bench = load_bench(CAROUSEL)
    found = stepping_outlook(enter(bench, "stepping", {"current": 2.4, "microsteps": 1, "ramp": 30.0}))
    # full steps excite the rotor at its own frequency: it cannot stay there, and gives most of its torque beyond
    step_rate = 4 * bench.settings.plate.pole_pairs * found.speed / (2 * math.pi)  # type: ignore[operator]
    lost = [k for a, b in found.bands(kept=False) for k in range(a, b + 1)]
    assert lost
    own = found.resonance / (2 * math.pi)
    assert all(0.5 * own < step_rate[k] < 1.5 * own for k in lost)
    assert found.useful is not None
    first, last = found.useful
    assert lost[-1] < first
    assert found.pull_out[first : last + 1].min() > 0.4 * found.holding
    assert found.first_unreached == found.speed[first]  # a slow ramp stays in the resonance for too long, a quick one passes it
    assert stepping_outlook(enter(bench, "stepping", {"current": 2.4, "microsteps": 1, "ramp": 200.0})).first_unreached is None
    smooth = stepping_outlook(enter(bench, "stepping", {"current": 2.4, "microsteps": 64}))
    assert smooth.first_unreached is None
    assert smooth.useful == (0, len(smooth.speed) - 1)


@pytest.mark.parametrize("decay", ["slow", "fast"])
def test_ripple_is_what_the_switched_winding_does(decay: Decay) -> None:
    """Against a brute-force integration of the switched voltage over one period, resistance aside."""
    bus, inductance, hertz = 36.0, 2.4e-3, 25e3
    for volts in (0.0, 7.0, -18.0, 33.0):
        legs = leg_duties([volts], bus, decay)[0]
        carrier = np.abs((np.linspace(0, 1, 200_001)[:-1] + 0.5) % 1 * 2 - 1)
        one, other = (legs[0] > carrier).astype(float), (legs[1] > carrier).astype(float)
        seen = bus * (one - (other if decay == "slow" else 1 - one))  # with fast decay the legs are opposites
        assert np.mean(seen) == pytest.approx(volts, abs=0.01)
        current = np.cumsum(seen - np.mean(seen)) / (200_000 * hertz * inductance)
        expected = winding_ripple([volts], bus, inductance, hertz, decay)[0]
        assert np.ptp(current) == pytest.approx(expected, rel=0.01, abs=1e-4)


def test_the_carousel_runs_under_field_orientation_with_the_square_behind_it() -> None:
    bench = load_bench(CAROUSEL)
    found = build_drive(bench)
    assert found.machine.torque_factor == 1.0
    assert found.control.volts_per_bus == pytest.approx(1.0)  # a circle inside the square of ±Vdc
    sim = open_simulation(bench)
    sim.command(SPEED, speed=25.0)
    sim.advance(0.4)
    assert sim.speed == pytest.approx(25.0, rel=0.02)
    sim.set_load(0.2)
    trace = sim.advance(0.4)
    assert float(np.mean(trace["speed"][-2000:])) == pytest.approx(25.0, rel=0.02)
    kt = 50 * found.machine.psi  # p·ψ, not 1.5·p·ψ
    drag = 0.2 + found.load.coulomb + found.load.viscous * 25.0
    assert float(np.mean(trace["i_q"][-2000:])) == pytest.approx(drag / kt, rel=0.05)
    assert {"Lead orders", "Hand turn", "Pole search"}.isdisjoint(sections_of(bench, BY_KEY["commutation"]))


def test_decay_reaches_the_plant_and_the_voltage() -> None:
    """Fast decay switches both legs of a winding: twice the dead-time loss, in the plan and in the plant."""
    bench = load_bench(CAROUSEL)
    fast = enter(bench, "pwm", {"decay": "fast"})
    lost = [36.0 - usable_voltage(b, planned=True).motor for b in (bench, fast)]
    assert lost[1] == pytest.approx(2 * lost[0])
    unsettled = bench.model_copy(update={"settled": {**bench.settled, "pwm": bench.settled["pwm"]}})
    standing = fast.model_copy(update={"settled": {k: v.model_copy(update={"settings": {}}) if k == "pwm" else v for k, v in unsettled.settled.items()}})  # fmt: skip
    assert build_drive(standing).inverter.dead_voltage == pytest.approx(2 * build_drive(bench).inverter.dead_voltage)


def test_full_steps_shake_the_rotor_most_at_its_own_frequency_and_fine_ones_hardly() -> None:
    """Textbook: √(p·T/J)/2π steps a second; here p·T = 50·(holding torque) of the plant's own motor."""
    calm = Load(2.4e-5, 2e-3, 0.0)
    current = 1.0
    smooth = MOTOR._replace(detent=0.0)  # the detent pulls four times an electrical turn, as full steps do
    d = drive(microsteps=1.0, load=calm, machine=smooth)
    holding = MOTOR.pole_pairs * MOTOR.psi * current
    own = math.sqrt(MOTOR.pole_pairs * holding / calm.inertia) / (2 * math.pi)  # Hz, and steps a second
    step = math.pi / 2 / MOTOR.pole_pairs
    at, above = (shaking(d, current, k * own * step) for k in (1.0, 4.0))
    assert at > 4 * above
    assert shaking(drive(microsteps=64.0, load=calm, machine=smooth), current, own * step) < 0.1 * at
