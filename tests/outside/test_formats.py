"""Number formats there and back, and the generated C controllers against the compiled kernel on the same input."""

from __future__ import annotations

import ctypes
import math
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crisp_compass.bench import Bench, load_bench
from crisp_compass.course.waypoints.current_loop import current_tracking
from crisp_compass.errors import Refusal
from crisp_compass.loops.number_format import QGain, Scales, from_integers, quantise, to_forms
from crisp_compass.plant.control.field_oriented import regulate
from crisp_compass.plant.parameters import Control, Machine
from crisp_compass.record.c_controller import controller_sources
from steps_at_the_limit import full_voltage_time, random_steps

needs_gcc = pytest.mark.skipif(shutil.which("gcc") is None, reason="gcc is not installed")
FLAGS = ["gcc", "-std=c99", "-O2", "-Wall", "-Wextra", "-Werror", "-Wconversion"]


@settings(max_examples=200, deadline=None)
@given(
    gain=st.floats(1e-4, 3e4), bits=st.sampled_from([12, 16, 24, 32])
)  # fmt: skip
def test_integers_are_as_fine_as_the_word_allows(gain: float, bits: int) -> None:
    most = (1 << (bits - 1)) - 1
    if round(gain) > most:
        with pytest.raises(Refusal, match="overflows"):
            quantise(gain, bits)
        return
    if round(gain * 2.0**30) == 0:
        return
    found = quantise(gain, bits)
    assert 0 < found.integer <= most
    assert found.value == pytest.approx(gain, abs=0.5 / 2.0**found.shift)
    assert found.shift == 30 or 2 * found.integer + 1 > most  # one more shift would not fit


@settings(max_examples=100, deadline=None)
@given(
    r=st.floats(0.02, 10), tau=st.floats(2e-4, 2e-2), loop=st.floats(5e3, 60e3), share=st.floats(0.01, 0.06),
    i_base=st.floats(1, 500), v_base=st.floats(10, 600),
)  # fmt: skip
def test_there_and_back(r: float, tau: float, loop: float, share: float, i_base: float, v_base: float) -> None:
    """Physical gains to integers and back: gains within rounding, bandwidth the design's, zero on the pole."""
    kp, ki = 2 * math.pi * share * loop * r * tau, 2 * math.pi * share * loop * r
    scales = Scales(i_base, v_base, loop, 16)
    try:
        forms = to_forms(kp, ki, scales)
    except Refusal as refusal:
        assert "overflows" in refusal.sentence or "rounds to nothing" in refusal.sentence
        return
    read = from_integers(forms.kp_q, forms.ki_q, scales, r=r, inductance=r * tau, delay_samples=1.5)
    assert read.kp == pytest.approx(kp, rel=abs(forms.kp_q.error) + 1e-9)
    assert read.ki == pytest.approx(ki, rel=abs(forms.ki_q.error) + 1e-9)
    if abs(forms.kp_q.error) < 0.005 and abs(forms.ki_q.error) < 0.005:
        assert read.bandwidth_hz == pytest.approx(share * loop, rel=0.01)
        assert read.verdict == "sound"


def test_a_worked_controller() -> None:
    """By hand: 7.6 V/A, 2600 V/(A·s) at 20 kHz, 33 A and 48 V full scale: 5.225 and 0.089375 counts per count."""
    forms = to_forms(7.6, 2600.0, Scales(33.0, 48.0, 20e3, 16))
    assert forms.kp_pu == pytest.approx(5.225)
    assert forms.ki_ts_pu == pytest.approx(0.089375)
    assert (forms.kp_q.integer, forms.kp_q.shift) == (21402, 12)  # 5.225 · 4096 = 21401.6
    assert (forms.ki_q.integer, forms.ki_q.shift) == (23429, 18)  # 0.089375 · 262144 = 23429.1
    assert (forms.b0, forms.b1) == (pytest.approx(7.73), -7.6)
    assert forms.ti == pytest.approx(7.6 / 2600)


