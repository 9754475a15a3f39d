"""Torque of a stepper over its speed against a search over every direction of the voltage, and through the command."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.cli.main import run
from crisp_compass.motion.step_torque import StepMotor

GIVEN = {"--r": "1.7", "--l": "2.9m", "--psi": "11 mWb", "--steps-per-turn": "200", "--current": "1.9", "--vbus": "27", "--speed-rpm": "700"}


@pytest.mark.parametrize("motor", [StepMotor(1.7, 2.9e-3, 11e-3, 50), StepMotor(0.4, 0.6e-3, 40e-3, 12), StepMotor(30.0, 60e-3, 90e-3, 50)])
@pytest.mark.parametrize("volts", [12.0, 48.0])
def test_the_most_torque_is_what_a_search_over_the_voltages_direction_finds(motor: StepMotor, volts: float) -> None:
    """Phasors of the steady state of one winding, in complex numbers: i = (v − jωψ)/(R + jωL), torque p·ψ·Re i; the current is 1 A at most."""
    towards = np.exp(1j * np.linspace(0, 2 * np.pi, 20001))
    for speed in np.geomspace(0.5, 800.0, 15):
        we = motor.pole_pairs * speed
        i = (volts * towards - 1j * we * motor.flux_linkage * (-1j)) / (motor.resistance + 1j * we * motor.inductance)
        most = max(min(i.real.max(), 1.0) * motor.pole_pairs * motor.flux_linkage, 0.0)
        assert motor.most_torque(1.0, volts, np.array([speed]))[0] == pytest.approx(most, rel=1e-6, abs=1e-9)
    falls, ends = motor.falls_from(1.0, volts), motor.ends_at(volts)
    if falls > 0:
        at = motor.most_torque(1.0, volts, np.array([0.999 * falls, 1.01 * falls]))
        assert at[0] == pytest.approx(motor.holding(1.0))
        assert at[1] < 0.999 * motor.holding(1.0)
    else:
        assert volts <= motor.resistance
    if math.isfinite(ends):
        assert motor.most_torque(1.0, volts, np.array([0.999 * ends]))[0] > 0 == motor.most_torque(1.0, volts, np.array([1.001 * ends]))[0]
    else:
        assert motor.most_torque(1.0, volts, np.array([1e6]))[0] > 0


def _asked(capsys: pytest.CaptureFixture[str], *more: str, **other: str) -> tuple[int, str, str]:
    options = GIVEN | {f"--{k}": v for k, v in other.items()}
    code = run(["motion", "stepper", *(x for pair in options.items() for x in pair), *more])
    said = capsys.readouterr()
    return code, said.out, said.err


def test_the_command_says_torque_rate_and_resonance(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    code, out, _ = _asked(capsys, "--torque", "0.2", "--inertia", "4e-5", "-o", str(tmp_path / "t.csv"), "--json")
    told = json.loads(out)
    assert code == 0
    assert told["holding_torque"] == pytest.approx(50 * 0.011 * 1.9)
    assert told["rate_per_s"] == pytest.approx(700 / 60 * 200)
    assert told["resonance_hz"] == pytest.approx(math.sqrt(50 * 50 * 0.011 * 1.9 / 4e-5) / 2 / math.pi)
    assert told["resonance_rpm"] == pytest.approx(told["resonance_hz"] * 60 / 200)
    rows = np.genfromtxt(tmp_path / "t.csv", delimiter=",", skip_header=1)
    assert np.interp(700, rows[:, 0], rows[:, 2]) == pytest.approx(told["pull_out_torque"], rel=1e-3)
    assert np.interp(told["falls_from_rpm"] * 0.99, rows[:, 0], rows[:, 2]) == pytest.approx(told["holding_torque"], rel=1e-6)
    for torque, wanted in (("0.01", (0, [])), (f"{told['pull_out_torque'] / 1.2:.4f}", (0, ["pull-out-margin"])), (f"{told['pull_out_torque'] * 1.01:.4f}", (1, ["torque-beyond-pull-out"]))):
        code, out, _ = _asked(capsys, "--torque", torque, "--json")
        assert (code, [f["code"] for f in json.loads(out)["findings"]]) == wanted
    code, out, _ = _asked(capsys, "--inertia", "4e-5", "--json", **{"speed-rpm": f"{told['resonance_rpm']:.3f}"})
    assert [f["code"] for f in json.loads(out)["findings"]] == ["at-resonance"]
    code, out, _ = _asked(capsys, "--json", vbus="2.8")
    assert "current-not-reached" in [f["code"] for f in json.loads(out)["findings"]]
    for option, value, words in (
        ("steps-per-turn", "201", "--steps-per-turn: 201 full steps"), ("current", "0", "--current: 0 is none"), ("l", "0", "--l: a inductance"), ("inertia", "0", "--inertia: an inertia of 0"), ("torque", "-1", "--torque: -1 N·m"),
        ("speed-rpm", "nan", "not a number"),
    ):  # fmt: skip
        code, _, err = _asked(capsys, **{option: value})
        assert code == 2, option
        assert words.replace("a inductance", "an inductance") in err
