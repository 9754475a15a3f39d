"""Resistance: truth within the error bar over a wide table, calibrated interval, and what is refused or said."""

from __future__ import annotations

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.errors import Refusal
from crisp_compass.identify.resistance import fit_resistance
from makers import staircase

CASES = [
    # R, levels, extra
    (0.463, [-4, -3, -2, -1, 1, 2, 3, 4], {}),
    (0.012, [2, 4, 6, 8, 10], {"bits": 10}),
    (18.0, [0.05, 0.1, 0.15, 0.2], {"noise": 3e-3}),
    (0.463, [4, -1, 2, -3, 1, 3, -4, -2], {"tau": 0.02}),
    (1.7, [1, 2, 3], {"hold": 0.05, "rate": 1e3}),
    (0.3, [-4, -3, -2, -1, 0.05, 1, 2, 3, 4], {"bridge": (0.2, 0.15)}),
    (0.3, [1, 2, 3, 4, 5, 6], {"bridge": (0.35, 0.3), "offset_i": 0.0}),
]


@pytest.mark.parametrize(("r", "levels", "extra"), CASES)
def test_truth_lies_within_the_error_bar(r: float, levels: list[float], extra: dict[str, object]) -> None:
    found = fit_resistance(staircase(r, levels, seed=3, **extra))  # type: ignore[arg-type]
    estimate = found.estimates["resistance"]
    assert abs(estimate.value - r) < 4 * estimate.u
    assert estimate.value == pytest.approx(r, rel=0.01)
    if "bridge" in extra:
        assert found.estimates["voltage_offset"].value == pytest.approx(extra["bridge"][0], rel=0.05)  # type: ignore[index]
    if 0.05 in levels and "bridge" in extra:
        assert not found.used.all()


@pytest.mark.thorough
def test_interval_holds_the_truth_about_95_times_in_100() -> None:
    rng = np.random.default_rng(1)
    hits, n = 0, 40
    for seed in range(n):
        r = 10 ** rng.uniform(-2, 1)
        levels = list(np.linspace(-1, 1, int(rng.integers(4, 10))) * 10 ** rng.uniform(-0.5, 1))
        estimate = fit_resistance(
            staircase(r, levels, seed=seed, noise=10 ** rng.uniform(-3.3, -2), rate=1e3, hold=0.1)
        ).estimates["resistance"]
        hits += estimate.low <= r <= estimate.high
    assert 0.84 * n <= hits <= n  # 0.95 ± four standard deviations of the count


def test_scaling_volts_scales_ohms_and_offsets_do_not_matter() -> None:
    capture = staircase(0.5, [1, 2, 3, 4], seed=5)
    base = fit_resistance(capture).estimates["resistance"].value
    moved = Capture("m", capture.time, {"v_ab": 3 * capture["v_ab"] + 0.7, "i_a": capture["i_a"] - 0.4})
    assert fit_resistance(moved).estimates["resistance"].value == pytest.approx(3 * base, rel=1e-6)


def test_temperature_cable_and_circuit() -> None:
    capture = staircase(0.5, [1, 2, 3, 4], seed=5)
    found = fit_resistance(capture, temperature_c=25, reference_c=95, cable=0.01).estimates
    assert found["resistance_at_reference"].value / found["resistance"].value == pytest.approx(
        (235 + 95) / (235 + 25)
    )
    assert found["resistance"].value == pytest.approx(0.49, rel=3e-3)
    joined = Capture("m", capture.time, dict(capture.columns), {"circuit": "a-bc"})
    assert fit_resistance(joined).estimates["resistance"].value == pytest.approx(0.5 * 2 / 1.5, rel=3e-3)
    with pytest.raises(Refusal, match="temperature is missing"):
        fit_resistance(capture, reference_c=20)


def _with(capture: Capture, **columns: np.ndarray) -> Capture:
    return Capture("made.csv", capture.time, {**capture.columns, **columns})


def test_clipped_levels_are_left_out_and_said() -> None:
    capture = staircase(0.5, [1, 2, 3, 4, 5, 6, 7, 8], seed=2)
    found = fit_resistance(_with(capture, i_a=np.minimum(capture["i_a"], 6.5)))
    assert "clipped-levels-left-out" in [f.code for f in found.findings]
    assert found.estimates["resistance"].value == pytest.approx(0.5, rel=5e-3)
    assert found.used.sum() == 6


def test_self_heating_is_named() -> None:
    capture = staircase(0.5, [1, 2, 3, 4, 5, 6, 7, 8], seed=2, noise=1e-4, bits=14)
    hot = capture["v_ab"] * (1 + 0.0006 * capture["i_a"] ** 2)
    assert "self-heating" in [f.code for f in fit_resistance(_with(capture, v_ab=hot)).findings]


GOOD = staircase(0.5, [1, 2, 3])
REFUSALS = {
    "two levels": (staircase(0.5, [1, 2]), "a staircase of at least 3 levels"),
    "constant current": (_with(GOOD, i_a=np.full(len(GOOD), 2.0)), "stays at 2 throughout"),
    "reversed": (_with(GOOD, i_a=-GOOD["i_a"]), "one channel is reversed"),
    "too short": (
        Capture("made.csv", np.arange(5.0), {"v_ab": np.arange(5.0), "i_a": np.arange(5.0)}),
        "5 samples are too few",
    ),
    "missing": (Capture("made.csv", np.arange(50.0), {"v_ab": np.arange(50.0)}), "the column i_a .* is missing"),
    "circuit": (Capture("made.csv", GOOD.time, GOOD.columns, {"circuit": "abc"}), "circuit abc"),
}


@pytest.mark.parametrize("name", REFUSALS)
def test_refusals(name: str) -> None:
    capture, wording = REFUSALS[name]
    with pytest.raises(Refusal, match=wording):
        fit_resistance(capture)


@pytest.mark.thorough
def test_any_shape_of_knee_leaves_the_bridge_calibrated() -> None:
    """Dead-time voltage as a step, a ramp or a smooth bend below a tenth of the largest current, one or two sides."""
    rng = np.random.default_rng(5)
    hits, n = 0, 20
    for k in range(n):
        r, top, loss = 10 ** rng.uniform(-1.5, 0.7), 10 ** rng.uniform(0, 1), rng.uniform(0.05, 0.4)
        knee = rng.uniform(0.02, 0.1) * top
        count = int(rng.integers(6, 13))
        levels = np.linspace(-top if k % 2 else top / count, top, count)
        target = np.repeat(levels, 400)
        lost = (np.sign(target), np.clip(target / knee, -1, 1), np.tanh(target / knee))[k % 3]
        made = staircase(r, list(levels), seed=k, noise=10 ** rng.uniform(-3.3, -2.3), offset_i=0.005 * top * (k % 2))
        capture = Capture("made.csv", made.time, {"v_cmd": r * target + loss * lost, "i_a": made["i_a"]})
        found = fit_resistance(capture)
        estimate = found.estimates["resistance"]
        hits += estimate.low <= r <= estimate.high
        warned = any(f.level != "info" for f in found.findings)
        assert abs(estimate.value - r) < 5 * estimate.u or warned, (k, estimate, r)
    assert 0.84 * n <= hits <= n


def test_a_table_without_time_is_refused() -> None:
    """Found by fuzzing: a file that may be a table reached the plateaus without a time."""
    made = staircase(0.5, [1, 2, 3, 4], seed=1)
    with pytest.raises(Refusal, match="there is no time column"):
        fit_resistance(Capture("x.csv", np.empty(0), dict(made.columns)))
