"""The ``benchmark`` command: what this machine does with the program."""

from __future__ import annotations

import os
import platform
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np


def realtime_factor() -> float:
    """Return simulated seconds per second of a full drive: 20 kHz, 4 sub-steps, encoder, noise, speed loop."""
    from crisp_compass.plant.parameters import SPEED, Control, Drive, Inverter, Load, Machine, Sensing
    from crisp_compass.plant.simulation import Simulation

    drive = Drive(
        Machine(0.42, 1.0e-3, 1.2e-3, 0.0168, pole_pairs=7.0), Load(1.9e-4, 1.6e-4, 9e-3), Inverter(v_supply=48.0, r_supply=0.05, dead_voltage=0.15, knee=0.2),
        Sensing(full_scale=25.0, step=0.0122, noise=0.01, offset_a=0.02, offset_b=-0.02, counts_per_rev=8192.0),
        control=Control(
            ts=5e-5, kp_d=7.5, ki_d=3160.0, kp_q=9.0, ki_q=3160.0, speed_divider=10, kp_speed=0.28, ki_speed=12.0, speed_filter=2500.0,
            i_limit=8.0, i_trip=18.0, v_min=20.0, ramp=1500.0, stall_time=0.5, decouple=1.0, ld=1e-3, lq=1.2e-3, psi=0.0168,
        ),
    )  # fmt: skip
    sim = Simulation(drive)
    sim.command(SPEED, speed=150.0)
    sim.advance(1.0, every=20)
    best = 0.0
    for _ in range(5):
        start = time.perf_counter()
        sim.advance(10.0, every=20)
        best = max(best, 10.0 / (time.perf_counter() - start))
    return best


def rows_per_s() -> float:
    """Return rows per second of reading a capture of three columns."""
    from crisp_compass.capture import read_capture, write_capture

    n = 400_000
    rng = np.random.default_rng(1)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "rows.csv"
        write_capture(
            path, np.arange(n).astype(np.float64) * 1e-5, {"v_ab": rng.normal(size=n), "i_a": rng.normal(size=n)}, {}
        )
        best = 0.0
        for _ in range(3):
            start = time.perf_counter()
            read_capture(path)
            best = max(best, n / (time.perf_counter() - start))
    return best


_STARTUP = """
import sys, time
begin = time.perf_counter()
from crisp_compass.__main__ import prepare
prepare()
from PySide6.QtCore import QSettings
from crisp_compass.app.main import make_application
application = make_application()
from crisp_compass.app.window import Window
window = Window(QSettings(sys.argv[1], QSettings.Format.IniFormat))
window.show()
application.processEvents()
print(time.perf_counter() - begin)
"""


def startup_s() -> float:
    """Return seconds from nothing to a painted window, in a process of its own, best of three."""
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    with tempfile.TemporaryDirectory() as folder:
        times = []
        for _ in range(3):
            command = [sys.executable, "-c", _STARTUP, str(Path(folder) / "s.ini")]
            out = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
            times.append(float(out.stdout.split()[-1]))
    return min(times)


def machine() -> dict[str, object]:
    """Return what the figures were measured on."""
    model = platform.processor() or platform.machine()
    try:
        lines = Path("/proc/cpuinfo").read_text(encoding="utf-8").splitlines()
        model = next((line.split(":", 1)[1].strip() for line in lines if line.startswith("model name")), model)
    except OSError:
        pass
    return {
        "processor": model,
        "cores": os.cpu_count() or 0,
        "system": platform.system(),
        "python": platform.python_version(),
    }


def measure() -> dict[str, float]:
    """Return what this machine does with the program."""
    return {"realtime_factor": realtime_factor(), "startup_s": startup_s(), "capture_rows_per_s": rows_per_s()}
