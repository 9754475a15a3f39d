"""Gaps of the window's event loop while a person walks all pages, drops a large capture, saves a record and runs the drive."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import polars as pl
from PySide6.QtCore import QCoreApplication, QEvent, QSettings, QThreadPool, QTimer

from crisp_compass.app.main import make_application
from crisp_compass.app.pages import PAGES
from crisp_compass.app.window import Window
from crisp_compass.plant.simulation import prepare

DEMO = Path(__file__).resolve().parent.parent / "demo"


def large_coast(path: Path, rows: int) -> None:
    """Write a coast of the thruster with ``rows`` rows."""
    t = np.arange(rows) * (11.0 / rows)
    speed = 300 * np.exp(-t / 6)
    theta = np.cumsum(speed) * 6 * t[1]
    rng = np.random.default_rng(1)

    def volts(behind: float) -> np.ndarray:
        ideal = -np.sqrt(3) * 6 * speed * 2.137e-3 * np.cos(theta - np.pi / 3 - behind)
        return np.asarray((ideal + rng.normal(0, 0.02, rows)).round(4))

    pl.DataFrame({"t [s]": t.round(8), "v_ab [V]": volts(0.0), "v_bc [V]": volts(2 * np.pi / 3)}).write_csv(path)


class Gaps:
    """Longest time in ms between two turns of the event loop, by what was done."""

    def __init__(self) -> None:
        self.found: dict[str, float] = {}
        self._what, self._last = "", time.perf_counter()
        self._timer = QTimer()
        self._timer.setInterval(1)
        self._timer.timeout.connect(self._tick)
        self._timer.start()

    def _tick(self) -> None:
        now = time.perf_counter()
        self.found[self._what] = max(self.found.get(self._what, 0.0), 1e3 * (now - self._last))
        self._last = now

    def during(self, what: str, act: Callable[[], object], done: Callable[[], bool], limit: float = 120.0) -> float:
        """Do something and let the loop turn until it is done and nothing runs; return the seconds it took."""
        self._what, self._last = what, time.perf_counter()
        start = self._last
        act()
        self._tick()
        pool = QThreadPool.globalInstance()
        while time.perf_counter() - start < limit:
            QCoreApplication.processEvents()
            self._tick()
            if done() and pool.activeThreadCount() == 0:
                QCoreApplication.processEvents()
                if done() and pool.activeThreadCount() == 0:
                    break
            time.sleep(0.001)
        return time.perf_counter() - start


def frames(window: Window, width: int, height: int) -> float:
    """Return the frames a second of Run at steady speed, start long past, at a size."""
    window.resize(width, height)
    run = window.page
    run.start()  # type: ignore[attr-defined]
    run._timer.stop()  # type: ignore[attr-defined]
    for _ in range(170):
        run.advance(0.033)  # type: ignore[attr-defined]
    QCoreApplication.processEvents()
    start, count = time.perf_counter(), 30
    for _ in range(count):
        run.advance(0.033)  # type: ignore[attr-defined]
        QCoreApplication.processEvents()
    taken = time.perf_counter() - start
    run.stop()  # type: ignore[attr-defined]
    return count / taken


def measure(rows: int = 5_600_000) -> None:
    """Print the gaps and the frame rates."""
    make_application()
    prepare()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for demo in ("winch", "thruster", "pump"):
            for file in (DEMO / demo).iterdir():
                shutil.copy(file, folder)
        large_coast(folder / "large.csv", rows)
        size = (folder / "large.csv").stat().st_size / 1e6
        window = Window(QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat))
        window.document.load(folder / "winch.bench.json")
        window.show()
        gaps = Gaps()
        for key, names in PAGES.items():
            for section in names:
                window.page_of(key, section)  # as built ahead while nobody waits
        gaps.during("opening", lambda: None, lambda: True)
        print(f"event loop, first paint of the window: {gaps.found.pop('opening'):.0f} ms")
        for key, names in PAGES.items():
            for section in names if key != "start_up" else ():
                gaps.during(f"{key} {section}", lambda k=key, s=section: window.travel(k, s), lambda: True)  # type: ignore[misc]
        window.document.load(folder / "pump.bench.json")
        for section in PAGES["start_up"]:
            gaps.during(f"start_up {section}", lambda s=section: window.travel("start_up", s), lambda: True)  # type: ignore[misc]
        window.document.load(folder / "winch.bench.json")
        worst = max(gaps.found, key=lambda k: gaps.found[k])
        print(f"event loop, walking {len(gaps.found)} pages: longest gap {gaps.found[worst]:.0f} ms ({worst})")
        for what, gap in sorted(gaps.found.items(), key=lambda g: -g[1])[:4]:
            print(f"    {what}: {gap:.0f} ms")
        window.travel("hand_over")
        until = time.perf_counter() + 8  # somebody reads the page first
        gaps.during("reading Hand over", lambda: None, lambda: time.perf_counter() > until)
        took = gaps.during("record", lambda: window.page.save_record(folder / "r.pdf"), (folder / "r.pdf").exists)  # type: ignore[attr-defined]
        print(f"event loop, saving a PDF record: longest gap {gaps.found['record']:.0f} ms in {took:.1f} s")
        window.travel("run")
        for width, height in ((1280, 800), (2560, 1400)):
            print(f"run at {width} × {height}: {frames(window, width, height):.0f} frames/s at steady speed")
        window.resize(1280, 800)
        window.document.load(folder / "thruster.bench.json")
        window.travel("flux")
        took = gaps.during("drop", lambda: window.take_file(folder / "large.csv"), lambda: window.intake.idle)
        print(
            f"event loop, dropping {size:.0f} MB: longest gap {gaps.found['drop']:.0f} ms; answered after {took:.1f} s"
        )
        window.document.undo_stack.setClean()
        window.close()
        window.deleteLater()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


if __name__ == "__main__":
    measure()
