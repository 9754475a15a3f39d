"""Estimators against general-purpose fits: NumPy, SciPy's ODR and curve_fit, and the Fourier transform.

The references know the simple case only (exact settling, one step, constant speed); there both must agree.
"""

from __future__ import annotations

import math
import warnings

import numpy as np
import pytest
from scipy.optimize import curve_fit

from crisp_compass.capture import Capture
from crisp_compass.estimates import Estimate, coverage_factor
from crisp_compass.identify.flux import fit_flux
from crisp_compass.identify.inductance import fit_inductance
from crisp_compass.identify.resistance import fit_resistance
from makers import digitise, staircase, turning


@pytest.mark.parametrize("seed", range(6))
def test_resistance_agrees_with_orthogonal_distance_regression(seed: int) -> None:
    capture = staircase(0.35, [-3, -2, -1, 1, 2, 3], seed=seed, tau=1e-3, noise=2e-3)
    found = fit_resistance(capture)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        from scipy import odr

        u = found.estimates["resistance"].u
        data = odr.RealData(found.current, found.voltage, sx=1e-3, sy=1e-3 * 0.7)  # type: ignore[call-overload]
        slope, base = odr.ODR(data, odr.unilinear).run().beta
    assert abs(found.estimates["resistance"].value - slope / 2) < u
    assert found.estimates["voltage_offset"].value == pytest.approx(base, abs=2 * found.estimates["voltage_offset"].u)


@pytest.mark.parametrize("seed", range(6))
def test_inductance_agrees_with_curve_fit_of_the_textbook_step(seed: int) -> None:
    """i(t) = V/(2R)·(1 − e^(−(t − t0)/τ)), the trigger exactly on a sample."""
    rng = np.random.default_rng(seed)
    r, inductance, volts = 0.6, 0.9e-3, 3.0
    tau = inductance / r
    t = np.arange(-40, 400) * tau / 60
    clean = np.where(t > 0, volts / (2 * r) * (1 - np.exp(-t / tau)), 0.0)
    i = digitise(clean, 4.0, 12, 1e-3, rng)
    v = digitise(np.where(t >= 0, volts, 0.0), 5.0, 12, 1e-3, rng)
    found = fit_inductance(Capture("c", t, {"v_ab": v, "i_a": i})).estimates
    (final, fitted_tau), covariance = curve_fit(
        lambda x, a, b: np.where(x > 0, a * (1 - np.exp(-np.maximum(x, 0) / b)), 0.0), t, i, p0=(2.0, 1e-3)
    )
    reference = fitted_tau * volts / final / 2
    assert found["inductance"].value == pytest.approx(reference, rel=8 * math.sqrt(covariance[1, 1]) / fitted_tau)  # type: ignore[arg-type]
    assert abs(found["inductance"].value - inductance) < 4 * found["inductance"].u
    assert abs(found["resistance"].value - r) < 4 * found["resistance"].u


@pytest.mark.parametrize("seed", range(4))
def test_flux_and_harmonics_agree_with_the_fourier_transform_at_constant_speed(seed: int) -> None:
    """Whole turns, so that every line of the spectrum is a bin: amplitude of v_ab is √3·ω·ψ, ratios as in the bins."""
    n, turns, f = 8192, 64, 50.0
    t = np.arange(n) / n * turns / f
    omega = np.full(n, 2 * math.pi * f)
    voltages = turning(0.013, omega * t, omega, t, channels=("v_ab",), seed=seed, fifth=0.04, seventh=0.02)
    spectrum = np.abs(np.fft.rfft(voltages["v_ab"])) * 2 / n
    found = fit_flux(Capture("c", t, voltages)).estimates
    psi = spectrum[turns] / (math.sqrt(3) * 2 * math.pi * f)
    assert found["flux_linkage"].value == pytest.approx(psi, rel=2e-4)
    for order in (5, 7):
        assert found[f"harmonic_{order}"].value == pytest.approx(spectrum[order * turns] / spectrum[turns], abs=3e-4)


def test_halls_agree_with_zero_crossings_at_constant_speed() -> None:
    """A sensor that switches where v_ab crosses zero upwards sits at θe = 330° of forward rotation (cos falls through 0)."""
    from crisp_compass.commutation.halls import read_halls

    t = np.arange(12000) / 12e3
    omega = np.full(len(t), 2 * math.pi * 7)
    theta = omega * t + 0.2
    columns = turning(0.01, theta, omega, t, noise=5e-4, offset=0.0, seed=1)
    a, b, c = (-np.sin(theta - k * 2 * math.pi / 3) for k in range(3))
    for k, wave in enumerate((a - b, b - c, c - a), 1):
        columns[f"hall_{k}"] = (wave > 0).astype(float)
    table = read_halls(Capture("h", t, columns))
    edges = sorted(s.from_deg for s in table.states.values())
    np.testing.assert_allclose(edges, [30, 90, 150, 210, 270, 330], atol=0.3)
    assert table.offset_deg == pytest.approx(30, abs=0.3)
    assert max(abs(e) for e in table.edge_errors_deg) < 0.3


@pytest.mark.parametrize(("dof", "k"), [(1, 12.71), (2, 4.30), (5, 2.57), (10, 2.23), (50, 2.01), (math.inf, 1.960)])
def test_coverage_factors_are_those_of_the_guide(dof: float, k: float) -> None:
    """JCGM 100:2008, table G.2, p = 95 %."""
    assert coverage_factor(dof) == pytest.approx(k, abs=0.006)
    estimate = Estimate.from_u(10.0, "V", 0.1, dof=dof)
    assert estimate.high - estimate.value == pytest.approx(0.1 * k, abs=1e-3)
