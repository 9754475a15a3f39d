"""Rotor angle and back-EMF: hand turning, pauses, reversals, uneven sampling, and what cannot be told."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.errors import Refusal
from crisp_compass.identify.emf import fit_emf
from makers import coast, turning

RATE = 4e3
T = np.arange(int(2.5 * RATE)) / RATE
MOTIONS = {
    "steady": np.full(len(T), 30.0),
    "uneven": 30 + 14 * np.sin(4 * T) + 6 * np.sin(17 * T + 1),
    "slow": np.full(len(T), 5.0),
    "pause": 25 * np.clip(np.sin(3.2 * T) + 0.35, 0, None),
    "reversal": 30 * np.sin(2 * math.pi * 0.6 * T),
    "backwards": -40 * np.exp(-0.6 * T),
}


def _angle(omega: np.ndarray) -> np.ndarray:
    return 0.7 + np.cumsum(omega) / RATE


@pytest.mark.thorough(each=3)
@pytest.mark.parametrize("name", MOTIONS)
@pytest.mark.parametrize("channels", [("v_ab", "v_bc"), ("v_bc", "v_ca"), ("v_a", "v_b", "v_c")])
def test_two_channels_follow_any_motion(name: str, channels: tuple[str, ...]) -> None:
    omega = MOTIONS[name]
    theta = _angle(omega)
    fit = fit_emf(T, turning(0.01, theta, omega, T, channels=channels, seed=3, noise=1e-3, fifth=0.03))
    found = np.interp(T, fit.time, fit.theta)
    moving = np.abs(omega) > 0.1 * np.max(np.abs(omega))
    error = np.degrees(np.angle(np.exp(1j * (found - theta))))[moving]
    assert fit.vectorial
    assert np.max(np.abs(error)) < 3.0
    assert np.sqrt(np.mean(error**2)) < 0.6
    np.testing.assert_allclose(fit.psi, 0.01, rtol=4e-3)
    assert np.max(np.abs(np.degrees(fit.phase_error))) < 1.0


@pytest.mark.parametrize("name", ["steady", "uneven", "backwards"])
def test_one_channel_follows_steady_turning(name: str) -> None:
    omega = MOTIONS[name]
    fit = fit_emf(T, turning(0.01, _angle(omega), omega, T, channels=("v_ab",), seed=3, noise=1e-3))
    np.testing.assert_allclose(fit.psi, 0.01, rtol=2e-3)
    assert not fit.vectorial


def test_one_channel_does_not_guess_at_a_reversal() -> None:
    omega = MOTIONS["reversal"]
    with pytest.raises(Refusal, match="one voltage does not tell how the shaft turned"):
        fit_emf(T, turning(0.01, _angle(omega), omega, T, channels=("v_ab",), seed=3))


def test_a_reversed_probe_shows_in_the_phases() -> None:
    omega = MOTIONS["steady"]
    voltages = turning(0.01, _angle(omega), omega, T, seed=3)
    voltages["v_bc"] = -voltages["v_bc"]
    fit = fit_emf(T, voltages)
    assert not fit.vectorial or np.max(np.abs(np.degrees(fit.phase_error))) > 20


def test_uneven_sampling_and_slow_sampling() -> None:
    rng = np.random.default_rng(0)
    t, _, _ = coast(80, 0.5, 4e3)
    uneven = np.sort(t + rng.uniform(-6e-5, 6e-5, len(t)))
    omega = 500 * np.exp(-uneven)
    theta = 500 * (1 - np.exp(-uneven))
    fit = fit_emf(uneven, turning(0.02, theta, omega, uneven, seed=1))
    np.testing.assert_allclose(fit.psi, 0.02, rtol=1e-3)
    sparse = slice(0, None, 8)  # about 6 samples an electrical turn
    fit = fit_emf(uneven[sparse], {k: v[sparse] for k, v in turning(0.02, theta, omega, uneven, seed=1).items()})
    np.testing.assert_allclose(fit.psi, 0.02, rtol=3e-3)


def test_many_samples_are_averaged_without_bias() -> None:
    t = np.arange(200_000) / 100e3
    omega = 60 * np.exp(-0.5 * t)
    theta = 120 * (1 - np.exp(-0.5 * t))
    fit = fit_emf(t, turning(0.01, theta, omega, t, seed=2, noise=5e-3))
    assert len(fit.time) < 50_000
    assert np.all(np.abs(fit.psi - 0.01) < 4 * fit.psi_u)
    assert np.max(fit.psi_u) < 1e-5
