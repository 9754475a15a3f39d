"""The speed loop's gains as integers, and back: the round trip, slips of a factor named, words and scales that cannot be; and the page."""

from __future__ import annotations

from pathlib import Path

import pytest

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench
from crisp_compass.course.speed_design import design_speed
from crisp_compass.course.speed_formats import read_speed, speed_forms, speed_scales
from crisp_compass.errors import Refusal


def demo(name: str, **fields: object) -> Bench:
    bench = load_bench(Path("demo") / name / f"{name}.bench.json")
    return enter(bench, "speed_loop", fields) if fields else bench


@pytest.mark.parametrize("name", ["winch", "pump", "hoist", "hatch"])
def test_integers_mean_the_gains_that_they_were_made_from(name: str) -> None:
    bench = demo(name)
    forms, scales = speed_forms(bench), speed_scales(bench)
    # counts in, counts out, by hand: full scale of the word is the base
    one = forms.kp * scales.i_base / scales.v_base
    assert forms.kp_q.value == pytest.approx(one, rel=1e-3)
    back = read_speed(enter(bench, "speed_loop", {"kp_integer": forms.kp_q.integer, "kp_shift": forms.kp_q.shift, "ki_integer": forms.ki_q.integer, "ki_shift": forms.ki_q.shift}))
    assert back is not None
    assert (back.kp, back.ki) == (pytest.approx(forms.kp, rel=2e-3), pytest.approx(forms.ki, rel=2e-3))
    assert back.loop.margins.stable
    assert read_speed(bench) is None


def test_slips_of_a_factor_are_named() -> None:
    bench = demo("winch")
    forms = speed_forms(bench)
    design = design_speed(bench)

    def typed(kp: float, ki: float) -> Bench:
        return enter(bench, "speed_loop", {"kp_integer": max(round(forms.kp_q.integer * kp), 1), "kp_shift": forms.kp_q.shift, "ki_integer": max(round(forms.ki_q.integer * ki), 1), "ki_shift": forms.ki_q.shift})

    assert design.margins.stable
    for kp, ki, said in ((1 / 9.549, 1 / 9.549, "rpm for rad/s"), (1 / 7.0, 1 / 7.0, "electrical for mechanical")):
        read = read_speed(typed(kp, ki))
        assert read is not None
        assert any(said in f.text for f in read.findings), [f.text for f in read.findings]
    with pytest.raises(Refusal, match="does not fit"):
        read_speed(enter(bench, "speed_loop", {"kp_integer": 70000, "ki_integer": 10}))
    with pytest.raises(Refusal, match="below the top speed"):
        speed_forms(demo("winch", w_base=10.0))
    wild = read_speed(enter(enter(bench, "current_loop", {"bits": 32}), "speed_loop", {"kp_integer": 2**30, "kp_shift": 20, "ki_integer": 2**20, "ki_shift": 20}))
    assert wild is not None
    assert wild.verdict == "wrong"
