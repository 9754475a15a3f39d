"""``make bench``: figures and ratios, measured in one run. Machines are noisy; compare the ratios."""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import polars as pl
from PySide6.QtCore import QSettings

from crisp_compass import benchmark
from crisp_compass.app.main import make_application
from crisp_compass.app.window import Window
from crisp_compass.capture import read_capture, write_capture

DEMO = Path(__file__).resolve().parent.parent / "demo"


def median_seconds(function: Callable[[], object], runs: int) -> float:
    """Return the median duration of ``function``."""
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        function()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def reading() -> None:
    """Compare our reader with the parser it stands on, same file, same run."""
    n = 1_000_000
    rng = np.random.default_rng(1)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "rows.csv"
        write_capture(path, np.arange(n) * 1e-5, {"v_ab": rng.normal(size=n), "i_a": rng.normal(size=n)}, {})
        bare = median_seconds(lambda: pl.read_csv(path), 5)
        ours = median_seconds(lambda: read_capture(path), 5)
    print(f"reading 1 million rows × 3  {ours:.2f} s; the bare parser {bare:.2f} s: {bare / ours:.0%} of its speed")


def levers() -> None:
    """Measure from a lever's step to the redrawn plots, in the real window."""
    application = make_application()
    with tempfile.TemporaryDirectory() as folder:
        window = Window(QSettings(str(Path(folder) / "s.ini"), QSettings.Format.IniFormat))
        window.document.load(DEMO / "winch" / "winch.bench.json")
        window.show()
        for leg, field in (("current_loop", "bandwidth_hz"), ("speed_loop", "a")):
            window.travel(leg)
            application.processEvents()
            lever = window.page._levers[field]  # type: ignore[attr-defined]
            times = []
            for k in range(80):
                start = time.perf_counter()
                lever.step(k < 40)
                application.processEvents()
                times.append(1e3 * (time.perf_counter() - start))
            worst = sorted(times)[-4]
            print(
                f"lever to redrawn plot       {leg}: median {statistics.median(times):.0f} ms, 95 % below {worst:.0f} ms"
            )
        window.page.leave()
        window.document.undo_stack.setClean()
        window.document.drop_autosave()
        window.close()


def main() -> None:
    """Print every figure."""
    benchmark.main([])
    reading()
    levers()


if __name__ == "__main__":
    main()
