"""No-load and blocked-rotor test by the procedure of IEEE Std 112, against a published worked example.

A. E. Fitzgerald, C. Kingsley, S. D. Umans, Electric Machinery, 6th ed., 2003, example 6.5 (figures from memory): 7.5 hp, 220 V, 19 A, 60 Hz, four
poles, design class C. No load 219 V, 5.70 A, 380 W at 60 Hz; blocked 26.5 V, 18.57 A, 675 W at 15 Hz; 0.262 Ω a phase. The book finds rotational
loss 354 W, X1 0.603 Ω, X2 1.41 Ω, Xm 21.2 Ω, R2 0.444 Ω at 60 Hz, taking the blocked reactance as X1 + X2 (without Xm beside it).
"""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.estimates import Estimate
from crisp_compass.identify.induction import fit_induction

R1, X1, X2, XM, R2 = 0.262, 0.603, 1.41, 21.2, 0.444


def _test(volts: float, amperes: float, watts: float, hertz: float) -> Capture:
    """Return a clean capture of the meters' readings: line voltage and current in rms, all three phases' power."""
    t = np.linspace(0, 0.6, 6000)
    behind = math.acos(watts / (math.sqrt(3) * volts * amperes))
    v, i = volts * math.sqrt(2 / 3), amperes * math.sqrt(2)
    phase = [2 * math.pi * hertz * t - k * 2 * math.pi / 3 for k in range(3)]
    va, vb, vc = (v * np.cos(p) for p in phase)
    columns = {
        "v_ab": va - vb,
        "v_bc": vb - vc,
        "i_a": i * np.cos(phase[0] - behind),
        "i_b": i * np.cos(phase[1] - behind),
    }
    rng = np.random.default_rng(1)
    columns = {n: x + 1e-4 * np.ptp(x) * rng.standard_normal(len(t)) for n, x in columns.items()}
    return Capture("worked", t, columns, {"family": "induction"})


def test_the_worked_example_comes_out() -> None:
    found = fit_induction(
        _test(219, 5.70, 380, 60), _test(26.5, 18.57, 675, 15), stator=Estimate.from_u(R1, "Ω", 0.0)
    ).estimates
    w = 2 * math.pi * 60
    # the book's T circuit as an inverse Γ: Lσ = L1 + L2·Lm/Lr, LM = Lm²/Lr, RR = (Lm/Lr)²·R2
    share = XM / (XM + X2)
    # the book takes the losses of the no-load test in series, here they lie beside the magnetizing branch: Q/(3·I²) against V²/Q, 3 % apart
    assert found["magnetizing_inductance"].value * w == pytest.approx(XM * share, rel=0.04)
    series = math.sqrt((219 / math.sqrt(3) / 5.70) ** 2 - (380 / 3 / 5.70**2) ** 2)
    beside = found["magnetizing_inductance"].value * w + found["leakage_inductance"].value * w
    assert beside == pytest.approx(219**2 / math.sqrt((math.sqrt(3) * 219 * 5.70) ** 2 - 380**2), rel=5e-3)
    assert series == pytest.approx(XM + X1, rel=5e-3)
    assert found["rotor_resistance"].value == pytest.approx(R2 * share**2, rel=0.01)
    assert found["leakage_inductance"].value * w == pytest.approx(
        X1 + X2 * share, rel=0.03
    )  # the book leaves Xm out here
    assert found["no_load_loss"].value == pytest.approx(354, rel=0.01)
    assert found["no_load_current"].value == pytest.approx(5.70 * math.sqrt(2), rel=1e-3)
