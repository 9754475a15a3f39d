"""Moves against SciPy's integrator and closed forms; duty cycles against integrals done by hand; both through the commands."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import solve_ivp

from crisp_compass.cli.main import run
from crisp_compass.errors import Refusal
from crisp_compass.motion.profile import shortest, table

limit = st.floats(1e-3, 1e6)


@settings(max_examples=300, deadline=None)
@given(
    distance=st.one_of(st.just(0.0), st.floats(1e-9, 1e6), st.floats(-1e6, -1e-9)),
    speed=limit,
    accel=limit,
    jerk=st.one_of(st.none(), st.floats(1e-2, 1e9)),
)
def test_a_move_ends_where_it_should_and_uses_what_it_may(
    distance: float, speed: float, accel: float, jerk: float | None
) -> None:
    found = shortest(distance, speed, accel, jerk)
    if distance == 0:
        assert found.duration == 0
        return
    time, position, velocity, acceleration = table(found)
    size = abs(distance)
    assert position[0] == 0
    assert position[-1] == pytest.approx(distance, rel=1e-12)
    assert velocity[-1] == pytest.approx(0, abs=1e-9 * found.peak_speed)
    assert np.abs(velocity).max() <= speed * (1 + 1e-9)
    assert np.abs(acceleration).max() <= accel * (1 + 1e-9)
    assert (np.diff(np.sign(distance) * position) >= -1e-9 * size).all()
    assert len(time) >= 20
    # nothing is given away: some limit binds in every phase
    p = found.phases
    if jerk is None:
        assert found.peak_accel == pytest.approx(accel)
        assert p[1] == 0 or found.peak_speed == pytest.approx(speed)
    else:
        assert found.peak_accel == pytest.approx(jerk * p[0])
        assert p[1] == 0 or found.peak_accel == pytest.approx(accel)
        assert p[3] == 0 or found.peak_speed == pytest.approx(speed)


def _integrated(state: np.ndarray, jerk: float, span: float) -> np.ndarray:
    def moves(_: float, y: np.ndarray) -> list[float]:
        return [y[1], y[2], jerk]

    return np.asarray(solve_ivp(moves, (0, span), state, rtol=1e-12, atol=1e-14).y[:, -1])


@pytest.mark.parametrize(
    ("distance", "speed", "accel", "jerk"),
    [(40, 30, 200, 4e3), (3, 30, 200, 4e3), (0.01, 30, 200, 4e3), (5, 2, 200, 4e3)],
)
def test_phases_are_what_an_integrator_makes_of_the_jerk(
    distance: float, speed: float, accel: float, jerk: float
) -> None:
    found = shortest(distance, speed, accel, jerk)
    edges = np.concatenate([[0.0], np.cumsum(found.phases)])
    state = np.zeros(3)
    for k, sign in enumerate((1, 0, -1, 0, -1, 0, 1)):
        if found.phases[k]:
            middle = 0.5 * (edges[k] + edges[k + 1])
            halves = []
            for begin, end in ((edges[k], middle), (middle, edges[k + 1])):
                state = _integrated(state, sign * jerk, end - begin)
                halves.append(state)
            for at, expected in zip((middle, edges[k + 1]), halves, strict=True):
                assert np.array(found.at(np.array([at]))).ravel() == pytest.approx(expected, abs=1e-8)
    assert state == pytest.approx([distance, 0, 0], abs=1e-8)


def test_closed_forms() -> None:
    """Triangle 2·√(D/A), trapezoid D/V + V/A; with jerk alone 4·∛(D/(2J)) (from memory, as in every text on motion)."""
    assert shortest(2.0, 100.0, 8.0).duration == pytest.approx(2 * math.sqrt(2.0 / 8.0), rel=1e-12)
    assert shortest(100.0, 5.0, 8.0).duration == pytest.approx(100 / 5 + 5 / 8, rel=1e-12)
    assert shortest(-1.0, 1e6, 1e6, 16.0).duration == pytest.approx(4 * (1 / 32) ** (1 / 3), rel=1e-12)
    assert shortest(100.0, 5.0, 8.0, 1e12).duration == pytest.approx(100 / 5 + 5 / 8, rel=1e-9)
    assert shortest(100.0, 5.0, 8.0, 40.0).duration == pytest.approx(100 / 5 + 5 / 8 + 8 / 40, rel=1e-12)
    for bad in (
        (1.0, 0.0, 1.0, None),
        (1.0, 1.0, -1.0, None),
        (1.0, 1.0, 1.0, 0.0),
        (math.inf, 1.0, 1.0, None),
        (1.0, math.nan, 1.0, None),
    ):
        with pytest.raises(Refusal):
            shortest(*bad)


def _call(capsys: pytest.CaptureFixture[str], *arguments: object) -> tuple[int, str, str]:
    code = run([str(a) for a in arguments])
    out = capsys.readouterr()
    return code, out.out, out.err


def _told(result: tuple[int, str, str]) -> dict[str, Any]:
    return json.loads(result[1])  # type: ignore[no-any-return]


def test_the_command_writes_the_course(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    out = tmp_path / "move.csv"
    told = _told(
        _call(
            capsys,
            "motion",
            "profile",
            "--distance-turns",
            "-2.5",
            "--speed-rpm",
            600,
            "--accel",
            300,
            "--jerk",
            9000,
            "-o",
            out,
            "--json",
        )
    )
    data = pl.read_csv(out)
    assert data.columns == ["t [s]", "position [turns]", "speed [rpm]", "acceleration [rad/s²]"]
    assert data["t [s]"][-1] == pytest.approx(told["move_time_s"], rel=1e-11)
    assert data["position [turns]"][-1] == pytest.approx(-2.5, rel=1e-11)
    assert data["speed [rpm]"].min() == pytest.approx(-told["peak_speed_rpm"], rel=1e-9)
    assert sum(told["phases_s"]) == pytest.approx(told["move_time_s"])
    assert len(told["phases_s"]) == 7
    none = _told(
        _call(capsys, "motion", "profile", "--distance-turns", 0, "--speed-rpm", 600, "--accel", 300, "--json")
    )
    assert none["move_time_s"] == 0
    assert none["findings"][0]["level"] == "info"
    for given_, where in ((("--speed-rpm", "0", "--accel", "1"), "--speed-rpm"), (("--speed-rpm", "nan", "--accel", "1"), "--speed-rpm"),
                          (("--speed-rpm", "1", "--accel", "-3"), "--accel"), (("--speed-rpm", "1", "--accel", "1", "--jerk", "0"), "--jerk")):  # fmt: skip
        code, said, error = _call(capsys, "motion", "profile", "--distance-turns", 1, *given_)
        assert (code, said) == (2, "")
        assert error.startswith(where)
        assert error.count("\n") == 1


def _cycle(path: Path, unit: str, factor: float) -> Path:
    """A cart: 1 s at 2 N·m, 2 s at 0.5 N·m, 1 s at −1.5 N·m, speeds from 0 to 20 rad/s and back; corners doubled in time."""
    t = [0, 1, 1.000001, 3, 3.000001, 4]
    torque = [2, 2, 0.5, 0.5, -1.5, -1.5]
    speed = [0, 20, 20, 20, 20, 0]
    rows = [f"{a},{b * factor},{c * 30 / math.pi}" for a, b, c in zip(t, torque, speed, strict=True)]
    path.write_text("\n".join([f"t [s],torque [{unit}],speed [rpm]", *rows, ""]))
    return path


@pytest.mark.parametrize(("unit", "factor"), [("N·m", 1.0), ("Nm", 1.0), ("mN·m", 1e3)])
def test_a_cycle_by_hand(capsys: pytest.CaptureFixture[str], tmp_path: Path, unit: str, factor: float) -> None:
    cycle = _cycle(tmp_path / "c.csv", unit, factor)
    result = _call(capsys, "motion", "duty", cycle, "--continuous-torque", "1.5", "--peak-torque", "3", "--json")
    told = _told(result)
    assert result[0] == 0
    assert told["rms_torque"] == pytest.approx(math.sqrt((4 + 2 * 0.25 + 2.25) / 4), rel=1e-5)
    assert told["peak_torque"] == pytest.approx(2)
    # the trapezoidal rule on squares of a ramp in one step is half of its end, not a third
    assert told["rms_speed_rpm"] == pytest.approx(math.sqrt((200 + 800 + 200) / 4) * 30 / math.pi, rel=1e-5)
    assert told["braking_energy_j"] == pytest.approx(15.0, rel=1e-5)
    assert not told["findings"]


def test_a_cycle_against_the_motor(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    cycle = _cycle(tmp_path / "c.csv", "N·m", 1.0)
    over = _call(capsys, "motion", "duty", cycle, "--continuous-torque", "1.2", "--peak-torque", "1.9", "--json")
    assert over[0] == 1
    assert {(f["code"], f["level"]) for f in _told(over)["findings"]} == {
        ("continuous-torque-exceeded", "stop"),
        ("peak-torque-exceeded", "stop"),
    }
    near = _told(
        _call(capsys, "motion", "duty", cycle, "--continuous-torque", "1.38", "--peak-torque", "2", "--json")
    )
    assert [f["level"] for f in near["findings"]] == ["caution", "caution"]
    for limits, said in (
        (("2", "1"), "below the continuous one"),
        (("0", "1"), "above zero"),
        (("1", "inf"), "not a number"),
    ):
        code, _, error = _call(
            capsys, "motion", "duty", cycle, "--continuous-torque", limits[0], "--peak-torque", limits[1]
        )
        assert code == 2
        assert said in error
    bare = tmp_path / "bare.csv"
    bare.write_text("t [s],torque [N·m]\n0,1\n1,1\n")
    code, _, error = _call(capsys, "motion", "duty", bare, "--continuous-torque", "1", "--peak-torque", "2")
    assert code == 2
    assert "no column speed" in error
