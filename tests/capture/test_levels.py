"""Plateaus, noise, converter step and clipping, on made signals with exact answers."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.capture.levels import find_levels
from crisp_compass.capture.quality import noise, pile_up, quantum, settled_mean_u, undithered_variance
from crisp_compass.errors import Refusal
from makers import digitise

RNG = np.random.default_rng(7)


def _stairs(levels: list[float], count: int, tau: float = 0.0) -> np.ndarray:
    """Steps with an exponential approach; tau in samples."""
    target = np.repeat(levels, count).astype(float)
    if not tau:
        return target
    out, x = np.empty(len(target)), levels[0]
    for k, goal in enumerate(target):
        x += (goal - x) * (1 - math.exp(-1 / tau))
        out[k] = x
    return out


@pytest.mark.parametrize("count", [8, 60, 5000])
@pytest.mark.parametrize("levels", [[1, 2, 3, 4], [3, -1, 2, 0.5, 4], [0, 5, 0, 5, 0]])
def test_every_plateau_is_found_once_and_its_mean_is_right(count: int, levels: list[float]) -> None:
    clean = _stairs(levels, count)
    noisy = [clean + 0.01 * RNG.standard_normal(len(clean)), 2 * clean + 0.02 * RNG.standard_normal(len(clean))]
    found = find_levels(noisy)
    assert len(found.first) == len(levels)
    assert np.max(np.abs(found.means[:, 0] - levels) / np.maximum(found.u[:, 0], 1e-9)) < 4.5
    assert all(
        k * count <= a < b <= (k + 1) * count for k, (a, b) in enumerate(zip(found.first, found.last, strict=True))
    )


@pytest.mark.parametrize("tau", [20.0, 45.0])
def test_settling_is_left_out_or_taken_into_account(tau: float) -> None:
    clean = _stairs([0, 4, 1, 3], 400, tau)
    steps = np.repeat([0, 4, 1, 3], 400).astype(float)
    found = find_levels([steps + 1e-3 * RNG.standard_normal(1600), clean + 1e-3 * RNG.standard_normal(1600)])
    error = np.abs(found.means[:, 1] - [0, 4, 1, 3])
    assert np.max(error / found.u[:, 1]) < 4.5
    assert np.max(error) < 5e-3


def test_noise_is_measured_on_steps_and_slopes() -> None:
    t = np.arange(4000) / 4000
    for signal in (np.zeros(4000), 50 * t, _stairs([0, 3, 1, 4], 1000), 2 * np.sin(6 * t)):
        assert noise(signal + 0.05 * RNG.standard_normal(4000)) == pytest.approx(0.05, rel=0.1)


@pytest.mark.parametrize(("bits", "level"), [(10, 3e-4), (12, 2e-3), (14, 1e-5)])
def test_converter_step_is_recognised(bits: int, level: float) -> None:
    wave = 4 * np.sin(np.arange(6000) * 0.011) * np.exp(-np.arange(6000) / 5000)
    assert quantum(digitise(wave, 5, bits, level, RNG)) == pytest.approx(10 / 2**bits, rel=1e-6)


def test_commands_and_analogue_channels_have_no_converter_step() -> None:
    assert quantum(_stairs([0, 5], 200)) == 0
    assert quantum(_stairs([1, 2, 3, 4, 5], 200)) == 0
    assert quantum(RNG.standard_normal(500)) == 0


@pytest.mark.parametrize("sigma", [0.02, 0.15, 0.5, 2.0])
def test_undithered_error_is_what_quantising_really_leaves(sigma: float) -> None:
    """Mean of 400 rounded samples against the true level, at many places between two codes (step 1)."""
    places = RNG.uniform(0, 1, 400)
    samples = np.round(places[:, None] + sigma * RNG.standard_normal((400, 400)))
    bias = np.std(samples.mean(axis=1) - places)
    seen = float(np.mean(np.var(samples, axis=1)))
    predicted = math.sqrt(undithered_variance(seen, 1.0) + seen / 400)
    assert predicted == pytest.approx(float(bias), rel=0.35)


def test_slow_noise_widens_the_mean() -> None:
    slow = np.repeat(RNG.standard_normal(8), 100) * 0.1
    fast = 0.1 * RNG.standard_normal(800)
    assert settled_mean_u(slow, 0.0, 0.1) > 3 * settled_mean_u(fast, 0.0, 0.1)


def test_clipping_is_told_from_peaks() -> None:
    wave = 5 * np.sin(np.arange(8000) * 0.02) * np.exp(-np.arange(8000) / 20000)
    for bits in (10, 14):
        whole = digitise(wave, 6, bits, 5e-4, RNG)
        assert not pile_up(whole).any()
        cut = np.clip(digitise(wave, 6, bits, 5e-4, RNG), -4.0, 4.0)
        assert 0.02 < pile_up(cut).mean() < 0.6


def test_too_few_samples() -> None:
    with pytest.raises(Refusal, match="too few to find levels"):
        find_levels([np.arange(5.0)])
