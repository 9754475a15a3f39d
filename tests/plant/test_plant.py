"""The compiled plant: against SciPy's integrator, in chunks, at rest, and its latching faults."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.errors import Refusal
from crisp_compass.plant import state
from crisp_compass.plant.bench_tests import back_emf, coast
from crisp_compass.plant.parameters import ALIGN, CURRENT, SPEED, Control, Drive, Inverter, Load, Machine, Sensing
from crisp_compass.plant.simulation import Simulation, join
from crisp_compass.sensing.sensor import ENCODER, HALLS

MACHINE = Machine(0.41, 0.98e-3, 1.21e-3, 0.0168, 7.0)
LOAD = Load(1.9e-4, 1.6e-4, 9e-3)
CONTROL = Control(
    ts=5e-5,
    kp_d=7.4,
    ki_d=3100.0,
    kp_q=9.1,
    ki_q=3100.0,
    speed_divider=10,
    kp_speed=0.2,
    ki_speed=8.0,
    speed_filter=2500.0,
    i_limit=8.0,
    i_trip=14.0,
    v_min=30.0,
    ramp=1500.0,
    stall_time=0.3,
    decouple=1.0,
    ld=0.98e-3,
    lq=1.21e-3,
    psi=0.0168,
    angle_offset=0.0,
)
CLEAN = Sensing(full_scale=1e6)


def _drive(sensing: Sensing = CLEAN, *, load: Load = LOAD, inverter: Inverter | None = None) -> Drive:
    return Drive(
        MACHINE, load, inverter or Inverter(v_supply=48.0, r_supply=0.0, dead_voltage=0.0, knee=0.1), sensing, CONTROL
    )


def test_free_machine_agrees_with_scipy() -> None:
    """A voltage held along A pulls the free rotor in: the salient dq equations by an adaptive integrator."""
    m, load = MACHINE, LOAD._replace(coulomb=0.0)

    def slope(_: float, x: np.ndarray) -> list[float]:
        i_d, i_q, w, th = x
        we, te = m.pole_pairs * w, m.pole_pairs * th
        vd, vq = 1.5 * math.cos(te), -1.5 * math.sin(te)
        torque = 1.5 * m.pole_pairs * (m.psi * i_q + (m.ld - m.lq) * i_d * i_q)
        return [
            (vd - m.r * i_d + we * m.lq * i_q) / m.ld,
            (vq - m.r * i_q - we * (m.ld * i_d + m.psi)) / m.lq,
            (torque - load.viscous * w) / load.inertia,
            w,
        ]

    sim = Simulation(_drive(load=load))
    sim.state[state.THETA] = 0.2
    sim.state[state.V_ALPHA] = 1.5  # the voltage computed one period earlier
    sim.command(ALIGN, i_d=1.5)
    trace = sim.advance(0.05)
    exact = solve_ivp(slope, (0, 0.05), [0, 0, 0, 0.2], t_eval=trace["t"], rtol=1e-9, atol=1e-10).y
    for row, name, size in ((0, "i_d", 3.0), (1, "i_q", 3.0), (2, "speed", 50.0), (3, "angle", 0.3)):
        np.testing.assert_allclose(trace[name], exact[row], atol=2e-3 * size)


def test_chunks_do_not_change_the_run() -> None:
    noisy = CLEAN._replace(noise=0.02, step=0.01, counts_per_rev=4096.0)
    whole, parts = Simulation(_drive(noisy), seed=5), Simulation(_drive(noisy), seed=5)
    for sim in (whole, parts):
        sim.command(SPEED, speed=100.0)
    one = whole.advance(0.2)
    many = join([parts.advance(0.02) for _ in range(10)])
    for name in ("speed", "i_q", "v_q"):
        np.testing.assert_array_equal(one[name], many[name])
    again = Simulation(_drive(noisy), seed=6)
    again.command(SPEED, speed=100.0)
    assert not np.array_equal(again.advance(0.2)["i_q"], one["i_q"])


@pytest.mark.parametrize("sensor", [ENCODER, HALLS])
@pytest.mark.parametrize("target", [150.0, -150.0])
def test_speed_is_held_under_load_and_power_balances(sensor: int, target: float) -> None:
    sim = Simulation(_drive(CLEAN._replace(angle_sensor=float(sensor), counts_per_rev=8192.0)))
    sim.command(SPEED, speed=target)
    sim.advance(0.6)
    sim.set_load(0.3 * math.copysign(1, target))
    sim.advance(0.4)
    trace = sim.advance(0.1)
    assert float(np.mean(trace["speed"])) == pytest.approx(target, rel=5e-3)
    electrical = 1.5 * np.mean(trace["v_d"] * trace["i_d"] + trace["v_q"] * trace["i_q"])
    copper = 1.5 * MACHINE.r * np.mean(trace["i_d"] ** 2 + trace["i_q"] ** 2)
    shaft = np.mean(trace["torque"] * trace["speed"])
    assert electrical == pytest.approx(copper + shaft, rel=0.02)
    friction = LOAD.viscous * abs(target) + LOAD.coulomb
    assert float(np.mean(trace["torque"])) == pytest.approx(math.copysign(0.3 + friction, target), rel=0.02)


def test_current_step_matches_the_sampled_loop() -> None:
    """The kernel's firmware and the linear design are the same loop: pure delay of one period and the hold."""
    from crisp_compass.loops.current import axis_loop

    sim = Simulation(_drive(load=Load(1e6, 0, 0)))
    sim.command(CURRENT, i_q=1.0)
    found = sim.advance(0.002)["i_q"]
    linear = axis_loop(MACHINE.r, MACHINE.lq, CONTROL.kp_q, CONTROL.ki_q, 20e3, 1.5).step(len(found))
    np.testing.assert_allclose(found, linear, atol=4e-3)


