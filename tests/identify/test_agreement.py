"""Agreement of sources against SciPy's own statistics; learns that did not run; hot against cold."""

from __future__ import annotations

import math

import numpy as np
import pytest
import scipy

from crisp_compass.errors import Refusal
from crisp_compass.identify.agreement import Source, auto_tune_did_not_run, combine, heated
from crisp_compass.identify.meter import solve_pairs


def test_weighted_mean_and_probability_are_those_of_scipy() -> None:
    rng = np.random.default_rng(3)
    values, u = 1 + 0.01 * rng.standard_normal(6), rng.uniform(0.005, 0.02, 6)
    found = combine([Source(f"s{k}", "capture", v, s) for k, (v, s) in enumerate(zip(values, u, strict=True))], "Ω")
    assert found is not None
    (mean,), cov = scipy.optimize.curve_fit(
        lambda x, m: m + 0 * x, np.arange(6.0), values, sigma=u, absolute_sigma=True
    )
    assert found.mean.value == pytest.approx(mean, rel=1e-9)
    chi2 = float(np.sum(((values - mean) / u) ** 2))
    assert found.probability == pytest.approx(scipy.stats.chi2.sf(chi2, 5), rel=1e-9)
    assert found.mean.u == pytest.approx(math.sqrt(cov[0, 0]) * math.sqrt(max(chi2 / 5, 1)), rel=1e-6)


def test_chance_of_the_test_is_what_it_says() -> None:
    """Honest sources are called apart in about one of a hundred cases."""
    rng = np.random.default_rng(4)
    wrong = 0
    for _ in range(2000):
        u = rng.uniform(0.01, 0.05, 4)
        found = combine([Source(str(k), "capture", 1 + s * rng.standard_normal(), s) for k, s in enumerate(u)], "H")
        assert found is not None
        wrong += not found.agrees
    assert wrong / 2000 == pytest.approx(0.01, abs=0.007)


def test_the_source_that_stands_apart_and_its_slip() -> None:
    good = [Source("meter", "meter", 0.413, 0.003), Source("capture", "capture", 0.4127, 0.0002)]
    found = combine([*good, Source("plate", "plate", 0.826, 0.01)], "Ω")
    assert found is not None
    assert found.apart == "plate"
    assert "line-to-line was taken as phase" in found.findings[0].text
    assert combine(good[:1], "Ω") is None
    scattered = combine([Source(str(k), "capture", v, 0.001) for k, v in enumerate((1.0, 1.1, 1.2, 1.3))], "Ω")
    assert scattered is not None
    assert scattered.findings[0].code == "sources-disagree"


def test_a_learn_that_did_not_run() -> None:
    """Common practice: the value after the learn equals the factory value before it, for example still exactly 1."""
    assert auto_tune_did_not_run(1.0, 1.0, "resistance", "Ω")[0].level == "stop"
    assert auto_tune_did_not_run(1.0, 0.46, "resistance", "Ω") == []
    assert auto_tune_did_not_run(None, 0.46, "resistance", "Ω") == []


def test_winding_temperature_from_hot_and_cold() -> None:
    """IEC 60034-1, 8.6.2: θ2 = R2/R1·(k + θ1) − k; worked: +20 % from 20 °C is 71.0 °C with 235 and 70.9 °C with 234.5."""
    assert heated(1.0, 1.2, 20.0) == pytest.approx(71.0)
    assert heated(1.0, 1.2, 20.0, 234.5) == pytest.approx(70.9)


def test_meter_pairs() -> None:
    """0.8 / 0.9 / 0.9 Ω on a 0.1 Ω meter counts as balanced (common practice); on a 1 mΩ meter it does not."""
    coarse = solve_pairs({"uv": 0.8, "vw": 0.9, "wu": 0.9}, lead=0.0, resolution=0.1)
    assert not [f for f in coarse.findings if f.level == "stop"]
    fine = solve_pairs({"uv": 0.8, "vw": 0.9, "wu": 0.9}, lead=0.0, resolution=0.001)
    assert any("phase" in f.text.lower() for f in fine.findings if f.level != "info")
    exact = solve_pairs({"uv": 1.05, "vw": 1.15, "wu": 1.25}, lead=0.05, resolution=0.001, cable=0.01)
    assert {k: round(e.value, 6) for k, e in exact.phases.items()} == {"U": 0.54, "V": 0.44, "W": 0.64}
    with pytest.raises(Refusal, match="not larger than the probes"):
        solve_pairs({"uv": 0.05}, lead=0.05)
    with pytest.raises(Refusal, match="no pair is read"):
        solve_pairs({})
    assert [f.code for f in solve_pairs({"uv": 1.0}, resolution=0.001).findings] == ["pairs-missing"]


def test_one_bad_winding_is_named() -> None:
    shorted = solve_pairs({"uv": 0.70, "vw": 0.70, "wu": 0.80}, resolution=0.001)
    worst = max(shorted.phases, key=lambda k: abs(shorted.phases[k].value - shorted.mean.value))
    assert worst == "V"
    assert any(" V " in f.text or "phase V" in f.text for f in shorted.findings)