def test_slips_are_named() -> None:
    winding = {"r": 0.413, "inductance": 1.1e-3, "delay_samples": 1.5}
    scales = Scales(33.0, 48.0, 20e3, 16)
    forms = to_forms(2 * math.pi * 1200 * 1.1e-3, 2 * math.pi * 1200 * 0.413, scales)
    twice = quantise(
        forms.ki_ts_pu / 20e3 * 4096, 16
    )  # 4096 only lifts it into the word; the slip is the second period
    found = from_integers(forms.kp_q, QGain(twice.integer, min(twice.shift + 12, 31), 0.0), scales, **winding)  # type: ignore[arg-type]
    assert "folded into Ki twice" in found.findings[0].text
    fast = from_integers(QGain(30000, 8, 0.0), forms.ki_q, scales, **winding)  # type: ignore[arg-type]
    assert fast.verdict == "wrong"
    slow = from_integers(
        QGain(forms.kp_q.integer, forms.kp_q.shift + 6, 0.0),
        QGain(forms.ki_q.integer, forms.ki_q.shift + 6, 0.0),
        scales,
        **winding,  # type: ignore[arg-type]
    )
    assert any(f.code == "slow" for f in slow.findings)
    for kp, ki, wording in ((0, 5, "Kp = 0"), (40000, 5, "does not fit 16 bits"), (5, 5, "")):
        if wording:
            with pytest.raises(Refusal, match=wording):
                from_integers(QGain(kp, 0, 0.0), QGain(ki, 0, 0.0), scales, **winding)  # type: ignore[arg-type]
    with pytest.raises(Refusal, match="shift of 40"):
        from_integers(QGain(5, 40, 0.0), QGain(5, 0, 0.0), scales, **winding)  # type: ignore[arg-type]
    for bad in (Scales(0.0, 48.0, 20e3), Scales(33.0, 48.0, 20e3, 64)):
        with pytest.raises(Refusal):
            to_forms(7.6, 2600.0, bad)
    with pytest.raises(Refusal, match="overflows 16 bits"):
        to_forms(1e6, 2600.0, Scales(500.0, 12.0, 20e3, 16))


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


def _write(bench: Bench, folder: Path) -> None:
    for source in controller_sources(bench):
        (folder / source.name).write_text(source.text, encoding="utf-8")


def _run(folder: Path, source: str, main: str, rows: np.ndarray) -> np.ndarray:
    (folder / "main.c").write_text(main)
    (folder / "in.txt").write_text("\n".join(" ".join(f"{x:.9g}" for x in row) for row in rows) + "\n")
    subprocess.run([*FLAGS, "-c", source, "-o", "controller.o"], cwd=folder, check=True, capture_output=True)
    subprocess.run(["gcc", "-std=c99", "-O2", "main.c", "controller.o", "-o", "main", "-lm"], cwd=folder, check=True)
    out = subprocess.run("./main < in.txt", cwd=folder, shell=True, check=True, capture_output=True, text=True).stdout
    return np.array([[float(x) for x in line.split()] for line in out.splitlines()])


