"""Captures of motors nobody has seen, through the commands: truth inside five standard uncertainties or a finding says so."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from commands import ask
from crisp_compass.capture import Capture
from crisp_compass.cli.main import run
from makers import coast, save, staircase, steps, turning


def _holds(data: dict[str, Any], name: str, truth: float, within: float) -> None:
    estimate = data["estimates"][name]
    off = abs(estimate["value"] - truth)
    warned = any(f["level"] != "info" for f in data["findings"])
    assert off <= 5 * estimate["u"] or warned, (name, truth, estimate)
    assert off <= within * abs(truth), (name, truth, estimate)
    low, high = estimate["interval95"]
    assert low <= estimate["value"] <= high


@pytest.mark.thorough(each=3)
@pytest.mark.parametrize("seed", range(12))
def test_resistance(capsys: pytest.CaptureFixture[str], tmp_path: Path, seed: int) -> None:
    rng = np.random.default_rng(100 + seed)
    r = float(10 ** rng.uniform(-2, 1.2))
    top = float(10 ** rng.uniform(-0.7, 1.2))
    levels = list(np.linspace(-top if seed % 2 else top / 8, top, int(rng.integers(6, 11))))
    bridge = (float(rng.uniform(0.05, 0.3)), 0.04 * top) if seed % 3 == 0 else None
    made = staircase(
        r, levels, seed=seed, bits=int(rng.integers(10, 15)), noise=float(10 ** rng.uniform(-3.5, -2)), rate=1e3,
        tau=float(10 ** rng.uniform(-3, -1.8)), bridge=bridge, offset_i=0.0 if bridge else 0.01 * top,
    )  # fmt: skip
    save(made, tmp_path / "c.csv")
    data = ask(capsys, "identify", "resistance", tmp_path / "c.csv")
    _holds(data, "resistance", r, 0.03)


@pytest.mark.thorough(each=3)
@pytest.mark.parametrize("seed", range(10))
def test_inductance(capsys: pytest.CaptureFixture[str], tmp_path: Path, seed: int) -> None:
    rng = np.random.default_rng(200 + seed)
    r, tau = float(10 ** rng.uniform(-2, 1.2)), float(10 ** rng.uniform(-4, -1.7))
    made = steps(
        r, r * tau, seed=seed, bits=int(rng.integers(10, 15)), noise=float(10 ** rng.uniform(-3.5, -2.2)),
        per_tau=float(rng.uniform(8, 60)), pulses=int(rng.integers(1, 5)), sag=float(rng.uniform(0, 0.5)),
    )  # fmt: skip
    save(made, tmp_path / "c.csv")
    data = ask(capsys, "identify", "inductance", tmp_path / "c.csv")
    _holds(data, "inductance", r * tau, 0.03)
    _holds(data, "resistance", r, 0.03)


@pytest.mark.parametrize("seed", range(10))
def test_flux(capsys: pytest.CaptureFixture[str], tmp_path: Path, seed: int) -> None:
    rng = np.random.default_rng(300 + seed)
    psi, p = float(10 ** rng.uniform(-3.3, -0.5)), int(rng.integers(1, 12))
    f0 = float(10 ** rng.uniform(1, 2.5))
    t, theta, omega = coast(
        f0, 25 / f0, f0 * float(rng.uniform(20, 90)), fall=float(rng.uniform(0.1, 0.9)), sign=1 if seed % 2 else -1
    )
    channels = (("v_ab",), ("v_ab", "v_bc"), ("v_ab", "v_bc", "v_ca"), ("v_a",))[seed % 4]
    columns = turning(
        psi,
        theta,
        omega,
        t,
        channels=channels,
        seed=seed,
        bits=int(rng.integers(10, 15)),
        fifth=0.03,
        seventh=0.015,
        third=0.05,
    )
    rpm = Capture("c", t, columns)
    save(rpm, tmp_path / "c.csv")
    data = ask(capsys, "identify", "flux", tmp_path / "c.csv", "--pole-pairs", p)
    _holds(data, "flux_linkage", psi, 5e-3)
    _holds(data, "kt", 1.5 * p * psi, 5e-3)
    _holds(data, "kv_peak", 60 / (2 * math.pi) / (math.sqrt(3) * p * psi), 5e-3)


@pytest.mark.parametrize("what", ["noise", "sine current", "one level", "clipped", "swapped", "empty channel"])
def test_what_cannot_be_evaluated_is_refused_or_said(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, what: str
) -> None:
    rng = np.random.default_rng(4)
    good = staircase(0.5, [1, 2, 3, 4, 5, 6], seed=1)
    n, v, i = len(good), good["v_ab"], good["i_a"]
    columns = {
        "noise": {"v_ab": rng.standard_normal(n), "i_a": rng.standard_normal(n)},
        "sine current": {"v_ab": np.sin(good.time * 20), "i_a": np.sin(good.time * 20 - 0.9)},
        "one level": {"v_ab": 2 + 1e-3 * rng.standard_normal(n), "i_a": 1 + 1e-3 * rng.standard_normal(n)},
        "clipped": {"v_ab": np.minimum(v, 2.6), "i_a": i},
        "swapped": {"v_ab": v, "i_a": -i},
        "empty channel": {"v_ab": v, "i_a": np.zeros(n)},
    }[what]
    save(Capture("c", good.time, columns), tmp_path / "c.csv")
    code = run(["identify", "resistance", str(tmp_path / "c.csv"), "--json"])
    out = capsys.readouterr()
    if code == 0:
        data = json.loads(out.out)
        off = abs(data["estimates"]["resistance"]["value"] - 0.5)
        assert off < 0.01, data
        assert any(f["level"] != "info" for f in data["findings"]), data
    else:
        assert code == 2
        assert out.err.startswith(str(tmp_path / "c.csv"))
        assert out.err.count("\n") == 1
