"""The drive in whole numbers: closed around the motor on a PC beside the float one, the same on every processor, and quick enough for one without floats."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench.entered import enter
from crisp_compass.course.number_formats import bench_scales
from crisp_compass.firmware.cost import FIXED
from crisp_compass.firmware.folder import files_of, left_out
from crisp_compass.firmware.plan import plan_of
from crisp_compass.firmware.save import write_files
from firmware.sources import FLAGS, NO_VECTORS
from firmware.test_emulated import BOARDS, emulated, written
from firmware.test_folder import CASES, again, demo

needs_gcc = pytest.mark.skipif(shutil.which("gcc") is None, reason="gcc is not installed")
needs_board = pytest.mark.skipif(
    any(shutil.which(t) is None for t in ("arm-none-eabi-gcc", "qemu-system-arm")),
    reason="not installed: gcc-arm-none-eabi or qemu-system-arm",
)

BESIDE = """#include "cc_plant.h"
#include "cc_drive_fixed.h"
#include <math.h>
#include <stdio.h>
static int32_t counts(float x, float base) { return (int32_t)lroundf(x / base * (float)CC_FIXED_FULL); }
int main(void) {
    static cc_drive f; static cc_fixed_drive w; static cc_plant pf, pw; static cc_pulses of, ow; long k; int n;
    const float speeds[4] = { TARGET, -TARGET * 0.5f, TARGET * 3.0f, TARGET };
    cc_init(&f); cc_fixed_init(&w); cc_plant_init(&pf, 0.0); cc_plant_init(&pw, 0.0);
    for (n = 0; n < 6; n++) {
        cc_set_speed(&f, speeds[n % 4]); cc_run(&f, n == 5 ? CC_OFF : CC_RUN_SPEED);
        w.target = (int32_t)lroundf(speeds[n % 4] * CC_FIXED_SPEED_PER_RAD_S); cc_fixed_run(&w, n == 5 ? CC_FIXED_OFF : CC_FIXED_RUN_SPEED);
        pf.supply = pw.supply = (n == 4) ? 0.5 * (double)CC_V_MIN_V : pf.supply;
        for (k = 0; k < 8000; k++) {
            cc_input in; cc_fixed_input whole;
            cc_plant_read(&pf, &in); cc_step(&f, &in, &of);
            if (k % 20 == 0) printf("%d %.6g %.6g %.6g %d ", n, pf.omega, pf.i_alpha, pf.i_beta, (int)f.fault);
            cc_plant_read(&pw, &in);
            whole.i_a = counts(in.i_a[0], CC_FIXED_I_BASE_A); whole.i_b = counts(in.i_a[1], CC_FIXED_I_BASE_A);
            whole.bus = counts(in.v_bus, CC_FIXED_V_BASE_V); whole.count = in.count;
            cc_fixed_drive_step(&w, &whole, &ow);
            if (k % 20 == 0) printf("%.6g %.6g %.6g %d\\n", pw.omega, pw.i_alpha, pw.i_beta, (int)w.fault);
            cc_plant_step(&pf, &of); cc_plant_step(&pw, &ow);
        }
    }
    { cc_fixed_input wild = { 40000, -40000, 70000, 0 }; cc_fixed_run(&w, CC_FIXED_RUN_SPEED); /* whatever a counter and a caller can say */
      for (k = 0; k < 400; k++) { wild.count = (int32_t)((uint32_t)k * 2654435761u); w.target = (k & 1) ? 2147483647 : -2147483647; w.fault = 0u; cc_fixed_drive_step(&w, &wild, &ow); }
      cc_fixed_run(&w, CC_FIXED_OFF); }
    return (cc_fixed_acknowledge(&w) == 1 && w.fault == 0) ? 0 : 1;
}
"""


@needs_gcc
@pytest.mark.parametrize("case", ["encoder", "clamped", "limits set"])
def test_it_runs_the_motor_as_the_float_drive_does(case: str, tmp_path: Path) -> None:
    """Start, reversal, a speed beyond the voltage, back, a failing supply: speeds within 0.5 %, the same fault."""
    bench = CASES[case]()
    target = 100.0 if case == "limits set" else bench.settings.run.speed
    factor = "1.4f" if case == "limits set" else "3.0f"  # a limit of 150 rad/s trips both
    write_files(tmp_path, files_of(plan_of(bench), NO_VECTORS, "t"))
    (tmp_path / "main.c").write_text(BESIDE.replace("TARGET * 3.0f", f"TARGET * {factor}"))
    sources = [f"src/{p.name}" for p in sorted((tmp_path / "src").glob("*.c"))]
    own = [s for s in sources if "fixed" in s]
    checked = ["-fsanitize=undefined", "-fno-sanitize-recover=all", "-std=c99", "-Iinclude", "-Ipc"]
    built = subprocess.run(["gcc", *FLAGS, *checked, "-c", *own], cwd=tmp_path, check=False, capture_output=True, text=True)
    assert built.returncode == 0, built.stderr
    subprocess.run(["gcc", "-O1", *checked, f"-DTARGET={target}f", "main.c", "pc/cc_plant.c", *sources, "-lm", "-o", "both"], cwd=tmp_path, check=True)
    done = subprocess.run(["./both"], cwd=tmp_path, check=False, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    rows = np.array([[float(x) for x in line.split()] for line in done.stdout.splitlines()])
    stage, floats, whole = rows[:, 0], rows[:, 1:5], rows[:, 5:]
    for n in range(4):
        part = stage == n
        assert whole[part][-1, 0] == pytest.approx(floats[part][-1, 0], rel=5e-3, abs=0.2)
        assert np.abs(whole[part, 0] - floats[part, 0]).max() < 0.03 * np.abs(floats[:, 0]).max()
    limit = plan_of(bench).drive.control.i_limit
    assert np.hypot(whole[:, 1], whole[:, 2]).max() < 1.1 * max(limit, np.hypot(floats[:, 1], floats[:, 2]).max())
    assert set(whole[stage == 4, 3][1:]) == set(floats[stage == 4, 3][1:])
    assert (whole[stage < 5, 3][::50] == floats[stage < 5, 3][::50]).mean() > 0.99


SERVO = """#include "cc_drive_fixed.h"
#include <stdio.h>
#ifdef NS_A_TICK
#include "count.h"
#else
static void count_from_here(void) { }
static unsigned long counted(void) { return 0; }
#endif
int main(void) {
    static cc_fixed_drive d; static cc_pulses p; cc_fixed_input in = { 0, 0, 20000, 0 }; int k; unsigned long most = 0, usual = 0, c; uint32_t x = 1u, sum = 0u;
    cc_fixed_init(&d); d.target = 40 * CC_FIXED_SPEED_OF_COUNT; cc_fixed_run(&d, CC_FIXED_RUN_SPEED);
    for (k = 0; k < 3000; k++) { /* a turning shaft and currents that are anything */
        x = x * 1664525u + 1013904223u;
        in.count += 4; in.i_a = ((int32_t)(x >> 16) - 32768) / ((k & 512) ? 3 : 40); in.i_b = ((int32_t)(x & 65535u) - 32768) / ((k & 512) ? 3 : 40); in.bus = 20000 + (int32_t)(x >> 20);
        count_from_here(); cc_fixed_drive_step(&d, &in, &p); c = counted();
        most = (c > most) ? c : most; usual += c;
        sum = sum * 31u + (uint32_t)d.period.v_alpha + 7u * (uint32_t)d.period.v_beta + p.compare[0] + 3u * p.compare[1] + 5u * p.compare[2] + d.fault;
        if (d.fault != 0u) { cc_fixed_run(&d, CC_FIXED_OFF); (void)cc_fixed_acknowledge(&d); cc_fixed_run(&d, CC_FIXED_RUN_SPEED); }
    }
    printf("%lu %lu %lu\\n", (unsigned long)sum, most, usual / 3000u);
    return 0;
}
"""
SENSORLESS = """#include "cc_estimator_fixed.h"
#include "cc_period_fixed.h"
#include <stdio.h>
#include "count.h"
int main(void) {
    static cc_estimator_fixed_state s; static cc_period_fixed_state d; static cc_pulses p; int k; unsigned long most = 0, c; uint32_t x = 1u;
    cc_estimator_fixed_init(&s, 0, 0);
    for (k = 0; k < 2000; k++) {
        cc_fixed_dq r = { 0, 3000 };
        x = x * 1664525u + 1013904223u;
        count_from_here();
        cc_estimator_fixed_step(&s, d.v_alpha * 256, d.v_beta * 256, (int32_t)(x >> 12), (int32_t)(x >> 13));
        cc_period_fixed(&d, (int32_t)(x >> 19), (int32_t)(x >> 20), s.out_angle, s.speed, r, 20000, &p);
        c = counted();
        most = (c > most) ? c : most;
    }
    printf("%lu\\n", most);
    return 0;
}
"""


@needs_board
def test_a_processor_without_floats_computes_a_period_in_time(tmp_path: Path) -> None:
    """Cortex-M0: the whole drive by an encoder within what the README says, bit by bit the host's; Cortex-M4: estimator and period."""
    whole, dragged = tmp_path / "servo", tmp_path / "sensorless"
    for folder in (whole, dragged):
        folder.mkdir()
    written(CASES["encoder"](), whole)
    (whole / "main.c").write_text(SERVO)
    parts = [f"src/{n}.c" for n in ("cc_drive_fixed", "cc_period_fixed", "cc_current_fixed", "cc_fixed_math", "cc_modulation")]
    subprocess.run(["gcc", "-O1", "-std=c99", "-fsanitize=undefined", "-fno-sanitize-recover=all", "-Iinclude", "main.c", *parts, "-lm", "-o", "host"], cwd=whole, check=True)
    host = subprocess.run(["./host"], cwd=whole, check=True, capture_output=True, text=True).stdout.split()[0]
    for board in BOARDS:
        sum_, most, _usual = emulated(board, whole, ["main.c", *parts]).split()
        assert sum_ == host
        if board == "M0":
            assert int(most) <= FIXED["whole drive by an encoder, Cortex-M0"]
    written(CASES["estimator"](), dragged)
    (dragged / "main.c").write_text(SENSORLESS)
    parts = [f"src/{n}.c" for n in ("cc_estimator_fixed", "cc_period_fixed", "cc_current_fixed", "cc_fixed_math", "cc_modulation")]
    assert int(emulated("M4F", dragged, ["main.c", *parts])) <= FIXED["estimator and period, Cortex-M4"]


def test_what_it_does_not_do_is_said_and_left_out(tmp_path: Path) -> None:
    names = {f.name for f in files_of(plan_of(CASES["weakening"]()), NO_VECTORS, "t")}
    assert "src/cc_period_fixed.c" in names
    assert "src/cc_drive_fixed.c" not in names
    readme = next(f.text for f in files_of(plan_of(CASES["weakening"]()), NO_VECTORS, "t") if f.name == "README.md")
    assert "The whole drive in whole numbers is made for an encoder" in readme
    slow = again(enter(demo("winch"), "speed_loop", {"ramp": 0.5}), "speed_loop")
    assert any("too slow" in s for s in left_out(plan_of(slow)))
    assert bench_scales(plan_of(demo("winch")).bench).bits == 16
