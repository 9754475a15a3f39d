"""Makes the demo bench and captures of the sample pump, a motor without a sensor. Everything is invented and simulated.

Run: python demo/make_pump.py. The seeds are fixed, so the files come out the same every time.
"""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from make_demo import (
    HERE,
    ORIGIN,
    clock,
    coasting,
    ledger,
    proposed,
    read,
    run_up,
    settings,
    staircase_by_supply,
    voltage_steps,
)

from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import save_bench
from crisp_compass.capture import write_capture
from crisp_compass.course.drive import build_drive
from crisp_compass.plant import state
from crisp_compass.plant.parameters import SPEED, Load, Machine
from crisp_compass.plant.simulation import Simulation
from crisp_compass.preparation.checks import record_choice, record_reading

PUMP = Machine(r=0.387, ld=61.5e-6, lq=61.5e-6, psi=3.06e-3, pole_pairs=1.0)
PUMP_LOAD = Load(inertia=8.7e-7, viscous=2.4e-8, coulomb=4.1e-4)
#: Water in the chamber: 5.4 mN·m at 33,000 rpm.
WATER = 4.5e-10
_RPM = math.pi / 30


def started(bench: Bench, path: Path, speed: float, seconds: float) -> None:
    """Start the true pump with the settled firmware, its copper 12 % warmer; record currents and the voltages averaged over each period."""
    drive = build_drive(bench)
    drive = drive._replace(machine=PUMP._replace(r=1.12 * PUMP.r), load=PUMP_LOAD._replace(quadratic=WATER))
    sim = Simulation(drive, seed=5)
    sim.state[state.THETA] = 1.9
    sim.command(SPEED, speed=speed)
    sim.advance(0.8)  # the alignment, of which an estimator sees nothing
    ts, rows = drive.control.ts, []
    for _ in range(round(seconds / ts)):
        trace = sim.advance(ts)
        rows.append([sim.time, trace["i_a"][0], trace["i_b"][0], *sim.state[[state.V_ALPHA + 1, state.V_BETA + 1]]])
    t, ia, ib, va, vb = np.array(rows).T
    # a row's currents are of the beginning of its period: the voltage is that of the period before
    va, vb = np.concatenate([[0.0], va[:-1]]), np.concatenate([[0.0], vb[:-1]])
    rng = np.random.default_rng(56)
    columns = {
        "i_a": np.round(ia + 0.012 * rng.standard_normal(len(t)), 3),
        "i_b": np.round(ib + 0.012 * rng.standard_normal(len(t)), 3),
        "v_ab": np.round(1.5 * va - 0.5 * math.sqrt(3) * vb + 0.02 * rng.standard_normal(len(t)), 3),
        "v_bc": np.round(math.sqrt(3) * vb + 0.02 * rng.standard_normal(len(t)), 3),
    }
    write_capture(
        path,
        np.linspace(0, (len(t) - 1) * ts, len(t)),
        columns,
        {**ORIGIN, "pole_pairs": "1", "voltages": "means over the sampling period"},
    )


def make_pump(folder: Path) -> None:
    """The pump: settled from plate to speed loop, without a sensor."""
    folder.mkdir(exist_ok=True)
    staircase_by_supply(PUMP, [0.5, 1.0, 1.6, 2.2, 2.8], folder / "pump-staircase.csv")
    voltage_steps(PUMP, 0.4, 2.0, 8, folder / "pump-step.csv", "", 51)
    coasting(PUMP, PUMP_LOAD, 1500.0, 1.2, 1 / 20e3, folder / "pump-coast.csv", 52)
    run_up(PUMP, PUMP_LOAD, 0.45, 0.6, 2.2, folder / "pump-run-up.csv")
    bench = Bench(
        name="Sample pump", notes="Lake-survey buoy, sample pump. Invented motor; every capture is simulated."
    )
    bench = settings(
        bench, "plate", motor="SP-24/1 pump rotor", pole_pairs=1, v_bus=24.0, rated_current=2.8, top_speed=33000 * _RPM, kv=1790.0
    )  # fmt: skip
    bench = settings(bench, "sensor", kind="none")
    bench = settings(bench, "resistance", temperature=23.5)
    bench = settings(bench, "pwm", timer_hz=170e6, carrier_hz=24e3, dead_time=110e-9)
    bench = settings(bench, "current_loop", bandwidth_hz=1500.0, step=1.5)
    bench = settings(
        bench, "speed_loop", method="bandwidth", bandwidth_hz=22.0, filter_hz=400.0, divider=12, ramp=6000.0
    )
    bench = settings(bench, "run", speed=18500 * _RPM, i_limit=4.0, i_trip=9.0, v_min=15.0, quadratic=WATER)
    bench = settings(bench, "start_up", low_current=1.8)
    bench = proposed(bench, "plate", "data sheet of the pump rotor", 0)
    bench = ledger(bench, 1, "note", "rotor in its chamber, no hose, guard on")
    for name, value in (("phase_u", 1.8e9), ("phase_v", 1.9e9), ("phase_w", 1.9e9)):
        bench = record_reading(bench, "insulation_motor", name, value, clock(1))
    bench = record_choice(bench, "clamped", "in-order", "chamber screwed to the plate, guard on", clock(1))
    for minute, topic, name, reason in (
        (2, "resistance", "staircase", "slope of five levels"),
        (3, "inductance", "step", "steps, fit within the noise"),
        (4, "flux", "coast", "coast without water"),
        (5, "mechanics", "run-up", "run-up and coast, no water"),
    ):
        bench = read(bench, topic, f"pump-{name}.csv", folder, minute)
        bench = proposed(bench, topic, reason, minute)
    for minute, topic, reason in (
        (8, "pwm", "as the firmware sets its timer"),
        (9, "current_loop", "margin enough for the pump"),
        (10, "start_up", "hand-over well above the voltage error"),
        (11, "speed_loop", "calm flow wanted"),
    ):
        bench = proposed(bench, topic, reason, minute)
    started(bench, folder / "pump-start.csv", 12000 * _RPM, 0.9)
    bench = read(bench, "start_up", "pump-start.csv", folder, 14)
    save_bench(bench, folder / "pump.bench.json")


if __name__ == "__main__":
    make_pump(HERE / "pump")
