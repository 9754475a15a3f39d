"""Flux: falling speed, offsets and harmonics do not bias it; intervals are calibrated; pole pairs are counted."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.errors import Refusal
from crisp_compass.identify.flux import fit_flux
from makers import coast, turning

CASES = [
    (0.0179, ("v_ab",), {}),
    (0.0179, ("v_ab", "v_bc"), {"fifth": 0.06, "seventh": -0.03}),
    (0.0005, ("v_ab", "v_bc", "v_ca"), {"bits": 10, "noise": 8e-3}),
    (0.3, ("v_a",), {"third": 0.1, "fifth": 0.04}),
    (0.0179, ("v_a", "v_b", "v_c"), {"offset": 0.05}),
]


@pytest.mark.parametrize(("psi", "channels", "extra"), CASES)
@pytest.mark.parametrize("sign", [1, -1])
def test_truth_lies_within_the_error_bar(
    psi: float, channels: tuple[str, ...], extra: dict[str, float], sign: int
) -> None:
    t, theta, omega = coast(90.0, 0.5, 8e3, fall=0.85, sign=sign)
    found = fit_flux(
        Capture("c", t, turning(psi, theta, omega, t, channels=channels, seed=2, **extra)),  # type: ignore[arg-type]
        pole_pairs=7,
    ).estimates
    assert abs(found["flux_linkage"].value - psi) < 4 * found["flux_linkage"].u
    assert found["flux_linkage"].value == pytest.approx(psi, rel=2e-3)
    assert found["harmonic_5"].value == pytest.approx(abs(extra.get("fifth", 0.0)), abs=4e-3)
    assert found["kt"].value == pytest.approx(1.5 * 7 * psi, rel=2e-3)
    assert found["kv_peak"].value == pytest.approx(60 / (2 * math.pi * math.sqrt(3) * 7 * psi), rel=2e-3)


@pytest.mark.thorough
def test_interval_holds_the_truth_about_95_times_in_100() -> None:
    rng = np.random.default_rng(3)
    hits, n = 0, 36
    for seed in range(n):
        psi = 10 ** rng.uniform(-3, -0.6)
        t, theta, omega = coast(float(rng.uniform(40, 200)), 0.2, 6e3, fall=float(rng.uniform(0.1, 0.8)))
        channels = ("v_ab", "v_bc")[: int(rng.integers(1, 3))]
        voltages = turning(
            psi, theta, omega, t, channels=channels, seed=seed, noise=10 ** rng.uniform(-3, -2), fifth=0.02
        )
        estimate = fit_flux(Capture("c", t, voltages)).estimates["flux_linkage"]
        hits += estimate.low <= psi <= estimate.high
    assert 0.8 * n <= hits <= n


def test_pole_pairs_from_speed_and_angle() -> None:
    t, theta, omega = coast(100.0, 0.4, 8e3)
    voltages = turning(0.01, theta, omega, t, seed=1)
    noisy = omega / 5 + 3 * np.random.default_rng(0).standard_normal(len(t))
    assert fit_flux(Capture("c", t, {**voltages, "speed": noisy})).estimates["pole_pairs"].value == 5
    wrapped = (theta / 5) % (2 * math.pi)
    found = fit_flux(Capture("c", t, {**voltages, "angle": wrapped}), pole_pairs=4)
    assert found.estimates["pole_pairs"].value == 5
    assert "pole-pairs-disagree" in [f.code for f in found.findings]
    odd = fit_flux(Capture("c", t, {**voltages, "speed": omega / 5.5}))
    assert "pole-pairs-unclear" in [f.code for f in odd.findings]


def test_a_wrong_probe_factor_is_said() -> None:
    t, theta, omega = coast(100.0, 0.3, 8e3)
    voltages = turning(0.01, theta, omega, t, seed=1)
    found = fit_flux(Capture("c", t, {**voltages, "v_bc": 1.1 * voltages["v_bc"]}))
    assert "channels-differ" in [f.code for f in found.findings]
    estimate = found.estimates["flux_linkage"]
    assert estimate.low < 0.01 < estimate.high


def test_refusals() -> None:
    t, theta, omega = coast(100.0, 0.3, 8e3)
    v = turning(0.01, theta, omega, t, channels=("v_ab",), seed=1)["v_ab"]
    reach = float(np.max(v)) * 0.7
    noise = np.random.default_rng(0).standard_normal(len(t)) * 0.01
    cases = [
        ({"v_ab": np.clip(v, -reach, reach)}, "cut off at the end of its range"),
        ({"v_ab": np.zeros(len(t))}, "stays at 0 throughout"),
        ({"i_a": v}, "column v_ab .* is missing"),
        ({"v_ab": v[:30]}, "too few"),
        ({"v_ab": v[:60]}, "less than one electrical turn"),
        ({"v_ab": noise}, "does not look like that of a turning rotor"),
    ]
    for columns, wording in cases:
        with pytest.raises(Refusal, match=wording):
            fit_flux(Capture("c", t[: len(next(iter(columns.values())))], columns))
    with pytest.raises(Refusal, match="whole number"):
        fit_flux(Capture("c", t, {"v_ab": v}), pole_pairs=0)


@pytest.mark.parametrize("noise", [0.0, 0.02])
def test_a_coast_that_ends_at_rest_on_one_code(noise: float) -> None:
    """8 bits, the shaft stands for most of the record: the bar stays what the turning part tells."""
    t = np.arange(15000) / 5e3
    omega = np.clip(2 * math.pi * 30 * (1 - t / 1.4), 0, None)
    theta, rng = np.cumsum(omega) / 5e3, np.random.default_rng(3)
    columns = {}
    for name, first, second in (("v_ab", 0.0, 2 * math.pi / 3), ("v_bc", 2 * math.pi / 3, 4 * math.pi / 3)):
        x = -omega * 4.1e-3 * (np.sin(theta - first) - np.sin(theta - second))
        step = 2.6 * float(np.max(np.abs(x))) / 256
        columns[name] = np.round((x + 0.3 * step + noise * rng.standard_normal(len(t))) / step) * step
    found = fit_flux(Capture("coast.csv", t, columns)).estimates["flux_linkage"]
    assert found.value == pytest.approx(4.1e-3, rel=2e-3)
    assert found.high - found.low < 0.02 * found.value


@pytest.mark.parametrize(("f0", "rate"), [(50.0, 520e3), (30e3, 520e3)])
def test_a_long_record_says_what_its_samples_do(f0: float, rate: float) -> None:
    """Half a million rows and more are averaged before the angle is sought, as far as the turns allow: not at all at sixteen a turn."""
    psi = 0.004
    t, theta, omega = coast(f0, 1.0, rate, fall=0.5)
    assert len(t) > 500_000
    found = fit_flux(Capture("c", t, turning(psi, theta, omega, t, seed=5, fifth=0.03))).estimates
    assert found["flux_linkage"].value == pytest.approx(psi, rel=3e-4)
    assert abs(found["flux_linkage"].value - psi) < 4 * found["flux_linkage"].u
    assert "harmonic_5" not in found or found["harmonic_5"].value == pytest.approx(0.03, abs=2e-3)
    assert ("harmonic_5" in found) == (f0 < 1000)
