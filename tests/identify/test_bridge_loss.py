"""Staircases through a bridge whose loss grows softly, and at the terminals with a drop that follows the current's sign."""

from __future__ import annotations

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.identify.bridge_loss import fit_loss_line
from crisp_compass.identify.resistance import fit_resistance
from makers import digitise


def soft_levels(rng: np.random.Generator, *, one_sided: bool) -> tuple[float, np.ndarray, np.ndarray, float]:
    """R, measured currents, commanded voltages and noise: tanh or exponential knees at 1/12 to 1/40 of the largest current, each leg
    its half of it, losses up to 1.2 times R·I."""
    r, most = 10 ** rng.uniform(-1.5, 0.8), 10 ** rng.uniform(-0.3, 1.3)
    sizes = np.linspace(rng.uniform(0.08, 0.25), 1, int(rng.integers(5, 10))) * most
    current = sizes if one_sided else np.concatenate([-sizes[::-1], sizes])
    knee, loss = most / rng.uniform(12, 40), rng.uniform(0, 1.2) * r * most
    x, sign = np.abs(current) / knee, np.sign(current)
    grown = [np.tanh(k * x) if rng.random() < 0.5 else -np.expm1(-k * x) for k in (1.0, 0.5)]
    noise = 10 ** rng.uniform(-3.7, -2.7) * most
    measured = current + rng.uniform(-0.004, 0.004) * most + noise * rng.standard_normal(len(current))
    return r, measured, r * current + sign * loss * 0.5 * (grown[0] + grown[1]), noise


@pytest.mark.thorough
@pytest.mark.parametrize("one_sided", [False, True])
def test_a_soft_knee_moves_neither_value_nor_bar(one_sided: bool) -> None:
    """Also where the two legs' knees have different shapes: 95th percentile below 0.7 %, intervals hold in about 95 %."""
    rng, errors, held, count = np.random.default_rng(21), [], 0, 34
    for _ in range(count):
        r, current, voltage, noise = soft_levels(rng, one_sided=one_sided)
        found = fit_loss_line(current, voltage, np.zeros(len(current)), np.full(len(current), noise)).slope
        errors.append(abs(found.value / r - 1))
        held += found.low <= r <= found.high
    assert np.quantile(errors, 0.95) < 0.007
    assert 0.86 <= held / count <= 1.0


@pytest.mark.thorough
def test_without_any_loss_the_bar_is_still_right() -> None:
    rng, held = np.random.default_rng(4), 0
    for _ in range(36):
        current = np.array([-4.0, -3.0, -2.0, -1.0, 1.0, 2.0, 3.0, 4.0])
        measured = current + 2e-3 * rng.standard_normal(8)
        found = fit_loss_line(measured, 0.5 * current, np.zeros(8), np.full(8, 2e-3)).slope
        held += found.low <= 0.5 <= found.high
        assert found.value == pytest.approx(0.5, rel=5e-3)
    assert held >= 31


def staircase_with_drop(r: float, drop: float, seed: int) -> Capture:
    """Levels of both signs at the terminals, a drop that follows the current's sign in the leads."""
    rng = np.random.default_rng(seed)
    level = np.repeat([-6.0, -4.0, -2.0, 2.0, 4.0, 6.0], 400)
    v = 2 * r * level + drop * np.sign(level)
    return Capture(
        "s.csv",
        np.arange(len(level)) / 2e3,
        {"v_ab": digitise(v, 4.0, 12, 1e-3, rng), "i_a": digitise(level, 8.0, 12, 1e-3, rng)},
    )


def test_a_drop_that_follows_the_sign_is_taken_out_and_said() -> None:
    """60 mV on 210 mΩ: 214 instead of 210 was what came of it, with nothing said."""
    for seed in range(12):
        found = fit_resistance(staircase_with_drop(0.210, 0.060, seed))
        assert found.estimates["resistance"].value == pytest.approx(0.210, rel=2e-3)
        assert "drop-follows-sign" in [f.code for f in found.findings]
    assert "drop-follows-sign" not in [
        f.code for f in fit_resistance(staircase_with_drop(0.210, 0.0, 3)).findings if f.level == "caution"
    ]
