"""The kernels of other machines against the same loops in C, and against real time; part of ``make bench``."""

from __future__ import annotations

import re
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

import numpy as np

from crisp_compass.bench import load_bench
from crisp_compass.course.drive import build_drive, running_mode
from crisp_compass.course.sensorless import firmware_of
from crisp_compass.firmware.folder import files_of
from crisp_compass.firmware.plan import plan_of
from crisp_compass.firmware.played import Vectors
from crisp_compass.loops.current import limit_tracking
from crisp_compass.plant import state
from crisp_compass.plant.kernels import kernel_of
from crisp_compass.plant.parameters import (
    ALIGN,
    CURRENT,
    MAINS,
    Brushed,
    Control,
    Drive,
    Induction,
    Inverter,
    Load,
    Sensing,
    Trapezoid,
)
from crisp_compass.plant.simulation import Simulation
from crisp_compass.sensorless.estimator import SEEN, clear, over_rows
from crisp_compass.studies.batch import processors
from crisp_compass.studies.start_map import start_map, study_of

DEMO = Path(__file__).resolve().parents[1] / "demo"
_STEPS, _TIMES = 300_000, 7
_LOAD = Load(2e-3, 9e-4, 0.05)
_GAINS = {"kp_q": 0.6, "ki_q": 700.0, "kp_d": 0.6, "ki_d": 700.0}
_CASES = {
    "induction, on the mains": ("i", Induction(3.06, 26.4e-3, 26.4e-3, 0.55, 2.0, 0.2046, 2.11), Control(ts=1e-4, rotor_rate=1.0), MAINS, 187.0, 157.0),
    "brushed, at a voltage": ("b", Brushed(0.9, 1.2e-3, 1.2e-3, 0.03, drop=0.6), Control(ts=5e-5), ALIGN, 9.0, 0.0),
    "six-step, with a current": ("p", Trapezoid(0.11, 95e-6, 95e-6, 4.1e-3, 5.0, h5=0.04, h7=-0.02), Control(ts=5e-5, block=1.0, **_GAINS), CURRENT, 6.0, 0.0),
}  # fmt: skip


def machines_against_c() -> None:
    """Print, for each machine, the kernel's speed over that of C -O2 and both final speeds."""
    with tempfile.TemporaryDirectory() as folder:
        program = Path(folder) / "machines"
        source = Path(__file__).resolve().parent / "machines.c"
        subprocess.run(["gcc", "-O2", str(source), "-o", str(program), "-lm"], check=True)
        for name, (kind, m, control, mode, reference, omega) in _CASES.items():
            supply = 24.0 if kind != "i" else 400.0
            drive = Drive(m, _LOAD, Inverter(supply), Sensing(), control)
            track = limit_tracking(control.kp_q, control.ki_q, control.ts) if control.kp_q else 0.0
            figures = (
                m.r, m.lq, m.psi, m.pole_pairs, getattr(m, "lm", 1.0), getattr(m, "rr", 0.0), getattr(m, "h5", 0.0), getattr(m, "h7", 0.0),
                getattr(m, "drop", 0.0), *_LOAD[:3], supply, control.ts, control.kp_q, control.ki_q, track, control.speed_filter, reference, omega,
            )  # fmt: skip
            given = " ".join(f"{x:.17g}" for x in figures) + f" {_STEPS}\n"
            ours, theirs, ends = [], [], []
            for _ in range(_TIMES):
                sim = Simulation(drive)
                sim.command(mode, speed=omega, i_d=reference, i_q=reference)
                out = np.zeros((_STEPS + 2, len(state.OUT)))
                start = time.perf_counter()
                kernel_of(m)(sim.state, sim.drive, sim.inputs, sim._edges, sim._table_edges, _STEPS, 1, out)
                ours.append(time.perf_counter() - start)
                text = subprocess.run(
                    [str(program), kind], input=given, capture_output=True, text=True, check=True
                ).stdout
                theirs.append(float(text.split()[0]))
                ends = [sim.speed, float(text.split()[1])]
            ratio = statistics.median(theirs) / statistics.median(ours)
            print(f"{name:27s} {ratio:.2f} of the speed of C -O2 (both end at {ends[0]:.3f} and {ends[1]:.3f} rad/s)")


