"""Where the drive binds: the voltage limit, few samples a turn, delays, small L/R, loads that only brake.

References are closed forms of the R–L winding or SciPy's integrator; nothing here is computed by the plant's own rules.
"""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.loops.current import current_gains, limit_tracking
from crisp_compass.loops.speed import SpeedPlant, edge_delay, tune_speed
from crisp_compass.loops.speed_figures import lowest_speed
from crisp_compass.plant import state
from crisp_compass.plant.parameters import CURRENT, OFF, SPEED, Control, Drive, Inverter, Load, Machine, Sensing
from crisp_compass.plant.simulation import Simulation
from crisp_compass.sensing.sensor import HALLS
from steps_at_the_limit import full_voltage_time, random_steps

CLEAN = Sensing(full_scale=1e6)


def _held(machine: Machine, ts: float, volts: float, *, crossover: float = 0.0, inverter: Inverter | None = None, **change: float) -> Drive:  # fmt: skip
    """A drive at constant speed (a flywheel without end), its loop by pole cancellation."""
    f = crossover or 1 / ts / 20
    (kp_d, ki_d), (kp_q, ki_q) = (
        current_gains(machine.r, x, bandwidth_hz=f, delay=1.5 * ts) for x in (machine.ld, machine.lq)
    )
    control = Control(
        ts=ts, kp_d=kp_d, ki_d=ki_d, kp_q=kp_q, ki_q=ki_q, speed_divider=1, kp_speed=0, ki_speed=0, speed_filter=0, i_limit=1e9, i_trip=1e9, v_min=0, ramp=1, stall_time=10, decouple=1, ld=machine.ld, lq=machine.lq, psi=machine.psi, angle_offset=0.0,
        track_d=limit_tracking(kp_d, ki_d, ts, machine.r, machine.ld), track_q=limit_tracking(kp_q, ki_q, ts, machine.r, machine.lq),
    )._replace(**change)  # fmt: skip
    return Drive(
        machine,
        Load(1e12, 0, 0),
        inverter or Inverter(v_supply=volts, r_supply=0.0, dead_voltage=0.0, knee=0.1),
        CLEAN,
        control,
    )


def _turning(drive: Drive, omega: float, seed: int = 1) -> Simulation:
    sim = Simulation(drive, seed=seed)
    sim.state[state.OMEGA] = sim.state[state.SPEED_SEEN] = omega
    sim.command(CURRENT)
    sim.advance(60 * drive.control.ts)
    return sim


def test_large_steps_use_the_whole_voltage_and_do_not_overshoot() -> None:
    ratios, tops = [], []
    for machine, ts, bus, omega, step in random_steps(90, seed=3):
        sim = _turning(_held(machine, ts, bus), omega)
        sim.command(CURRENT, i_q=step)
        need = full_voltage_time(machine, bus / math.sqrt(3), omega, step)
        y = sim.advance(6 * need + 100 * ts)["i_q"]
        k = int(np.argmax(y >= 0.9 * step))
        assert y[k] >= 0.9 * step
        reached = (k - 1 + (0.9 * step - y[k - 1]) / (y[k] - y[k - 1])) * ts
        ratios.append((reached - ts) / need)  # the computing period passes first
        tops.append(float(np.max(y)) / step - 1)
    assert max(ratios) < 1.15
    assert max(tops) < 0.05


def test_the_example_that_crept() -> None:
    """0.5 Ω, 12 V, 5 A: full voltage needs (L/R)·ln(1/(1 − 0.9·5·R/V)); by hand, from the winding alone."""
    machine = Machine(0.5, 1e-3, 1e-3, 0.005, 2.0)
    sim = _turning(_held(machine, 5e-5, 12.0, crossover=1500), 0.0)
    sim.command(CURRENT, i_q=5.0)
    y = sim.advance(0.01)["i_q"]
    by_hand = 2e-3 * math.log(1 / (1 - 0.9 * 5 * 0.5 / (12 / math.sqrt(3))))
    assert int(np.argmax(y >= 4.5)) * 5e-5 < 1.15 * by_hand + 5e-5


