"""The PWM command: measured from made signals; mapped to speed by the figures of common practice."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.errors import Refusal
from crisp_compass.modulation.command_input import command_map, read_command


def _signal(
    f: float, duty: float, *, rate: float = 2e6, seconds: float = 0.02, jitter: float = 0.0, seed: int = 0
) -> Capture:
    rng = np.random.default_rng(seed)
    t = np.arange(int(rate * seconds)) / rate
    starts = (
        np.cumsum(np.full(int(f * seconds) + 3, 1 / f) * (1 + jitter * rng.standard_normal(int(f * seconds) + 3)))
        - 0.4 / f
    )
    k = np.clip(np.searchsorted(starts, t, side="right") - 1, 0, None)
    level = ((t - starts[k]) * f < duty) & (t >= starts[0])
    return Capture("c.csv", t, {"command": level.astype(float)})


def test_frequency_duty_and_jitter() -> None:
    rng = np.random.default_rng(3)
    held = 0
    for k in range(60):
        f, duty = float(rng.uniform(800, 12e3)), float(rng.uniform(0.05, 0.95))
        found = read_command(_signal(f, duty, seed=k))
        assert found.frequency.value == pytest.approx(f, rel=2e-3)
        assert found.duty.value == pytest.approx(duty, abs=0.004)
        held += found.frequency.low <= f <= found.frequency.high and found.duty.low <= duty <= found.duty.high
        assert found.jitter < 0.01
    assert held >= 52
    shaky = read_command(_signal(2e3, 0.4, jitter=0.05, seconds=0.1))
    assert shaky.jitter == pytest.approx(0.05, rel=0.25)
    assert [f.code for f in shaky.findings] == ["command-jitter"]


def test_what_cannot_be_measured_is_refused() -> None:
    good = _signal(1e3, 0.5)
    for level, wording in ((0 * good.time, "stays low"), (0 * good.time + 1, "stays high")):
        with pytest.raises(Refusal, match=wording):
            read_command(Capture("c", good.time, {"command": level}))
    with pytest.raises(Refusal, match="too few"):
        read_command(_signal(100.0, 0.5))
    with pytest.raises(Refusal, match=r"a period holds 4\.0 samples"):
        read_command(_signal(500e3, 0.5))
    dropped = good["command"].copy()
    dropped[(good.time > 0.008) & (good.time < 0.013)] = 0
    assert "command-gaps" in [f.code for f in read_command(Capture("c", good.time, {"command": dropped})).findings]


def test_duty_to_speed_by_common_practice() -> None:
    """Common practice: 17 % begins to turn, 42 % is the highest: 25 steps at 1 %, 250 at 0.1 %; 5 V of 10 V is half speed."""
    top = 5000 * math.pi / 30
    coarse = command_map(band=(1e3, 10e3), duty=(0.17, 0.42), speed=(0.0, top), duty_step=0.01, volts=10.0)
    fine = command_map(band=(1e3, 10e3), duty=(0.17, 0.42), speed=(0.0, top), duty_step=0.001, volts=10.0)
    assert (coarse.steps, fine.steps) == (25, 250)
    assert coarse.speed_step * 30 / math.pi == pytest.approx(200)
    assert coarse.speed(0.295) == pytest.approx(top / 2)
    assert coarse.counterpart(top / 2) == pytest.approx(5.0)
    assert (coarse.speed(0.1), coarse.speed(0.9)) == (0, pytest.approx(top))
    for f, duty, level, words in (
        (500.0, 0.3, "stop", "outside the legal band"), (2e3, 0.1, "caution", "it stands"), (2e3, 0.5, "caution", "held there"), (2e3, 0.3, "info", "2600 rpm"),
    ):  # fmt: skip
        found, text = coarse.judge(f, duty)
        assert found == level
        assert words in text
    for bad in ({"duty": (0.4, 0.2)}, {"band": (10e3, 1e3)}, {"speed": (10.0, 5.0)}, {"duty_step": 0.4}):
        arguments = {
            "band": (1e3, 10e3),
            "duty": (0.17, 0.42),
            "speed": (0.0, top),
            "duty_step": 0.01,
            "volts": 10.0,
            **bad,
        }
        with pytest.raises(Refusal):
            command_map(**arguments)  # type: ignore[arg-type]


def test_a_frequency_asks_for_speed_from_one_end_of_its_band_to_the_other() -> None:
    mapped = command_map(band=(30.0, 330.0), duty=(0.1, 0.9), speed=(0.0, 400.0), duty_step=0.01, volts=10.0, by="frequency")
    assert [mapped.asked(f, 0.5) for f in (20.0, 30.0, 180.0, 330.0, 340.0)] == pytest.approx([0, 0, 200, 400, 0])
    assert mapped.judge(180.0, 0.02)[0] == "info"  # the duty says nothing here
    with pytest.raises(Refusal, match="one speed only"):
        command_map(band=(50.0, 50.0), duty=(0.1, 0.9), speed=(0.0, 400.0), duty_step=0.01, volts=10.0, by="frequency")