def estimator_against_c() -> None:
    """Print the estimator's speed over that of the source handed to firmware, in double and -O2, on the same turning motor, and both last angles."""
    bench = load_bench(DEMO / "pump" / "pump.bench.json")
    _, o, _ = firmware_of(bench)
    k = np.arange(_STEPS + 1)
    theta = np.cumsum(o.ts * (1500 + 1000 * np.sin(k / 20_000)))
    i = 1j * np.exp(1j * theta)
    v = np.diff((o.psi + 1j * o.lq) * np.exp(1j * theta)) / o.ts + 0.5 * o.r * (i[1:] + i[:-1])
    rows = [np.column_stack([x.real, x.imag]) for x in (v, i[1:])]
    source = Path(__file__).resolve().parent / "estimator.c"
    with tempfile.TemporaryDirectory() as folder:
        for source_file in files_of(plan_of(bench), [Vectors("start", "", 0.0, 0.1, ())], "now"):
            name, text = Path(source_file.name).name, source_file.text
            double = re.sub(r"\b(sin|cos|atan2|sqrt|fabs|floor)f\b", r"\1", re.sub(r"\bfloat\b", "double", text))
            (Path(folder) / name).write_text(re.sub(r"(\d)f\b", r"\1", double))
        np.column_stack(rows).astype(np.float64).tofile(Path(folder) / "rows")
        subprocess.run(
            ["gcc", "-O2", "-I.", str(source), "cc_estimator.c", "-o", "run", "-lm"], cwd=folder, check=True
        )
        ours, theirs, ends = [], [], []
        for _ in range(_TIMES):
            s, out = np.zeros(SEEN), np.zeros((_STEPS, 4))
            clear(s, 0.0, 0.0)
            start = time.perf_counter()
            over_rows(o, o.ts * k[1:], *rows, 1.0, s, out)
            ours.append(time.perf_counter() - start)
            told = subprocess.run(
                ["./run", str(_STEPS)], cwd=folder, capture_output=True, text=True, check=True
            ).stdout.split()
            theirs.append(float(told[0]))
            ends = [out[-1, 0], float(told[1])]
    ratio = statistics.median(theirs) / statistics.median(ours)
    print(
        f"{'sensorless estimator':27s} {ratio:.2f} of the speed of C -O2 (both end at {ends[0]:.4f} and {ends[1]:.4f} rad)"
    )


def start_maps() -> None:
    """Print how long a map of 40 × 40 cells with 5 starts each takes on all processors, workers warm."""
    study = study_of(load_bench(DEMO / "pump" / "pump.bench.json"))
    start_map(study, "load", "ramp", columns=4, rows=4, draws=1)
    start = time.perf_counter()
    start_map(study, "load", "ramp")
    print(f"{'map of 8,000 starts':27s} {time.perf_counter() - start:.1f} s on {processors()} processors")


def machines_in_real_time() -> None:
    """Print how many times faster than real time each demo's drive runs at its speed."""
    for name in ("winch", "carousel", "hatch", "hoist", "pump"):
        bench = load_bench(DEMO / name / f"{name}.bench.json")
        sim = Simulation(build_drive(bench))
        sim.command(running_mode(bench), speed=bench.settings.run.speed)
        sim.advance(0.5 if name != "pump" else 2.5, 100)
        best = []
        for _ in range(_TIMES):
            start = time.perf_counter()
            sim.advance(1.0, 100)
            best.append(time.perf_counter() - start)
        hertz = 1 / sim.drive.control.ts
        print(f"{name + ' in real time':27s} {1 / statistics.median(best):.0f} times at {hertz / 1e3:.0f} kHz")