def test_coulomb_friction_holds_at_rest_and_stops_a_coast() -> None:
    sim = Simulation(_drive())
    sim.set_load(0.5 * LOAD.coulomb)
    assert sim.advance(0.2)["speed"].max() == 0.0
    sim.set_load(0.0)
    sim.state[state.OMEGA] = 5.0
    sim.advance(1.0)
    assert sim.speed == 0.0
    t, _, omega = coast(MACHINE, LOAD, 100.0, 0.5, 1e-4)
    sim.state[state.OMEGA] = 100.0
    np.testing.assert_allclose(sim.advance(0.5, every=2)["speed"], omega[: len(t)], rtol=2e-3, atol=0.05)


def test_faults_latch_until_acknowledged() -> None:
    cases = {
        "over-current": {"load": 0.0, "supply": 48.0, "i_q": 20.0},
        "under-voltage": {"load": 0.0, "supply": 20.0, "i_q": 1.0},
    }
    for name, case in cases.items():
        sim = Simulation(_drive(load=Load(1e6, 0, 0)))
        sim.command(CURRENT, i_q=case["i_q"])
        sim.set_supply(case["supply"])
        sim.advance(0.05)
        assert sim.fault == name
        sim.set_supply(48.0)
        sim.command(CURRENT, i_q=1.0)
        assert sim.advance(0.02)["i_q"][-1] == 0.0  # off while the fault stands
        sim.acknowledge()
        sim.command(CURRENT, i_q=1.0)
        assert sim.advance(0.02)["i_q"][-1] == pytest.approx(1.0, abs=0.02)
    stuck = Simulation(_drive(load=LOAD._replace(coulomb=10.0)))
    stuck.command(SPEED, speed=100.0)
    stuck.advance(1.0)
    assert stuck.fault == "stall"


def test_back_emf_sign_convention() -> None:
    """v_ab = −√3·ω·ψ·cos(θe − 60°) of an open, turning motor."""
    theta = np.linspace(0, 6, 50)
    v = back_emf(MACHINE, theta, np.full(50, 10.0))
    np.testing.assert_allclose(
        v["v_ab"], -math.sqrt(3) * 7 * 10 * MACHINE.psi * np.cos(theta - math.pi / 3), atol=1e-12
    )
    np.testing.assert_allclose(v["v_ab"] + v["v_bc"] + v["v_ca"], 0, atol=1e-12)


def test_an_impossible_drive_is_refused() -> None:
    with pytest.raises(Refusal, match="inertia of the simulated drive is 0"):
        Simulation(_drive(load=Load(0.0, 0, 0)))
