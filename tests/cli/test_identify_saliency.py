"""Inductance over the angle and over the current, through the commands."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest

from commands import ask, refused, table
from crisp_compass.cli.main import run

# ---- saliency


def _angles(p: int, ld: float, lq: float, zero: float, noise: float, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Readings by the conventions, written here anew: the A–B axis lies at −30° electrical, Ld is along the rotor's flux."""
    rng = np.random.default_rng(seed)
    angle = np.linspace(0, 360 / p, 25)
    theta = np.radians(p * (angle - zero))
    l_ab = (ld + lq) - (lq - ld) * np.cos(2 * (theta + math.pi / 6))
    return angle, l_ab * (1 + noise * rng.standard_normal(25))


@pytest.mark.parametrize("seed", range(5))
def test_saliency(capsys: pytest.CaptureFixture[str], tmp_path: Path, seed: int) -> None:
    rng = np.random.default_rng(seed)
    p, ld = int(rng.integers(2, 9)), float(10 ** rng.uniform(-5, -1.5))
    lq, zero = ld * float(rng.uniform(1.05, 1.7)), float(rng.uniform(0, 90 / p))
    angle, l_ab = _angles(p, ld, lq, zero, 2e-3, seed)
    file = table(tmp_path / "a.csv", "angle [deg],l_ab [uH]", angle, 1e6 * l_ab)
    data = ask(capsys, "identify", "saliency", file, "--pole-pairs", p)
    found = data["estimates"]
    for name, truth in (("ld", ld), ("lq", lq)):
        assert found[name]["value"] == pytest.approx(truth, rel=5e-3)
        assert abs(found[name]["value"] - truth) < 5 * found[name]["u"]
    half_turn = math.pi / p
    off = (found["rotor_zero"]["value"] - math.radians(zero) + half_turn / 2) % half_turn - half_turn / 2
    assert abs(off) < 5 * found["rotor_zero"]["u"]


def test_saliency_refusals_and_findings(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    angle, l_ab = _angles(4, 1e-3, 1.3e-3, 5.0, 1e-3, 1)
    good = table(tmp_path / "a.csv", "angle [deg],l_ab [mH]", angle, 1e3 * l_ab)
    assert "pole pairs are missing" in refused(capsys, "identify", "saliency", good)
    assert "0 pole pairs" in refused(capsys, "identify", "saliency", good, "--pole-pairs", 0)
    assert run(["identify", "saliency", str(good), "--pole-pairs", "3", "--json"]) == 1
    assert "stop" in [f["level"] for f in json.loads(capsys.readouterr().out)["findings"]]
    part = table(tmp_path / "b.csv", "angle [deg],l_ab [mH]", angle / 10, 1e3 * l_ab)
    assert "do not cover" in refused(capsys, "identify", "saliency", part, "--pole-pairs", 4)
    minus = table(tmp_path / "c.csv", "angle [deg],l_ab [mH]", angle, -l_ab)
    assert "not above zero" in refused(capsys, "identify", "saliency", minus, "--pole-pairs", 4)
    few = table(tmp_path / "d.csv", "angle [deg],l_ab [mH]", angle[:3], l_ab[:3])
    assert "too few" in refused(capsys, "identify", "saliency", few, "--pole-pairs", 4)
    flat = ask(
        capsys,
        "identify",
        "saliency",
        table(tmp_path / "e.csv", "angle [deg],l_ab [mH]", *_scaled(0.0)),
        "--pole-pairs",
        4,
    )
    assert "no-saliency" in [f["code"] for f in flat["findings"]]
    outlier = l_ab.copy()
    outlier[7] *= 1.2
    loud = ask(
        capsys,
        "identify",
        "saliency",
        table(tmp_path / "f.csv", "angle [deg],l_ab [H]", angle, outlier),
        "--pole-pairs",
        4,
    )
    assert "reading-left-out" in [f["code"] for f in loud["findings"]]
    assert loud["estimates"]["ld"]["value"] == pytest.approx(1e-3, rel=5e-3)


def _scaled(_: float) -> tuple[np.ndarray, np.ndarray]:
    angle, l_ab = _angles(4, 1.2e-3, 1.2e-3, 5.0, 2e-3, 2)
    return angle, 1e3 * l_ab


# ---- mechanics


def _steps(knee: float, seed: int = 0) -> tuple[np.ndarray, ...]:
    """R–L(i) driven by steps to five currents: L = 0.4 + 0.8/(1 + (i/knee)²) mH, midpoint rule on a fine grid."""
    rng = np.random.default_rng(seed)
    h, sub, r = 2e-6, 25, 0.8
    source = np.concatenate(
        [np.zeros(3011), *(np.full(12_000 + 7 * k, v) for k, v in enumerate((2.0, 4.0, 6.0, 8.0, 0.0)))]
    )
    i, out = 0.0, np.empty(len(source))
    for k, v in enumerate(source):
        out[k] = i
        m = i + 0.5 * h * (v - r * i) / (0.4e-3 + 0.8e-3 / (1 + (i / knee) ** 2))
        i += h * (v - r * m) / (0.4e-3 + 0.8e-3 / (1 + (m / knee) ** 2))
    n = len(source[::sub])
    return (
        np.arange(n) * h * sub,
        source[::sub] + 4e-3 * rng.standard_normal(n),
        out[::sub] + 5e-3 * rng.standard_normal(n),
    )


def test_saturation(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    file = table(tmp_path / "s.csv", "t [s],v_ab [V],i_a [A]", *_steps(6.0))
    data = ask(capsys, "identify", "saturation", file)
    found = data["estimates"]
    for name, truth in (("inductance", 0.6e-3), ("resistance", 0.4), ("saturation_current", 6.0 * 2 / math.sqrt(3))):
        assert found[name]["value"] == pytest.approx(truth, rel=0.03), name
        assert abs(found[name]["value"] - truth) < 5 * found[name]["u"], name
    at_peak = 0.2e-3 + 0.4e-3 / (1 + (10.0 / 6.0) ** 2)
    assert found["inductance_at_peak"]["value"] == pytest.approx(at_peak, rel=0.02)
    assert "saturation" in [f["code"] for f in data["findings"]]
    plain = ask(capsys, "identify", "inductance", file)
    assert "model-does-not-fit" in [f["code"] for f in plain["findings"]]


def test_saturation_is_not_seen_where_there_is_none(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    file = table(tmp_path / "s.csv", "t [s],v_ab [V],i_a [A]", *_steps(1e6))
    assert "no saturation shows" in refused(capsys, "identify", "saturation", file)


# ---- a running drive
