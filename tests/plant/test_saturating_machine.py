"""The plant with saturating iron, against SciPy's integrator on the same curve, and against the estimator."""

from __future__ import annotations

import math

import numpy as np
import pytest
import scipy

from crisp_compass.errors import Refusal
from crisp_compass.plant.parameters import (
    ALIGN,
    Control,
    Inverter,
    Machine,
    check,
    locked_rotor,
)
from crisp_compass.plant.simulation import Simulation

MACHINE = Machine(0.4, 1.0e-3, 1.0e-3, 0.02, 4.0, 0.4, 5.0)


def _locked(machine: Machine) -> Simulation:
    control = Control(ts=2e-5, i_limit=1, ld=machine.ld, lq=machine.lq, psi=machine.psi)
    return Simulation(locked_rotor(machine, control, Inverter(48.0)))


@pytest.mark.parametrize("volts", [1.0, 4.0, 8.0])
def test_a_held_rotor_follows_the_curve(volts: float) -> None:
    """v = R·i + L(i)·di/dt with L(i) = L·(k + (1 − k)/(1 + (i/s)²)), solved by scipy.integrate to 1e-9."""
    sim = _locked(MACHINE)
    sim.command(ALIGN, i_d=volts)
    trace = sim.advance(0.012)
    k, s = MACHINE.saturated, MACHINE.i_sat

    def slope(_: float, i: np.ndarray) -> np.ndarray:
        return np.asarray((volts - MACHINE.r * i) / (MACHINE.ld * (k + (1 - k) / (1 + (i / s) ** 2))))

    t = trace["t"] - trace["t"][0]
    truth = scipy.integrate.solve_ivp(slope, (0, t[-1]), [0.0], t_eval=t, rtol=1e-9, atol=1e-9).y[0]
    shift = np.argmin([np.abs(np.interp(t, t + d, truth) - trace["i_d"])[20:-20].max() for d in (0.0, 2e-5, 4e-5)])
    moved = np.interp(t, t + (0.0, 2e-5, 4e-5)[shift], truth)
    assert np.abs(moved - trace["i_d"])[20:-20].max() < 2e-3 * truth.max()


def test_without_saturation_nothing_changes_and_with_it_current_rises_faster() -> None:
    plain = MACHINE._replace(saturated=1.0)
    linear, bent = _locked(plain), _locked(MACHINE)
    for sim in (linear, bent):
        sim.command(ALIGN, i_d=8.0)
    a, b = linear.advance(0.002)["i_d"], bent.advance(0.002)["i_d"]
    tau = plain.ld / plain.r
    t = 2e-5 * np.arange(1, len(a) + 1)
    exact = 8.0 / 0.4 * (1 - np.exp(-t / tau))
    assert np.abs(np.interp(t, t, a) - exact).max() < 0.35  # one period of delay at most
    assert b[-1] > 1.2 * a[-1]


@pytest.mark.parametrize("changes", [{"saturated": 0.0}, {"saturated": 1.5}, {"i_sat": 0.0}, {"saturated": math.nan}])
def test_curves_that_cannot_be_are_refused(changes: dict[str, float]) -> None:
    sim = _locked(MACHINE)
    with pytest.raises(Refusal, match="saturation curve"):
        check(sim.drive._replace(machine=MACHINE._replace(**changes)))
