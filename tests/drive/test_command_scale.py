"""Speed commands: the line, what a broken wire does, and what points say that lie beside it.

Check values are common practice: a live zero of 4 to 20 mA is a broken wire below 3.6 mA; a constant ratio means a wrong span, a constant difference a wrong offset.
"""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.drive.command_scale import (
    findings_of,
    highest,
    judge_points,
    lost,
    mended,
    ramp_of,
    scale_of,
    truth_table,
)
from crisp_compass.errors import Refusal
from crisp_compass.record.content import Section, Table, content_of


def with_command(**fields: object) -> Bench:
    return enter(Bench(), "command", {"speed_low": 0.0, "speed_high": 150.0, **fields})


def test_the_line_its_steps_its_ends_and_its_ramp() -> None:
    bench = with_command(source="current")
    scale = scale_of(bench)
    assert scale.speed(0.012) == pytest.approx(75.0)
    assert scale.speed(0.030) == 150.0
    assert scale.command(75.0) == pytest.approx(0.012)
    assert scale.step == pytest.approx(0.020 / 4096)
    assert lost(scale) == ("below 3.60 mA it is a broken wire: let the drive stop then", True)
    assert ramp_of(with_command(ramp_time=3.0, ramp_speed=120.0), scale) == pytest.approx(40.0)
    assert math.isinf(ramp_of(with_command(ramp_time=0.0), scale))
    bent = with_command(source="volts", volts_low=-10.0, volts_high=10.0, speed_low=-150.0, dead_band=0.02)
    assert scale_of(bent).speed(0.3) == 0.0
    assert scale_of(bent).speed(-5.0) == pytest.approx(-75.0)
    with pytest.raises(Refusal, match="no span"):
        scale_of(with_command(volts_low=5.0, volts_high=5.0))


def test_what_can_hurt_is_said() -> None:
    runs = with_command(volts_low=2.0, volts_high=8.0, speed_low=-100.0, enable="level", safe_speed=40.0, gear=3.0)
    codes = {f.code for f in findings_of(runs, scale_of(runs))}
    assert codes == {"starts-by-itself", "lost-signal-runs", "beyond-safe-speed"}
    limit = highest(runs, scale_of(runs))
    assert limit is not None
    assert scale_of(runs).speed(limit) == pytest.approx(120.0)
    assert truth_table(runs)[-1][-1] == "STARTS BY ITSELF"
    calm = with_command(enable="edge")
    assert not findings_of(calm, scale_of(calm))
    assert "stands until" in truth_table(calm)[-1][-1]


@given(st.floats(0.7, 1.4), st.floats(-20, 20), st.integers(0, 1000), st.sampled_from(["span", "offset", "both"]))
def test_points_say_what_is_wrong_and_what_mends_it(ratio: float, offset: float, seed: int, kind: str) -> None:
    scale = scale_of(with_command())
    ratio = 1.0 if kind == "offset" else ratio
    offset = 0.0 if kind == "span" else offset
    rng = np.random.default_rng(seed)
    points = [(x, ratio * scale.speed(x) + offset + float(rng.uniform(-0.1, 0.1))) for x in (0.5, 2.0, 4.0, 6.0, 9.5)]
    judged = judge_points(scale, points)
    wrong = max(abs(y - scale.speed(x)) for x, y in points)
    if wrong <= 0.75:
        assert judged.verdict == "agrees"
        return
    assert judged.verdict in ("span", "offset", "both")
    if kind == "both" and abs(ratio - 1) * 100 > 3 and abs(offset) > 3:
        assert judged.verdict == "both"
    elif kind != "both" and wrong > 3:
        assert judged.verdict == kind
    low, high = mended(scale, judged)  # the drive, told these ends, makes of each command what was meant
    for x, _ in points:
        told = low + (x - scale.low) / (scale.high - scale.low) * (high - low)
        assert ratio * told + offset == pytest.approx(scale.speed(x), abs=1.6)


def test_noise_is_called_noise() -> None:
    scale = scale_of(with_command())
    assert judge_points(scale, [(2.0, 40.0), (4.0, 52.0), (6.0, 101.0), (8.0, 112.0)]).verdict == "noise"
    assert judge_points(scale, [(2.0, 30.0)]).verdict == "none"
    assert judge_points(scale, [(2.0, 30.0), (2.1, 31.0)]).verdict == "none"


def test_the_record_tells_how_the_speed_is_told(tmp_path: Path) -> None:
    def section(bench: Bench) -> Section | None:
        return next((s for s in content_of(bench, tmp_path, "") if s.title == "Command"), None)

    assert section(Bench()) is None  # nobody said how
    found = section(with_command(speed_high=100.0, enable="level", points=[{"command": 5.0, "speed": 60.0}, {"command": 10.0, "speed": 110.0}]))
    assert found is not None
    line, read = found.blocks
    assert isinstance(line, Table)
    assert isinstance(read, Table)
    assert line.rows[1:3] == (("0 V", "0 rpm"), ("10.0 V", "955 rpm"))
    assert "starts by itself" in line.note
    assert read.rows[0] == ("5.00 V", "477 rpm", "573 rpm")
    assert "one difference" in read.note