@pytest.mark.parametrize("ratio", [0.05, 0.1, 0.3, 1.0, 20.0])
def test_short_windings_are_exact(ratio: float) -> None:
    """A turning winding with L/R of a twentieth of a period and more, under voltages held along A: SciPy, 0.5 %."""
    ts, r, psi, p, omega = 5e-5, 2.0, 2e-4, 2.0, 250.0
    machine = Machine(r, ratio * ts * r, 1.2 * ratio * ts * r, psi, p)
    sim = Simulation(_held(machine, ts, 24.0))
    sim.state[state.OMEGA] = omega
    sim.command(3, i_d=1.0)
    trace = sim.advance(60 * ts)
    we = p * omega

    def slope(t: float, i: np.ndarray) -> list[float]:
        v = 1.0 if t >= ts else 0.0
        vd, vq = v * math.cos(we * t), -v * math.sin(we * t)
        return [
            (vd - r * i[0] + we * machine.lq * i[1]) / machine.ld,
            (vq - r * i[1] - we * (machine.ld * i[0] + psi)) / machine.lq,
        ]

    start = [0.0, 0.0]
    for a, b in ((0.0, ts), (ts, 59 * ts)):
        ticks = trace["t"][(trace["t"] >= a - 1e-12) & (trace["t"] <= b + 1e-12)]
        found = solve_ivp(
            slope, (a, b + 1e-12), start, t_eval=np.clip(ticks, a, b), rtol=1e-10, atol=1e-13, max_step=ts / 4
        )
        start = list(found.y[:, -1])
    here = (trace["t"] >= ts - 1e-12) & (trace["t"] <= 59 * ts + 1e-12)
    for row, name in ((0, "i_d"), (1, "i_q")):
        np.testing.assert_allclose(trace[name][here], found.y[row], atol=0.005 * 0.5)


@pytest.mark.parametrize("samples", [40.0, 13.0, 8.0, 5.0, 3.0])
@pytest.mark.parametrize("delay", [0.5, 1.0, 1.5, 2.25, 4.0, 20.0])
def test_the_angle_leads_by_the_whole_delay_at_any_speed(samples: float, delay: float) -> None:
    """A fixed d–q voltage on a turning winding: the current of the stationary frame's closed form, whatever the delay."""
    ts, r, inductance, psi = 5e-5, 0.4, 1e-3, 0.004
    machine = Machine(r, inductance, inductance, psi, 2.0)
    omega = 2 * math.pi / (samples * ts) / 2
    drive = _held(machine, ts, 2000.0, delay_samples=delay)
    drive = drive._replace(control=drive.control._replace(kp_d=0.0, ki_d=0.0, kp_q=0.0, ki_q=0.0, decouple=0.0))
    sim = _turning(drive, omega)
    sim.state[[state.INT_D, state.INT_Q]] = -20.0, 30.0
    trace = sim.advance(0.05)
    # from one change of the held voltage to the next: the vector stands half a period's turn ahead of the frame
    we, a = 2 * omega, r / inductance
    volts = complex(-20.0, 30.0) * np.exp(0.5j * we * ts)

    def later(i: complex, span: float) -> complex:
        decay, turn = math.exp(-a * span), np.exp(1j * we * span)
        return decay * i + (1 - decay) / r * volts - 1j * we * psi / inductance * (turn - decay) / (a + 1j * we)

    rest = later(0.0, ts) / (np.exp(1j * we * ts) - math.exp(-a * ts))
    span = (1 - (delay - 0.5) % 1) * ts
    wanted = later(rest, span) * np.exp(-1j * we * span)
    assert abs(complex(trace["i_d"][-1], trace["i_q"][-1]) - wanted) < 0.005 * abs(wanted)


@pytest.mark.parametrize("delay", [0.5, 1.0, 1.7, 2.5, 3.25])
def test_the_delay_is_the_designs(delay: float) -> None:
    """The plant's step is python-control's: a fractional delay as a held input that changes within the period."""
    import control

    ts, r, inductance = 5e-5, 0.4, 1e-3
    kp, ki = current_gains(r, inductance, bandwidth_hz=700, delay=delay * ts)
    sim = Simulation(_held(Machine(r, inductance, inductance, 0.0, 1.0), ts, 1e6, crossover=700, delay_samples=delay))
    sim.command(CURRENT, i_q=1.0)
    found = sim.advance(60 * ts)["i_q"]
    fine = 20
    h = ts / fine
    plant = control.sample_system(control.ss([[-r / inductance]], [[1 / inductance]], [[1.0]], [[0.0]]), h)
    shift = round((delay - 0.5) * fine)
    a, b = float(plant.A[0, 0]), float(plant.B[0, 0])
    u, i, integral, exact = [0.0] * (shift + fine * 62), 0.0, 0.0, []
    for k in range(60):
        exact.append(i)
        integral += ki * ts * (1 - i)
        ask = kp * (1 - i) + integral
        for n in range(fine):
            u[k * fine + n + shift] = ask
        for n in range(fine):
            i = a * i + b * u[k * fine + n]
    np.testing.assert_allclose(found, exact, atol=2e-3)


def test_the_limit_is_what_the_modulator_leaves() -> None:
    machine = Machine(0.4, 1e-3, 1e-3, 0.004, 2.0)
    for share in (0.5, 0.4, 2 / math.pi):
        sim = _turning(_held(machine, 5e-5, 24.0, volts_per_bus=share), 0.0)
        sim.command(CURRENT, i_q=1000.0)
        trace = sim.advance(0.1)
        assert float(np.max(np.hypot(trace["v_d"], trace["v_q"]))) == pytest.approx(share * 24.0, rel=1e-9)
        assert trace["i_q"][-1] == pytest.approx(share * 24.0 / 0.4, rel=1e-3)


