"""Magnet machine phase by phase: against the machine in its rotor's frame, SciPy, energy, and block commutation's textbook figures."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.block import high_leg, low_leg, step_of
from crisp_compass.plant.parameters import CURRENT, SPEED, Control, Drive, Inverter, Load, Machine, Sensing, Trapezoid
from crisp_compass.plant.simulation import Simulation, Trace

MOTOR = Trapezoid(0.11, 95e-6, 95e-6, 4.1e-3, 5.0)
#: A trapezoid flat over 120° (Fourier: 24/(π²·n²)·sin(n·π/6) over the fundamental's).
FLAT = MOTOR._replace(h3=0.2222, h5=0.04, h7=-0.0204)
TS = 5e-5
LOAD = Load(3e-5, 1e-5, 0.0)


def drive(machine: Trapezoid | Machine = MOTOR, load: Load = LOAD, **more: float) -> Drive:
    f = 2 * math.pi * 1200
    gains = {
        "kp_d": f * 95e-6,
        "ki_d": f * 0.11,
        "kp_q": f * 95e-6,
        "ki_q": f * 0.11,
        "psi": MOTOR.psi,
        "ld": 95e-6,
        "lq": 95e-6,
    }
    figures = {
        **gains,
        "kp_speed": 0.04,
        "ki_speed": 0.4,
        "i_limit": 30.0,
        "ramp": 8e3,
        "decouple": 1.0,
        "speed_filter": 2e3,
        **more,
    }
    return Drive(machine, load, Inverter(24.0), Sensing(), Control(ts=TS, **figures))  # type: ignore[arg-type]


def at_speed(machine: Trapezoid, omega: float, current: float, **more: float) -> Trace:
    """One shaft turn at a held speed with a constant current asked for."""
    sim = Simulation(drive(machine, Load(1e9, 0.0, 0.0), **more))
    sim.state[2] = omega
    sim.command(CURRENT, i_q=current)
    sim.advance(0.05)
    return sim.advance(2 * math.pi / omega)


def test_with_a_sine_it_is_the_machine_of_the_rotors_frame() -> None:
    ends = {}
    for machine in (MOTOR, Machine(0.11, 95e-6, 95e-6, 4.1e-3, 5.0)):
        sim = Simulation(drive(machine))
        sim.command(SPEED, speed=300.0)
        sim.advance(0.15)
        sim.set_load(0.2)
        ends[type(machine)] = sim.advance(0.15)
    a, b = ends[Trapezoid], ends[Machine]
    assert a["speed"] == pytest.approx(b["speed"], abs=0.3)
    assert float(np.mean(a["i_q"][-500:])) == pytest.approx(float(np.mean(b["i_q"][-500:])), rel=2e-3)


def test_the_legs_of_each_step_make_the_vector_nearest_to_90_degrees_ahead() -> None:
    axes = np.exp(2j * np.pi * np.arange(3) / 3)
    for angle in np.radians(np.arange(0.5, 360, 7.0)):
        step = step_of(float(angle))
        vector = axes[high_leg(step)] - axes[low_leg(step)]
        assert abs(np.angle(vector * np.exp(-1j * (angle + np.pi / 2)))) <= math.radians(30) + 1e-9


@pytest.mark.thorough
def test_a_start_is_what_scipy_integrates_of_three_phases_with_diodes() -> None:
    """Full voltage on two phases, switched on by the rotor's angle; the third conducts through a diode until its current is gone."""
    m, volts = FLAT, 9.0

    def emf(theta: float) -> FloatArray:
        x = theta - 2 * np.pi * np.arange(3) / 3
        return np.asarray(
            -m.pole_pairs * m.psi * (np.sin(x) + m.h3 * np.sin(3 * x) + m.h5 * np.sin(5 * x) + m.h7 * np.sin(7 * x))
        )

    def slope(_: float, y: FloatArray) -> list[float]:
        i, w, theta = y[:3], y[3], y[4]
        step = step_of(m.pole_pairs * theta)
        high, low = high_leg(step), low_leg(step)
        off, k = 3 - high - low, emf(m.pole_pairs * theta)
        v = np.zeros(3)
        v[high] = volts
        diode = abs(i[off]) > 1e-3
        v[off] = 0.0 if i[off] > 0 else 24.0
        u, change = v - k * w, np.zeros(3)
        if diode:
            change = (u - np.mean(u) - m.r * i) / m.lq
        else:
            rate = (u[high] - u[low] - m.r * (i[high] - i[low])) / (2 * m.lq)
            change[high], change[low], change[off] = rate, -rate, -i[off] / 1e-6
        torque = float(k @ i)
        return [*change, (torque - LOAD.viscous * w) / LOAD.inertia, w]

    truth = solve_ivp(slope, (0, 0.02), [0.0] * 5, rtol=1e-8, atol=1e-8, max_step=2e-6, dense_output=True)
    assert truth.sol is not None
    sim = Simulation(drive(FLAT, block=1.0, kp_q=0.0, ki_q=0.0)._replace(
        control=Control(ts=2e-6, block=1.0, delay_samples=0.5, kp_q=1e6, i_limit=1e9), inverter=Inverter(24.0)))  # fmt: skip
    # a proportional gain without end holds the limit: half the bus a phase; the test's supply is what gives 9 V over the pair
    sim.set_supply(9.0)
    sim.state[16] = 9.0
    sim.command(CURRENT, i_q=1e3)
    trace = sim.advance(0.02)
    y = truth.sol(trace["t"])
    assert trace["speed"] == pytest.approx(y[3], abs=0.02 * float(np.max(y[3])))


