"""What a turning motor tells, through the commands: mechanics, cogging, flux under load; and what a map of starts is worth."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest

from commands import ask, refused, table
from crisp_compass.cli.main import run

# ---- saliency


def _run_up(
    j: float, b: float, c: float, kt: float, seed: int = 0, i: float = 2.0, cogging: float = 0.0, dt: float = 2e-3
) -> tuple[np.ndarray, ...]:
    """Integrate J·dω/dt = Kt·i − B·ω − C in fine Euler steps, apart from the program's own plant."""
    rng = np.random.default_rng(seed)
    h = 1e-4
    tau = j / b
    t = np.arange(0, 3.2 * tau, h)
    current = np.where((t > 0.1 * tau) & (t < 1.1 * tau), i, 0.0)
    w, angle, speed = 0.0, 0.0, np.empty(len(t))
    for k, amps in enumerate(current):
        torque = kt * amps - b * w + cogging * math.sin(6 * angle)
        w = max(w + h / j * (torque - c), 0.0) if w > 0 or torque > c else 0.0
        angle += h * w
        speed[k] = w
    keep = slice(3, None, round(dt / h))
    noisy = speed[keep] + 2e-3 * speed.max() * rng.standard_normal(len(speed[keep]))
    return t[keep], noisy * 60 / (2 * math.pi), current[keep] + 5e-3 * i * rng.standard_normal(len(speed[keep]))


def test_mechanics_by_run_up_and_by_coast(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    j, b, c, kt = 3.1e-4, 2.5e-4, 8e-3, 0.09
    file = table(tmp_path / "m.csv", "t [s],speed [rpm],i_q [A]", *_run_up(j, b, c, kt))
    found = ask(capsys, "identify", "mechanics", file, "--kt", kt)["estimates"]
    for name, truth, within in (("inertia", j, 0.01), ("viscous_friction", b, 0.05), ("coulomb_friction", c, 0.05)):
        assert found[name]["value"] == pytest.approx(truth, rel=within), name
        assert abs(found[name]["value"] - truth) < 5 * found[name]["u"]
    coast = ask(capsys, "identify", "mechanics", file, "--inertia", j)["estimates"]
    assert coast["coulomb_friction"]["value"] == pytest.approx(c, rel=0.06)
    assert "kt" not in coast


def test_cogging_shows_as_a_position_locked_ripple(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """50 mN·m six times a turn, sampled finely enough to see it; without it none is named."""
    for cogging in (0.0, 0.05):
        made = _run_up(2e-3, 1e-3, 6e-3, 0.09, i=1.0, cogging=cogging, dt=1e-3)
        file = table(tmp_path / "m.csv", "t [s],speed [rpm],i_q [A]", *made)
        data = ask(capsys, "identify", "mechanics", file, "--kt", 0.09)
        assert data["estimates"]["inertia"]["value"] == pytest.approx(2e-3, rel=0.02)
        assert ("cogging_torque" in data["estimates"]) == (cogging > 0)
        said = [x["text"] for x in data["findings"] if x["code"] == "cogging"]
        assert bool(said) == (cogging > 0)
    assert "repeats 6 times a turn" in said[0]
    assert data["estimates"]["cogging_torque"]["value"] == pytest.approx(0.05, rel=0.15)


def test_mechanics_refusals(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    t, w, i = _run_up(3.1e-4, 2.5e-4, 8e-3, 0.09)
    header = "t [s],speed [rpm],i_q [A]"
    good = table(tmp_path / "m.csv", header, t, w, i)
    assert "torque constant is missing" in refused(capsys, "identify", "mechanics", good)
    assert "cannot be meant" in refused(capsys, "identify", "mechanics", good, "--kt", -1)
    rising = t < t[np.argmax(w)]
    assert "no coast" in refused(
        capsys,
        "identify",
        "mechanics",
        table(tmp_path / "r.csv", header, t[rising], w[rising], i[rising]),
        "--kt",
        0.09,
    )
    late = t > t[np.argmax(w)] + 0.05
    assert "current" in refused(
        capsys, "identify", "mechanics", table(tmp_path / "c.csv", header, t[late], w[late], i[late]), "--kt", 0.09
    )
    assert "reversed" in refused(
        capsys, "identify", "mechanics", table(tmp_path / "s.csv", header, t, w, -i), "--kt", 0.09
    )
    still = table(tmp_path / "z.csv", header, t, np.random.default_rng(0).normal(size=len(t)), i)
    assert refused(capsys, "identify", "mechanics", still, "--kt", 0.09)
    clipped = table(tmp_path / "k.csv", header, t, np.minimum(w, 0.6 * w.max()), i)
    code = run(["identify", "mechanics", str(clipped), "--kt", "0.09", "--json"])
    out = capsys.readouterr()
    assert code == 2 or any(f["level"] != "info" for f in json.loads(out.out)["findings"])


# ---- saturation


def test_flux_of_a_running_drive(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    rng = np.random.default_rng(5)
    psi, r, p = 0.021, 0.35, 4
    w = np.repeat([40.0, 90.0, 150.0, 220.0, -60.0, -180.0], 120)
    i = np.repeat([3.0, 1.0, 4.0, 2.0, -3.5, -1.5], 120) + 0.02 * rng.standard_normal(720)
    v = r * i + p * w * psi + 0.1 * np.sign(w) + 0.02 * rng.standard_normal(720)
    header = "t [s],speed [rpm],v_q [V],i_q [A]"
    file = table(tmp_path / "r.csv", header, np.arange(720) * 1e-3, w * 60 / (2 * math.pi), v, i)
    found = ask(capsys, "identify", "flux", file, "--pole-pairs", p)["estimates"]
    assert found["flux_linkage"]["value"] == pytest.approx(psi, rel=2e-3)
    assert found["resistance"]["value"] == pytest.approx(r, rel=0.02)
    # where the current follows the speed, R must be known or the interval says so
    i = 0.02 * w
    v = r * i + p * w * psi + 0.02 * rng.standard_normal(720)
    tied = table(tmp_path / "t.csv", header, np.arange(720) * 1e-3, w * 60 / (2 * math.pi), v, i)
    open_ = ask(capsys, "identify", "flux", tied, "--pole-pairs", p)
    assert "resistance-not-resolved" in [f["code"] for f in open_["findings"]]
    low, high = open_["estimates"]["flux_linkage"]["interval95"]
    assert low < psi < high
    known = ask(capsys, "identify", "flux", tied, "--pole-pairs", p, "--r", r)["estimates"]["flux_linkage"]
    assert known["value"] == pytest.approx(psi, rel=1e-3)
    two = table(tmp_path / "u.csv", header, np.arange(240) * 1e-3, w[:240], v[:240], i[:240])
    assert "too few" in refused(capsys, "identify", "flux", two, "--pole-pairs", p)
    swapped = table(tmp_path / "v.csv", header, np.arange(720) * 1e-3, w, -v, i)
    assert "reversed" in refused(capsys, "identify", "flux", swapped, "--pole-pairs", p)


def test_a_start_map_says_what_its_rate_is_worth(capsys: pytest.CaptureFixture[str], pump: Path) -> None:
    few = ask(capsys, "study", "start-map", pump, "--size", "0x0", "--tries", 8, "--workers", 1)
    assert few["success"]["outcomes"]["started"] == 8
    assert "too few to tell" in few["findings"][0]["text"]
    assert "no saliency" in refused(capsys, "study", "start-map", pump, "--across", "saliency", "--size", "2x2")
