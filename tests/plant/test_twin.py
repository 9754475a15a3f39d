"""The compiled kernels against themselves with compiling switched off: same code, same numbers."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import numpy as np
import pytest

_SCRIPT = """
import json, sys
import numpy as np
from crisp_compass.loops.step_fit import RunningLoop, respond
from crisp_compass.plant.control.six_step import six_step
from crisp_compass.plant.parameters import CURRENT, SPEED, Control, Drive, Inverter, Load, Machine, Sensing
from crisp_compass.sensing.sensor import HALLS
from crisp_compass.plant.simulation import Simulation
control = Control(ts=5e-5, kp_d=7.4, ki_d=3100.0, kp_q=9.1, ki_q=3100.0, kp_speed=0.2, ki_speed=8.0, speed_filter=2500.0, i_limit=8.0, i_trip=14.0,
                  v_min=30.0, ramp=1500.0, stall_time=0.3, decouple=1.0, ld=0.98e-3, lq=1.21e-3, psi=0.0168, delay_samples=1.8, volts_per_bus=0.5)
found = {}
for name, sensor, saturated in (("encoder", 0.0, 1.0), ("halls", float(HALLS), 0.5)):
    drive = Drive(Machine(0.41, 0.98e-3, 1.21e-3, 0.0168, 7.0, saturated, 6.0), Load(1.9e-4, 1.6e-4, 9e-3), Inverter(48.0, 0.05, 0.3, 0.1),
                  Sensing(30.0, 0.01, 0.02, 0.05, -0.03, sensor, 4096.0), control)
    sim = Simulation(drive)
    sim.command(CURRENT, i_d=-1.0, i_q=7.0)
    sim.advance(0.004)
    sim.command(SPEED, speed=80.0)
    sim.set_load(0.1)
    sim.advance(0.006)
    found[name] = [float(x) for x in sim.state]
expected = RunningLoop(8.4, 3100.0, 20e3, 0.413, 1.12e-3, 1.5, 12.0)
found["step"] = [float(x) for x in respond(expected, 0.4, 1e-3, 1e-4, np.full(60, 3.0), np.arange(50) / 20e3, lost=0.2, start=-1.0)]
machine, load = Machine(0.3, 1e-3, 1e-3, 0.01, 4.0), Load(1e-4, 1e-5, 2e-3)
edges, pairs = np.radians(np.arange(30.0, 390.0, 60.0)), np.radians(np.arange(150.0, 510.0, 60.0))
found["six-step"] = [float(x) for x in six_step(machine, load, edges, pairs, 6.0, 5.0, 0.4, 1e-4, 900)]
json.dump(found, sys.stdout)
"""


def _run(**environment: str) -> dict[str, list[float]]:
    done = subprocess.run(
        [sys.executable, "-c", _SCRIPT],
        env={**os.environ, **environment},
        capture_output=True,
        text=True,
        check=True,
        timeout=200,
    )
    return dict(json.loads(done.stdout))


@pytest.mark.thorough
def test_switching_the_compiler_off_changes_nothing() -> None:
    compiled, plain = _run(), _run(NUMBA_DISABLE_JIT="1")
    for name, values in compiled.items():
        np.testing.assert_allclose(plain[name], values, rtol=1e-6, atol=1e-8, err_msg=name)
