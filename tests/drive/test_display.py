"""What a display shows, as a factor of whole numbers, and what trims and ramps leave behind."""

from __future__ import annotations

import math
from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crisp_compass.bench import load_bench
from crisp_compass.bench.models import Bench
from crisp_compass.bench.settings.display import DisplaySettings
from crisp_compass.drive.display import best_ratio, display_of, findings_of, time_to_top
from crisp_compass.record.content import content_of


def with_display(bench: Bench, **fields: object) -> Bench:
    return bench.model_copy(update={"settings": bench.settings.model_copy(update={"display": DisplaySettings.model_validate(fields)})})


def test_a_drum_in_metres_a_minute(winch: Path) -> None:
    """Worked by hand: a drum of 0.2 m behind a gear of 10: π · 0.2 / 10 = 0.06283 m a turn of the motor, 94.2 m/min at 1,500 rpm."""
    at = 1500 * math.pi / 30
    bench = with_display(load_bench(winch), unit="m/min", shows=94.2, at=at, decimals=1)
    display = display_of(bench)
    assert display.shown(at) == "94.2 m/min"
    assert display.shown(-0.5 * at) == "−47.1 m/min"
    assert display.ratio == Fraction(157, 250)  # 942 counts for 1,500 rpm
    assert display.count == pytest.approx(1500 / 942 * math.pi / 30)
    assert display.shown(display.most) == "999.9 m/min"
    assert display.shown(1.001 * display.most) == "----"
    assert findings_of(bench) == []
    assert [f.code for f in findings_of(with_display(load_bench(winch), shows=94.2, at=at, decimals=2, figures=4))] == ["figures"]
    assert display_of(load_bench(winch)).shown(at) == "1500 rpm"  # until somebody enters what it shows


@given(st.floats(1e-4, 1e4))
def test_whole_numbers_are_the_nearest_that_a_drive_takes(value: float) -> None:
    ratio = best_ratio(value)
    assert 0 < ratio.numerator <= 32767
    assert 0 < ratio.denominator <= 32767
    assert abs(float(ratio) / value - 1) < 2e-4 if 1 / 3000 < value < 3000 else True


def test_trims_and_ramps(winch: Path, tmp_path: Path) -> None:
    bench = load_bench(winch)
    top = bench.settings.plate.top_speed
    ramps = [{"where": "command", "seconds": 2.0}, {"where": "drive", "seconds": 1.0, "speed": top / 4}]
    bench = with_display(bench, ramps=ramps, trims=[{"name": "gain", "found": "3", "stands": "neutral"}, {"name": "offset"}])
    assert time_to_top(bench) == pytest.approx(4.0)  # a quarter of the top in a second is the slower one
    assert [f.code for f in findings_of(bench)] == ["nested", "neutral", "not-noted"]
    assert "Keep one, drive with 4.00 s to top speed, and set command to none" in findings_of(bench)[0].text
    assert "Display, trims and ramps" in [s.title for s in content_of(bench, tmp_path, "")]
    bench = with_display(bench, ramps=ramps[:1], trims=[{"name": "gain", "found": "3", "stands": "put back"}])
    assert findings_of(bench) == []
