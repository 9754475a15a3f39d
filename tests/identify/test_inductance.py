"""Inductance: truth within the error bar over a wide table, calibrated interval, and what is refused or said."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.errors import Refusal
from crisp_compass.identify.inductance import fit_inductance
from makers import digitise, steps

CASES = [
    (0.463, 1.12e-3, {}),
    (0.012, 12e-6, {"bits": 10}),
    (18.0, 45e-3, {"noise": 4e-3}),
    (0.463, 1.12e-3, {"sag": 0.4}),
    (0.463, 1.12e-3, {"per_tau": 6, "pulses": 4}),
    (0.463, 1.12e-3, {"pulses": 1, "bits": 14}),
]


@pytest.mark.parametrize(("r", "inductance", "extra"), CASES)
def test_truth_lies_within_the_error_bar(r: float, inductance: float, extra: dict[str, float]) -> None:
    found = fit_inductance(steps(r, inductance, seed=4, **extra)).estimates  # type: ignore[arg-type]
    for name, truth in (("inductance", inductance), ("resistance", r)):
        assert abs(found[name].value - truth) < 4 * found[name].u
        assert found[name].value == pytest.approx(truth, rel=0.02)


@pytest.mark.thorough
def test_interval_holds_the_truth_about_95_times_in_100() -> None:
    rng = np.random.default_rng(2)
    hits, n = 0, 24
    for seed in range(n):
        r, tau = 10 ** rng.uniform(-2, 1), 10 ** rng.uniform(-4, -2)
        capture = steps(r, r * tau, seed=seed, noise=10 ** rng.uniform(-3.3, -2.3), per_tau=float(rng.uniform(8, 40)))
        estimate = fit_inductance(capture).estimates["inductance"]
        hits += estimate.low <= r * tau <= estimate.high
    assert 0.85 * n <= hits <= n


def test_an_injected_sine_gives_the_same_answer() -> None:
    r, inductance, f = 0.5, 1e-3, 120.0
    t = np.arange(4000) / (f * 40)
    w, z = 2 * math.pi * f, complex(2 * r, 2 * math.pi * f * 2 * inductance)
    current = 4 / abs(z) * np.sin(w * t - math.atan2(z.imag, z.real))
    rng = np.random.default_rng(0)
    capture = Capture(
        "s", t, {"v_ab": digitise(4 * np.sin(w * t), 6, 12, 1e-3, rng), "i_a": digitise(current, 4, 12, 1e-3, rng)}
    )
    found = fit_inductance(capture).estimates
    assert abs(found["inductance"].value - inductance) < 4 * found["inductance"].u < 0.02 * inductance
    assert abs(found["resistance"].value - r) < 4 * found["resistance"].u


def test_b_and_c_joined_is_one_and_a_half_phases() -> None:
    capture = steps(0.5, 1e-3, seed=1)
    joined = Capture("m", capture.time, capture.columns, {"circuit": "a-bc"})
    base, found = fit_inductance(capture).estimates, fit_inductance(joined).estimates
    for name in ("inductance", "resistance"):
        assert found[name].value == pytest.approx(base[name].value * 2 / 1.5)
        assert found[name].u == pytest.approx(base[name].u * 2 / 1.5)


def test_clipped_current_is_left_out_and_said() -> None:
    capture = steps(0.5, 1e-3, seed=1, noise=5e-4)
    clipped = Capture("m", capture.time, {"v_ab": capture["v_ab"], "i_a": np.minimum(capture["i_a"], 3.9)})
    found = fit_inductance(clipped)
    assert "clipped-part-left-out" in [f.code for f in found.findings]
    assert found.estimates["inductance"].value == pytest.approx(1e-3, rel=0.02)


def test_a_rotor_that_moved_is_said() -> None:
    capture = steps(0.5, 1e-3, seed=1, noise=2e-4, bits=14)
    emf = 0.4 * np.sin(2 * math.pi * capture.time / capture.time[-1] * 1.5) ** 2
    found = fit_inductance(Capture("m", capture.time, {"v_ab": capture["v_ab"] + emf, "i_a": capture["i_a"]}))
    assert "model-does-not-fit" in [f.code for f in found.findings]


GOOD = steps(0.5, 1e-3, seed=1)
FLAT = np.random.default_rng(3).normal(size=len(GOOD)) * 1e-3
REFUSALS = {
    "no step": (Capture("m", GOOD.time, {"v_ab": FLAT, "i_a": GOOD["i_a"]}), "shows no step above its noise"),
    "no answer": (
        Capture("m", GOOD.time, {"v_ab": GOOD["v_ab"], "i_a": FLAT}),
        "does not answer|against the voltage|within one sample",
    ),
    "reversed": (Capture("m", GOOD.time, {"v_ab": GOOD["v_ab"], "i_a": -GOOD["i_a"]}), "one channel is reversed"),
    "too slow": (
        Capture("m", GOOD.time * 1.0, {"v_ab": GOOD["v_ab"], "i_a": GOOD["v_ab"] * 0.4}),
        "within one sample",
    ),
    "short": (
        Capture("m", GOOD.time[:9], {"v_ab": GOOD["v_ab"][:9], "i_a": GOOD["i_a"][:9]}),
        "9 samples are too few",
    ),
}


@pytest.mark.parametrize("name", REFUSALS)
def test_refusals(name: str) -> None:
    capture, wording = REFUSALS[name]
    with pytest.raises(Refusal, match=wording):
        fit_inductance(capture)