def test_dead_time_and_offsets_against_an_outside_integration() -> None:
    """One leg's loss ΔV·sign(i): the held q current settles where v − R·i − 4/3·ΔV·(share) = 0; an offset shows as current."""
    machine, ts = Machine(0.4, 1e-3, 1e-3, 0.0, 1.0), 5e-5
    drive = _held(machine, ts, 24.0, inverter=Inverter(v_supply=24.0, r_supply=0.0, dead_voltage=0.3, knee=0.05))
    sim = Simulation(drive)
    sim.command(3, i_d=2.0)
    i_d = sim.advance(0.2)["i_d"]

    def slope(t: float, i: np.ndarray) -> list[float]:
        legs = np.clip(np.array([1.0, -0.5, -0.5]) * i[0] / 0.05, -1, 1) * 0.3
        return [((2.0 if t >= ts else 0.0) - 0.4 * i[0] - (2 * legs[0] - legs[1] - legs[2]) / 3) / 1e-3]

    exact = solve_ivp(slope, (0, 0.02), [0.0], t_eval=np.arange(400) * ts, rtol=1e-9, atol=1e-11, max_step=ts / 3).y[
        0
    ]
    np.testing.assert_allclose(i_d[:400], exact, atol=0.01)
    assert i_d[-1] == pytest.approx((2.0 - 4 / 3 * 0.3) / 0.4, rel=1e-3)
    off = Simulation(
        drive._replace(
            sensing=CLEAN._replace(offset_a=0.2, offset_b=-0.1),
            inverter=Inverter(v_supply=24.0, r_supply=0.0, dead_voltage=0.0, knee=0.1),
        )
    )
    off.command(CURRENT, i_d=1.0, i_q=1.0)
    trace = off.advance(0.05)
    assert trace["i_d"][-1] == pytest.approx(1.0 - 0.2, abs=2e-3)
    assert trace["i_q"][-1] == pytest.approx(1.0 - (0.2 - 2 * 0.1) / math.sqrt(3), abs=2e-3)


def test_a_load_brakes_unless_it_drives() -> None:
    machine = Machine(0.4, 1e-3, 1e-3, 0.02, 4.0)
    control = _held(machine, 5e-5, 48.0).control._replace(
        speed_divider=10.0, kp_speed=0.2, ki_speed=4.0, i_limit=20.0, ramp=1e4, v_min=10.0
    )
    drive = Drive(
        machine,
        Load(2e-4, 1e-5, 2e-3),
        Inverter(v_supply=48.0, r_supply=0.0, dead_voltage=0.0, knee=0.1),
        CLEAN,
        control,
    )
    for sign in (1, -1):
        sim = Simulation(drive)
        sim.command(SPEED, speed=sign * 100.0)
        sim.advance(0.3)
        sim.set_load(0.1)
        torque = sim.advance(0.3)["torque"][-1]
        assert torque == pytest.approx(sign * (0.1 + 2e-3 + 1e-3), rel=0.02)  # it brakes both ways
        sim.command(OFF)
        sim.advance(1.0)
        assert sim.speed == 0.0  # and holds at rest
    sim.set_load(0.1, drives=True)
    sim.advance(0.1)
    assert sim.speed == pytest.approx(-(0.1 - 2e-3) / 2e-4 * 0.1, rel=0.01)


def test_a_speed_loop_designed_for_the_halls_edges_holds_a_few_radians_a_second() -> None:
    """At the lowest wanted speed the loop is calm on the plant; one that forgets the edges swings at the current limit."""
    machine, load = Machine(0.06, 45e-6, 45e-6, 2.1e-3, 6.0), Load(2.4e-5, 4e-6, 2.5e-3)
    kt, slowest, swings = 1.5 * 6 * 2.1e-3, 15.0, []
    for delay in (0.0, edge_delay(36, slowest)):
        design = tune_speed(
            inertia=load.inertia,
            kt=kt,
            viscous=load.viscous,
            loop_hz=2400,
            current_bandwidth_hz=1500,
            filter_hz=200,
            a=4.0,
            sensor_delay=delay,
        )
        control = _held(machine, 1 / 24e3, 24.0, crossover=1500).control._replace(
            speed_divider=10.0,
            kp_speed=design.kp,
            ki_speed=design.ki,
            speed_filter=2 * math.pi * 200,
            i_limit=20.0,
            ramp=300.0,
            stall_time=100.0,
        )
        sim = Simulation(
            Drive(
                machine,
                load,
                Inverter(v_supply=24.0, r_supply=0.0, dead_voltage=0.0, knee=0.1),
                CLEAN._replace(angle_sensor=float(HALLS)),
                control,
            )
        )
        sim.command(SPEED, speed=slowest)
        sim.advance(3.0)
        swings.append(float(np.std(sim.advance(1.0)["speed"])) / slowest)
    assert swings[0] > 0.5
    assert swings[1] < 0.15
    plant = SpeedPlant(load.inertia, kt, load.viscous, 2400, 1500, 200)
    assert lowest_speed(plant, design.kp, design.ki, 36) < slowest