FLOAT_MAIN = """#include "cc_current_float.h"
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
    cc_fixed_state s = {0, 0}; cc_fixed_dq r, i, f; int limit;
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
    _write(bench, tmp_path)
    reference, current, omega, psi, limit = _input()
    theirs = _run(
        tmp_path, "cc_current_float.c", FLOAT_MAIN, np.column_stack([reference, current, omega, psi, limit])
    )
    control, state = _control(bench), [0.0, 0.0]
    limited = 0
    for k in range(len(omega)):
        e = reference[k] - current[k]
        feed_d = -omega[k] * control.lq * current[k, 1]
        feed_q = omega[k] * (control.ld * current[k, 0] + psi[k])
        vd, vq, state[0], state[1] = regulate(control, state[0], state[1], e[0], e[1], feed_d, feed_q, limit[k])
        assert theirs[k, 0] == pytest.approx(vd, abs=2e-4)
        assert theirs[k, 1] == pytest.approx(vq, abs=2e-4)
        limited += math.hypot(vd, vq) > 0.999 * limit[k]
    assert 200 < limited < 3800  # the limit is part of what is compared


@needs_gcc
def test_fixed_controller_is_the_kernel_to_one_unit(winch: Path, tmp_path: Path) -> None:
    bench = load_bench(winch)
    _write(bench, tmp_path)
    settings = bench.settings.current_loop
    reference, current, omega, psi, limit = _input()
    i_counts = np.round(np.column_stack([reference, current]) / settings.i_base * 32768).astype(int)
    control = _control(bench)
    feed = np.column_stack([-omega * control.lq * current[:, 1], omega * (control.ld * current[:, 0] + psi)])
    v_counts = np.round(np.column_stack([feed, limit]) / settings.v_base * 32768).astype(int)
    theirs = _run(tmp_path, "cc_current_fixed.c", FIXED_MAIN, np.column_stack([i_counts, v_counts]))
    # the kernel in counts, with the gains that the integers stand for
    scales = Scales(settings.i_base, settings.v_base, 1 / control.ts, 16)
    d, q = (to_forms(kp, ki, scales) for kp, ki in ((control.kp_d, control.ki_d), (control.kp_q, control.ki_q)))
    counts = control._replace(kp_d=d.kp_q.value, kp_q=q.kp_q.value, ki_d=d.ki_q.value, ki_q=q.ki_q.value, ts=1.0)
    state = [0.0, 0.0]
    worst = 0.0
    for k in range(len(omega)):
        e = (i_counts[k, :2] - i_counts[k, 2:]).astype(float)
        vd, vq, state[0], state[1] = regulate(counts, state[0], state[1], e[0], e[1], *map(float, v_counts[k]))
        worst = max(worst, abs(theirs[k, 0] - vd), abs(theirs[k, 1] - vq))
    assert worst <= 1.0


class _Pair(ctypes.Structure):
    _fields_ = (("d", ctypes.c_float), ("q", ctypes.c_float))


class _Counts(ctypes.Structure):
    _fields_ = (("d", ctypes.c_int32), ("q", ctypes.c_int32))


class _Sums(ctypes.Structure):
    _fields_ = (("d", ctypes.c_int64), ("q", ctypes.c_int64))


def _library(folder: Path, name: str) -> ctypes.CDLL:
    built = folder / f"{name}.so"
    subprocess.run(
        ["gcc", "-std=c99", "-O2", "-shared", "-fPIC", f"{name}.c", "-o", str(built), "-lm"], cwd=folder, check=True
    )
    return ctypes.CDLL(str(built))


@needs_gcc
@pytest.mark.parametrize("seed", range(10))
def test_both_c_controllers_use_the_whole_voltage_on_a_winding(winch: Path, tmp_path: Path, seed: int) -> None:
    """Large steps on random windings, speeds and buses: within 1.15 of full voltage's time, at most 5 % over; no plant of ours."""
    machine, ts, bus, omega, step = random_steps(1, seed=100 + seed)[0]
    bench = _bench_of(load_bench(winch), machine, ts, bus, 6 * step)
    _write(bench, tmp_path)
    limit, we = bus / math.sqrt(3), machine.pole_pairs * omega
    settings = bench.settings.current_loop
    in_float, in_counts = _library(tmp_path, "cc_current_float"), _library(tmp_path, "cc_current_fixed")
    in_float.cc_current_step.restype, in_counts.cc_fixed_step.restype = _Pair, _Counts
    state, sums = _Pair(0, 0), _Sums(0, 0)
    amps, volts = settings.i_base / 32768, settings.v_base / 32768

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
    loop = bench.settings.current_loop.model_copy(update={"i_base": most, "v_base": bus, "bits": 16})
    return bench.model_copy(
        update={"settled": settled, "settings": bench.settings.model_copy(update={"current_loop": loop})}
    )


def test_a_word_too_long_for_the_fixed_controller_is_refused(winch: Path) -> None:
    bench = load_bench(winch)
    settings = bench.settings.model_copy(
        update={"current_loop": bench.settings.current_loop.model_copy(update={"bits": 32})}
    )
    with pytest.raises(Refusal, match="up to 16 bits"):
        controller_sources(bench.model_copy(update={"settings": settings}))
