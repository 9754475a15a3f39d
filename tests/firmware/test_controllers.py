"""The current controllers in C, float and whole numbers, beside the kernel and on windings that are no plant of ours."""

from __future__ import annotations

import ctypes
import math
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.entered import enter
from crisp_compass.course.number_formats import bench_scales
from crisp_compass.course.waypoints.current_loop import current_tracking
from crisp_compass.firmware.folder import left_out
from crisp_compass.firmware.plan import plan_of
from crisp_compass.loops.number_format import to_forms
from crisp_compass.plant.control.field_oriented import regulate
from crisp_compass.plant.parameters import Control, Machine
from firmware.sources import run_rows, write_sources
from steps_at_the_limit import full_voltage_time, random_steps

needs_gcc = pytest.mark.skipif(shutil.which("gcc") is None, reason="gcc is not installed")


# ---- the C controllers


def _input(n: int = 4000) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """References and currents (n, 2) A, ω_e, ψ and limit (n,): steps, noise, the voltage limit met on both axes."""
    rng = np.random.default_rng(9)
    reference = np.repeat(rng.uniform(-8, 8, (n // 100, 2)), 100, axis=0)
    current = 0.8 * np.roll(reference, 7, axis=0) + 0.3 * rng.standard_normal((n, 2))
    omega = 900 * np.sin(np.arange(n) / 300)
    return reference, current, omega, np.full(n, 0.0168), np.full(n, 24.0) + 4 * np.sin(np.arange(n) / 50)


def _control(bench: Bench, **change: float) -> Control:
    v = bench.settled["current_loop"].values
    loop_hz = bench.settled["pwm"].values["loop_hz"].value
    ld, lq = (bench.settled["inductance"].values[k].value for k in ("ld", "lq"))
    base = Control(  # type: ignore[call-arg]
        1 / loop_hz,
        v["kp_d"].value,
        v["ki_d"].value,
        v["kp_q"].value,
        v["ki_q"].value,
        *([1.0] * 10),
        ld,
        lq,
        0.0168,
        0.0,
        *current_tracking(bench),
    )
    return base._replace(**change)


FLOAT_MAIN = """#include "cc_current.h"
#include <stdio.h>
int main(void) {
    cc_current_state s = {0, 0}; cc_dq r, i; float w, psi, limit;
    while (scanf("%f %f %f %f %f %f %f", &r.d, &r.q, &i.d, &i.q, &w, &psi, &limit) == 7) {
        cc_dq u = cc_current_step(&s, r, i, w, psi, limit);
        printf("%.9g %.9g\\n", (double)u.d, (double)u.q);
    }
    return 0;
}
"""
FIXED_MAIN = """#include "cc_current_fixed.h"
#include <stdio.h>
int main(void) {
    cc_fixed_state s = {0, 0, 0, 0}; cc_fixed_dq r, i, f; int limit;
    while (scanf("%d %d %d %d %d %d %d", &r.d, &r.q, &i.d, &i.q, &f.d, &f.q, &limit) == 7) {
        cc_fixed_dq u = cc_fixed_step(&s, r, i, f, limit);
        printf("%d %d\\n", u.d, u.q);
    }
    return 0;
}
"""


@needs_gcc
def test_float_controller_is_the_kernel_to_rounding(winch: Path, tmp_path: Path) -> None:
    bench = load_bench(winch)
    write_sources(bench, tmp_path)
    reference, current, omega, psi, limit = _input()
    theirs = run_rows(tmp_path, "cc_current.c", FLOAT_MAIN, np.column_stack([reference, current, omega, psi, limit]))
    control, state = _control(bench), [0.0, 0.0]
    limited = 0
    for k in range(len(omega)):
        e = reference[k] - current[k]
        feed_d = -omega[k] * control.lq * current[k, 1]
        feed_q = omega[k] * (control.ld * current[k, 0] + psi[k])
        vd, vq, state[0], state[1] = regulate(control, state[0], state[1], e[0], e[1], feed_d, feed_q, limit[k])
        assert theirs[k, 0] == pytest.approx(vd, abs=2e-4)
        # where d takes nearly the whole circle, what is left for q is the small difference of two squares
        assert theirs[k, 1] == pytest.approx(vq, abs=2e-4 + 2e-6 * limit[k] * abs(vd) / max(abs(vq), 0.02))
        limited += math.hypot(vd, vq) > 0.999 * limit[k]
    assert 200 < limited < 3800  # the limit is part of what is compared


@needs_gcc
def test_fixed_controller_is_the_kernel_to_four_counts(winch: Path, tmp_path: Path) -> None:
    bench = load_bench(winch)
    write_sources(bench, tmp_path)
    scales = bench_scales(plan_of(bench).bench)
    reference, current, omega, psi, limit = _input()
    i_counts = np.round(np.column_stack([reference, current]) / scales.i_base * 32768).astype(int)
    control = _control(bench)
    feed = np.column_stack([-omega * control.lq * current[:, 1], omega * (control.ld * current[:, 0] + psi)])
    v_counts = np.round(np.column_stack([feed, limit]) / scales.v_base * 32768).astype(int)
    theirs = run_rows(
        tmp_path, "cc_current_fixed.c cc_fixed_math.c", FIXED_MAIN, np.column_stack([i_counts, v_counts])
    )
    # the kernel in counts, with the gains that the integers stand for
    d, q = (to_forms(kp, ki, scales) for kp, ki in ((control.kp_d, control.ki_d), (control.kp_q, control.ki_q)))
    counts = control._replace(kp_d=d.kp_q.value, kp_q=q.kp_q.value, ki_d=d.ki_q.value, ki_q=q.ki_q.value, ts=1.0)
    state = [0.0, 0.0]
    worst = 0.0
    for k in range(len(omega)):
        e = (i_counts[k, :2] - i_counts[k, 2:]).astype(float)
        vd, vq, state[0], state[1] = regulate(counts, state[0], state[1], e[0], e[1], *map(float, v_counts[k]))
        # where d takes nearly the whole circle, one count of it is many of what is left for q
        corner = 1.0 * abs(vd) / max(abs(vq), 16.0) if math.hypot(vd, vq) > 0.99 * v_counts[k, 2] else 0.0
        worst = max(worst, abs(theirs[k, 0] - vd), abs(theirs[k, 1] - vq) - corner)
    assert worst <= 4.0


class _Pair(ctypes.Structure):
    _fields_ = (("d", ctypes.c_float), ("q", ctypes.c_float))


class _Counts(ctypes.Structure):
    _fields_ = (("d", ctypes.c_int32), ("q", ctypes.c_int32))


class _Sums(ctypes.Structure):
    _fields_ = tuple((k, ctypes.c_int32) for k in ("d", "q", "rest_d", "rest_q"))


def _library(folder: Path, name: str) -> ctypes.CDLL:
    built = folder / f"{name}.so"
    subprocess.run(
        ["gcc", "-std=c99", "-O2", "-shared", "-fPIC", f"{name}.c", "cc_fixed_math.c", "-o", str(built), "-lm"],
        cwd=folder,
        check=True,
    )
    return ctypes.CDLL(str(built))


@pytest.mark.thorough(each=4)
@needs_gcc
@pytest.mark.parametrize("seed", range(10))
def test_both_c_controllers_use_the_whole_voltage_on_a_winding(winch: Path, tmp_path: Path, seed: int) -> None:
    """Large steps on random windings, speeds and buses: within 1.15 of full voltage's time, at most 5 % over; no plant of ours."""
    machine, ts, bus, omega, step = random_steps(1, seed=100 + seed)[0]
    bench = _bench_of(load_bench(winch), machine, ts, bus, 6 * step)
    write_sources(bench, tmp_path)
    limit, we = bus / math.sqrt(3), machine.pole_pairs * omega
    scales = bench_scales(plan_of(bench).bench)
    in_float, in_counts = _library(tmp_path, "cc_current"), _library(tmp_path, "cc_current_fixed")
    in_float.cc_current_step.restype, in_counts.cc_fixed_step.restype = _Pair, _Counts
    state, sums = _Pair(0, 0), _Sums(0, 0, 0, 0)
    amps, volts = scales.i_base / 32768, scales.v_base / 32768

    def floating(i: complex) -> complex:
        u = in_float.cc_current_step(
            ctypes.byref(state),
            _Pair(0.0, step),
            _Pair(i.real, i.imag),
            ctypes.c_float(we),
            ctypes.c_float(machine.psi),
            ctypes.c_float(limit),
        )
        return complex(u.d, u.q)

    def fixed(i: complex) -> complex:
        feed = complex(-we * machine.lq * i.imag, we * (machine.ld * i.real + machine.psi)) / volts
        u = in_counts.cc_fixed_step(
            ctypes.byref(sums),
            _Counts(0, round(step / amps)),
            _Counts(round(i.real / amps), round(i.imag / amps)),
            _Counts(round(feed.real), round(feed.imag)),
            ctypes.c_int32(round(limit / volts)),
        )
        return complex(u.d, u.q) * volts

    need = full_voltage_time(machine, limit, omega, step)
    a = machine.r / machine.lq + 1j * we
    decay = np.exp(-a * ts)
    for controller in (floating, fixed):
        # the rotor's frame turns on while a vector is held; the program tells people to lead it by the delay
        i, waiting, y = 0j, 1j * we * machine.psi, []
        for _ in range(round(need / ts) * 3 + 200):
            y.append(i.imag)
            now, waiting = waiting, controller(i)
            i = i * decay + (now - 1j * we * machine.psi) / machine.lq * (1 - decay) / a
        k = int(np.argmax(np.array(y) >= 0.9 * step))
        assert y[k] >= 0.9 * step
        reached = (k - 1 + (0.9 * step - y[k - 1]) / (y[k] - y[k - 1])) * ts
        assert (reached - ts) / need < 1.15
        assert max(y) / step < 1.05


def _bench_of(bench: Bench, machine: Machine, ts: float, bus: float, most: float) -> Bench:
    """The winch with another winding, its loop by pole cancellation at a twentieth of the loop rate."""
    gain = 2 * math.pi / ts / 20
    values = {
        "resistance": {"resistance": machine.r},
        "inductance": {"ld": machine.ld, "lq": machine.lq},
        "pwm": {"loop_hz": 1 / ts},
        "current_loop": {"kp_d": gain * machine.ld, "ki_d": gain * machine.r, "kp_q": gain * machine.lq, "ki_q": gain * machine.r},
    }  # fmt: skip
    settled = dict(bench.settled)
    for topic, entries in values.items():
        old = settled[topic]  # type: ignore[index]
        changed = {k: old.values[k].model_copy(update={"value": v}) for k, v in entries.items()}
        settled[topic] = old.model_copy(update={"values": {**old.values, **changed}})  # type: ignore[index]
    loop = bench.settings.current_loop.model_copy(update={"i_base": most, "v_base": max(bus, 48.0), "bits": 16})
    run = bench.settings.run.model_copy(update={"i_trip": 0.8 * most})
    fresh = bench.settings.model_copy(update={"current_loop": loop, "run": run})
    return bench.model_copy(update={"settled": settled, "settings": fresh})


def test_a_word_too_long_or_a_scale_too_short_leaves_the_whole_numbers_out(winch: Path, tmp_path: Path) -> None:
    bench = load_bench(winch)
    for field, value, said in (
        ("bits", 32, "up to 16 bits"),
        ("v_base", 40.0, "below the bus of 48.0 V"),
        ("i_base", 12.0, "below the trip level"),
    ):
        made = left_out(plan_of(enter(bench, "current_loop", {field: value})))
        assert len(made) == 1
        assert said in made[0]
    write_sources(enter(bench, "current_loop", {"bits": 32}), tmp_path)
    assert (tmp_path / "cc_current.c").exists()
    assert not (tmp_path / "cc_current_fixed.c").exists()
