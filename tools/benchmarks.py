"""``make bench``: figures and ratios, measured in one run. Machines are noisy; compare the ratios."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import live_frames
import loop_gaps
import machine_bench
import numpy as np
import polars as pl
from PySide6.QtCore import QSettings

from crisp_compass import benchmark
from crisp_compass.app.main import make_application
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.window import Window
from crisp_compass.bench import load_bench
from crisp_compass.course.drive import build_drive
from crisp_compass.course.waypoints.current_loop import design_current
from crisp_compass.plant import state
from crisp_compass.plant.kernels import kernel_of
from crisp_compass.plant.parameters import SPEED
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.lead_orders import expect_orders
from crisp_compass.studies.step_band import current_band

DEMO = Path(__file__).resolve().parent.parent / "demo"


def median_seconds(function: Callable[[], object], runs: int) -> float:
    """Return the median duration of ``function``."""
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        function()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


_READ = """
import sys, time
import polars as pl
from crisp_compass.capture import read_capture
pl.read_csv(b"a,b\\n1,2\\n")
def most():
    return next(int(line.split()[1]) / 1024 for line in open("/proc/self/status") if line.startswith("VmHWM"))
before = most()
start = time.perf_counter()
read_capture(sys.argv[2]) if sys.argv[1] == "ours" else pl.read_csv(sys.argv[2])
print(time.perf_counter() - start, most() - before)
"""


def reading() -> None:
    """Compare our reader with the bare parser on the same file, each in a fresh process, turn by turn."""
    n = 10_000_000
    rng = np.random.default_rng(1)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "rows.csv"
        columns = {
            "t [s]": np.arange(n) / 1e6,
            "v_ab [V]": rng.normal(size=n).round(4),
            "i_a [A]": rng.normal(size=n).round(5),
        }
        pl.DataFrame(columns).write_csv(path)
        del columns
        times: dict[str, list[float]] = {"bare": [], "ours": []}
        memory = 0.0
        for _ in range(5):
            for who, kept in times.items():
                out = subprocess.run(
                    [sys.executable, "-c", _READ, who, str(path)], capture_output=True, text=True, check=True
                )
                seconds, megabytes = map(float, out.stdout.split())
                kept.append(seconds)
                memory = max(memory, megabytes) if who == "ours" else memory
    bare, ours = (statistics.median(times[who]) for who in ("bare", "ours"))
    arrays = 3 * 8 * n / 2**20
    print(f"reading 10 million rows × 3 {ours:.2f} s; the bare parser {bare:.2f} s: {bare / ours:.0%} of its speed")
    print(f"memory while reading them   {memory:.0f} MB, {memory / arrays:.1f} times the arrays' {arrays:.0f} MB")


def panning() -> None:
    """Measure frames a second while a plot of 10 million samples is moved, and whether one spike stays in sight."""
    application = make_application()
    n, spike = 10_000_000, 4_321_987
    values = np.random.default_rng(1).normal(size=n)
    values[spike] = 40.0
    plot = Plot(("time", "s"), ("voltage", "V"), name="long")
    plot.resize(900, 400)
    plot.curve("measured", "deep", width=1, dense=True)
    plot.show()
    plot.set("measured", np.arange(n) * 1e-6, values)
    plot.fit()
    for span in (9.0, 1.0, 0.02):
        times, seen = [], True
        for k in range(40):
            start = time.perf_counter()
            left = max(spike * 1e-6 - span * (0.2 + 0.015 * k), 0.0)
            plot.plotItem.setXRange(left, left + span, padding=0)
            application.processEvents()
            plot.repaint()
            times.append(time.perf_counter() - start)
            seen = seen and float(np.max(plot._curves["measured"][0].yData)) == 40.0
        print(
            f"moving a plot of 10 million {span:g} s shown: {1 / statistics.median(times):.0f} frames/s, spike {'always seen' if seen else 'LOST'}"
        )
    plot.close()


_START = """
import os, sys, time
from pathlib import Path
begin = time.perf_counter()
if sys.argv[1] == "ours":
    from crisp_compass.__main__ import prepare
    prepare()
    from PySide6.QtCore import QSettings
    from crisp_compass.app.main import make_application
    from crisp_compass.app.window import Window
    application, window = make_application(), Window(QSettings(sys.argv[2] + ".ini", QSettings.Format.IniFormat))
else:
    import importlib
    for name in Path(sys.argv[2]).read_text().split():
        try:
            importlib.import_module(name)
        except ImportError:  # half of a package that is none by itself
            pass
    from PySide6.QtWidgets import QApplication, QMainWindow
    application, window = QApplication([]), QMainWindow()
    window.resize(1280, 800)
window.show()
application.processEvents()
print(time.perf_counter() - begin, flush=True)
if sys.argv[1] == "ours":
    Path(sys.argv[2]).write_text("\\n".join(m for m in sys.modules if not m.startswith(("crisp_compass", "__"))))
