"""The ramp as a table of waits: against SciPy's integrator and root finder, as C that runs a move, and where it cannot be."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest
from scipy.integrate import quad
from scipy.optimize import brentq

from crisp_compass.bench.entered import enter
from crisp_compass.bench.store import load_bench
from crisp_compass.course.position import as_designed, move_of
from crisp_compass.errors import Refusal
from crisp_compass.motion.step_table import step_table
from crisp_compass.record.formats import export_settings

DEMO = Path(__file__).parents[2] / "demo"


@pytest.mark.parametrize("rounding", [0.0, 0.09])
def test_pulses_come_where_the_profile_passes_them(rounding: float) -> None:
    v, a, step = 60.0, 400.0, 0.0157
    found = step_table(speed=v, accel=a, rounding=rounding, step=step, timer_hz=1e6)

    def speed(t: float) -> float:
        if not rounding:
            return min(a * t, v)
        return quad(lambda u: min(max(a * u, 0.0), v), t - rounding, t, points=[0.0, v / a], limit=200)[0] / rounding

    knots = sorted({x for x in (v / a, rounding) if x > 0})
    for k in (0, 40, len(found.moments) - 1):
        at = brentq(lambda t, k=k: quad(speed, 0.0, t, points=[x for x in knots if x < t] or None, limit=200)[0] - (k + 1) * step, 1e-9, v / a + rounding + 1e-6, xtol=1e-12)
        assert found.moments[k] == pytest.approx(at, abs=2e-7)
    assert np.cumsum(found.waits) == pytest.approx(found.moments * 1e6, abs=0.5)
    assert found.cruise == round(1e6 * step / v)


def test_the_table_runs_a_move_in_c(tmp_path: Path) -> None:
    """Whole moves, short ones too: as long as the profile says, up as down, and at most a step at speed off."""
    bench = enter(load_bench(DEMO / "carousel" / "carousel.bench.json"), "sensor", {"kind": "none"})
    bench = as_designed(enter(bench, "motion", {"speed": 30.0, "accel": 900.0, "rounding": 0.01}))
    (tmp_path / "steps.h").write_text(export_settings(bench, "c-step-table"))
    (tmp_path / "run.c").write_text("""
#include "steps.h"
#include <stdio.h>
int main(void) { for (uint32_t n = 1; n < 4000; n = n * 3 + 1) { uint64_t sum = 0; for (uint32_t k = 0; k < n; k++) sum += cc_step_wait(k, n);
    printf("%u %llu %u %u\\n", n, (unsigned long long)sum, (unsigned)cc_step_wait(0, n), (unsigned)cc_step_wait(n - 1, n)); } return 0; }
""")
    compiler = shutil.which("gcc")
    assert compiler is not None
    subprocess.run([compiler, "-std=c11", "-Wall", "-Wextra", "-Werror", "-O1", "-o", "run", "run.c"], cwd=tmp_path, check=True)
    told = subprocess.run([str(tmp_path / "run")], capture_output=True, text=True, check=True).stdout
    timer, move = bench.settings.pwm.timer_hz, move_of(bench)
    step = 2 * np.pi / 200 / bench.settings.stepping.microsteps
    rows = [[int(x) for x in row.split()] for row in told.splitlines()]
    for count, ticks, first, last in rows:
        assert first == last
        if count * step > move.speed * (move.speed / move.accel + move.rounding):
            # between the ends of both ramps the pulses come at speed
            assert ticks / timer == pytest.approx(count * step / move.speed + move.speed / move.accel + move.rounding, abs=2 * step / move.speed + 0.01 * step / move.speed * count**0.5)
    assert max(r[0] for r in rows) * step > move.speed**2 / move.accel


def test_what_no_table_is() -> None:
    bench = load_bench(DEMO / "carousel" / "carousel.bench.json")
    with pytest.raises(Refusal, match="only a stepped field"):
        export_settings(bench, "c-step-table")
    stepped = enter(bench, "sensor", {"kind": "none"})
    with pytest.raises(Refusal, match="no move is settled"):
        export_settings(stepped.model_copy(update={"settled": {k: v for k, v in stepped.settled.items() if k != "motion"}}), "c-step-table")
    with pytest.raises(Refusal, match="more than the 4096 that a table holds"):
        step_table(speed=60.0, accel=1.0, rounding=0.0, step=0.0157, timer_hz=1e6)
    with pytest.raises(Refusal, match="timer is too slow"):
        step_table(speed=60.0, accel=1e4, rounding=0.0, step=1e-4, timer_hz=1e6)
    assert len(step_table(speed=1.0, accel=1e6, rounding=0.0, step=0.1, timer_hz=1e6).waits) == 0