def test_torque_per_ampere_ripple_and_overlap() -> None:
    """Sine: mean 3√3/π·p·ψ per DC ampere, ripple 14 % peak to peak (textbook: cos ±30°); a flat trapezoid 2·p·ψ_flat, hardly any."""
    p, current = MOTOR.pole_pairs, 8.0
    sine = at_speed(MOTOR, 8.0, current, block=1.0)["torque"]
    assert float(np.mean(sine)) == pytest.approx(3 * math.sqrt(3) / math.pi * p * MOTOR.psi * current, rel=0.01)
    low, high = np.percentile(sine, (3, 97))
    assert (high - low) / float(np.mean(sine)) == pytest.approx(0.14, abs=0.02)
    flat = at_speed(FLAT, 8.0, current, block=1.0)["torque"]
    height = 1 - FLAT.h3 + FLAT.h5 - FLAT.h7  # at the middle of the flat
    assert float(np.mean(flat)) == pytest.approx(2 * p * MOTOR.psi * height * current, rel=0.03)
    low, high = np.percentile(flat, (5, 95))
    assert (high - low) / float(np.mean(flat)) < 0.09
    fast = at_speed(FLAT, 300.0, current, block=1.0)
    three = np.mean((np.abs(np.stack([fast[f"i_{k}"] for k in "abc"])) > 0.05).all(axis=0))
    slow = at_speed(FLAT, 8.0, current, block=1.0)
    assert three > 3 * np.mean((np.abs(np.stack([slow[f"i_{k}"] for k in "abc"])) > 0.05).all(axis=0))


def test_energy_adds_up() -> None:
    sim = Simulation(drive(FLAT, Load(3e-5, 1e-5, 0.01), block=1.0, delay_samples=0.5)._replace(
        control=Control(ts=1e-6, block=1.0, delay_samples=0.5, kp_q=1e6, i_limit=1e9)))  # fmt: skip
    sim.set_supply(9.0)
    sim.state[16] = 9.0
    sim.command(CURRENT, i_q=1e3)
    trace = sim.advance(0.0025)  # one step of six: high and low leg stay
    i, w, t = np.stack([trace[f"i_{k}"] for k in "abc"]), trace["speed"], trace["t"]
    inside = np.flatnonzero(t < t[-1])
    given = np.trapezoid(9.0 * i[high_leg(1)][inside], t[inside])
    heat = np.trapezoid(FLAT.r * np.sum(i**2, axis=0)[inside], t[inside])
    rubbed = np.trapezoid((1e-5 * w**2 + 0.01 * w)[inside], t[inside])
    last = inside[-1]
    kept = 0.5 * FLAT.lq * float(np.sum(i[:, last] ** 2)) + 0.5 * 3e-5 * w[last] ** 2
    assert FLAT.pole_pairs * trace["angle"][-1] < math.radians(30)
    assert given == pytest.approx(heat + rubbed + kept, rel=1e-6)


def test_block_commutation_runs_with_halls_and_advance_lifts_the_speed_it_reaches() -> None:
    reached = {}
    for degrees in (0.0, 30.0):
        sim = Simulation(drive(FLAT, Load(3e-5, 1e-5, 0.0), block=1.0, advance=math.radians(degrees))._replace(
            sensing=Sensing(angle_sensor=1.0)))  # fmt: skip
        sim.command(SPEED, speed=900.0)
        sim.advance(0.6)
        sim.set_load(0.6)
        sim.advance(0.5)
        reached[degrees] = float(np.mean(sim.advance(0.1)["speed"]))
    assert 300 < reached[0.0] < 900
    assert reached[30.0] > 1.04 * reached[0.0]