os._exit(0)
"""


def start_against_bare() -> None:
    """Start the window and a bare one that loads the same libraries, turn by turn, each in a process of its own."""
    times: dict[str, list[float]] = {"ours": [], "bare": []}
    # as an installation starts: what is compiled to bytecode is kept
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    with tempfile.TemporaryDirectory() as folder:
        for turn in range(8):
            for who in ("ours", "bare"):
                command = [sys.executable, "-c", _START, who, str(Path(folder) / "modules")]
                out = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
                if turn:
                    times[who].append(float(out.stdout))
    ours, bare = (min(times[who]) for who in ("ours", "bare"))
    print(f"start to window             {ours:.2f} s; a bare window of the same libraries {bare:.2f} s: {ours / bare:.2f} times")


def lead_orders() -> None:
    """Time the simulation of all six lead orders of the demo winch: 72 runs of 0.8 s."""
    bench = load_bench(DEMO / "winch" / "winch.bench.json")
    expect_orders(bench)
    print(
        f"six lead orders             {median_seconds(lambda: expect_orders(bench), 5):.2f} s for all, both directions"
    )


def kernel_against_c() -> None:
    """Run the same drive in the compiled kernel and in C (-O2), turn by turn; both must end at the same speed."""
    bench = load_bench(DEMO / "winch" / "winch.bench.json")
    drive = build_drive(bench)
    drive = drive._replace(sensing=drive.sensing._replace(noise=0.0, offset_a=0.0, offset_b=0.0))
    m, load, inv, sensing, c = drive[:5]
    steps, target = 400_000, bench.settings.run.speed
    figures = (
        m.r, m.ld, m.lq, m.psi, m.pole_pairs, *load[:3], *inv[:4], sensing.full_scale, sensing.step, sensing.counts_per_rev, c.ts, c.kp_d, c.ki_d, c.kp_q,
        c.ki_q, c.speed_divider, c.kp_speed, c.ki_speed, c.speed_filter, c.i_limit, c.i_trip, c.v_min, c.ramp, c.stall_time,
    )  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        program = Path(folder) / "drive"
        source = Path(__file__).resolve().parent / "drive.c"
        subprocess.run(["gcc", "-O2", str(source), "-o", str(program), "-lm"], check=True)
        given = " ".join(f"{x:.17g}" for x in figures) + f" {target:.17g} {steps}\n"
        ours, theirs, speeds = [], [], []
        for _ in range(7):
            sim = Simulation(drive)
            sim.command(SPEED, speed=target)
            out = np.zeros((steps + 2, len(state.OUT)))
            start = time.perf_counter()
            kernel_of(sim.drive.machine)(
                sim.state, sim.drive, sim.inputs, sim._edges, sim._table_edges, steps, 1, out
            )
            ours.append(time.perf_counter() - start)
            text = subprocess.run([str(program)], input=given, capture_output=True, text=True, check=True).stdout
            seconds, speed, fault = text.split()
            theirs.append(float(seconds))
            speeds = [sim.speed, float(speed), float(fault)]
    a, b = statistics.median(ours), statistics.median(theirs)
    print(
        f"kernel against C -O2        {b / a:.2f} of its speed ({steps / a / 1e6:.2f} and {steps / b / 1e6:.2f} million periods/s; "
        f"both end at {speeds[0]:.3f} and {speeds[1]:.3f} rad/s)"
    )


def thousand_runs() -> None:
    """Time the thousand runs of the current step."""
    bench = load_bench(DEMO / "winch" / "winch.bench.json")
    design = design_current(bench)
    current_band(bench, design, runs=10)
    print(f"a thousand current steps    {median_seconds(lambda: current_band(bench, design), 5):.2f} s")


#: All that stands around the speed loop.
EVERYTHING = {"set_point": "filtered", "set_weight": 0.3, "rounding": 0.05, "feed_forward": "both", "low_pass_hz": 500.0, "notch_hz": 160.0, "slow_below": 20.0}


def number_to_plot() -> None:
    """Measure from a number's step to the redrawn plots, in the real window."""
    application = make_application()
    with tempfile.TemporaryDirectory() as folder:
        window = Window(QSettings(str(Path(folder) / "s.ini"), QSettings.Format.IniFormat))
        window.document.load(DEMO / "winch" / "winch.bench.json")
        window.show()
        for waypoint, field, name, fields in (
            ("current_loop", "bandwidth_hz", "current_loop", {}), ("speed_loop", "a", "speed_loop", {}), ("speed_loop", "a", "speed_loop, everything on", EVERYTHING), ("pwm", "carrier_hz", "pwm", {}),
        ):  # fmt: skip
            if fields:
                window.document.set_fields("everything on", {waypoint: fields})
            window.travel(waypoint)
            application.processEvents()
            number = window.page._fields[field]  # type: ignore[attr-defined]
            times = []
            for k in range(80):
                start = time.perf_counter()
                number.step(k < 40)
                application.processEvents()
                times.append(1e3 * (time.perf_counter() - start))
            worst = sorted(times)[-4]
            print(
                f"number to redrawn plot       {name}: median {statistics.median(times):.0f} ms, 95 % below {worst:.0f} ms"
            )
        window.page.leave()
        window.document.undo_stack.setClean()
        window.document.drop_autosave()
        window.close()


def main() -> None:
    """Print every figure."""
    for name, value in benchmark.measure().items():
        print(f"{name}: {value:.3g}")
    reading()
    panning()
    lead_orders()
    start_against_bare()
    kernel_against_c()
    machine_bench.machines_against_c()
    machine_bench.estimator_against_c()
    machine_bench.machines_in_real_time()
    machine_bench.start_maps()
    thousand_runs()
    number_to_plot()
    loop_gaps.measure()
    live_frames.measure()


if __name__ == "__main__":
    main()
