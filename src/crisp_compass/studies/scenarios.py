"""Scripted runs of the simulated drive, and captures of them."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.course.drive import build_drive, running_current, running_mode
from crisp_compass.course.waypoints.commutation import hall_edges
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import CURRENT, locked_rotor
from crisp_compass.plant.simulation import Simulation, Trace, join

#: Columns of the capture format that a run fills.
RUN_COLUMNS = (
    "speed_ref",
    "speed",
    "i_d_ref",
    "i_d",
    "i_q_ref",
    "i_q",
    "v_d",
    "v_q",
    "i_a",
    "i_b",
    "i_c",
    "v_bus",
    "torque",
    "angle",
)


def open_simulation(bench: Bench, *, seed: int = 1) -> Simulation:
    """Return a simulation of the bench's drive at rest, loaded as the run is."""
    drive, edges, run = build_drive(bench), hall_edges(bench), bench.settings.run
    sim = Simulation(drive, seed=seed) if edges is None else Simulation(drive, edges=edges, seed=seed)
    sim.set_load(run.load, drives=run.load_kind == "drives")
    return sim


def check_sound(sim: Simulation) -> None:
    """Refuse a shaft that was thrown beyond all figures."""
    if not (math.isfinite(sim.state[state.THETA]) and math.isfinite(sim.state[state.OMEGA])):
        raise Refusal("the load throws the shaft beyond what can be simulated", "check load, swing, flywheel and friction of the run", field="run.load")


def _run_at(sim: Simulation, bench: Bench, speed: float) -> None:
    sim.command(running_mode(bench), speed=speed, i_d=running_current(bench))


def _speed_step(sim: Simulation, bench: Bench) -> list[Trace]:
    before = sim.advance(0.05)
    _run_at(sim, bench, bench.settings.run.speed)
    return [before, sim.advance(0.75)]


def _load_step(sim: Simulation, bench: Bench) -> list[Trace]:
    _run_at(sim, bench, bench.settings.run.speed)
    sim.advance(0.8)
    before = sim.advance(0.1)
    m, run = sim.drive.machine, bench.settings.run
    step = 0.4 * m.torque_factor * m.pole_pairs * m.psi * run.i_limit
    sim.set_load(run.load + step, drives=run.load_kind == "drives")
    return [before, sim.advance(0.5)]


def _reversal(sim: Simulation, bench: Bench) -> list[Trace]:
    _run_at(sim, bench, bench.settings.run.speed)
    sim.advance(0.8)
    before = sim.advance(0.05)
    _run_at(sim, bench, -bench.settings.run.speed)
    return [before, sim.advance(0.9)]


def _current_step(sim: Simulation, bench: Bench) -> list[Trace]:
    drive = sim.drive
    sim.retune(locked_rotor(drive.machine, drive.control, drive.inverter, drive.sensing))
    sim.command(CURRENT)
    before = sim.advance(0.002)
    sim.command(CURRENT, i_q=bench.settings.current_loop.step)
    return [before, sim.advance(0.008)]


def _shake(sim: Simulation, bench: Bench) -> list[Trace]:
    """Shake the speed by a noise of two levels around the run's speed, a new one each step of the speed loop, for six seconds; a row a step."""
    c, speed = sim.drive.control, bench.settings.run.speed
    _run_at(sim, bench, speed)
    sim.advance(1.0)
    swing = min(0.1 * abs(speed), 0.25 * c.i_limit / max(c.kp_speed, 1e-12))
    sim.retune(sim.drive._replace(control=c._replace(ramp=1e9, jerk=0.0, set_point=0.0, ahead_inertia=0.0)))
    step, rng = c.ts * c.speed_divider, np.random.default_rng(7)
    rows = []
    for up in rng.random(round(6.0 / step)) < 0.5:
        _run_at(sim, bench, speed + (swing if up else -swing))
        rows.append(sim.advance(step, int(c.speed_divider)))
    return rows


SCENARIOS: dict[str, Callable[[Simulation, Bench], list[Trace]]] = {
    "speed-step": _speed_step,
    "load-step": _load_step,
    "reversal": _reversal,
    "current-step": _current_step,
    "shake": _shake,
}


def run_scenario(bench: Bench, name: str, *, seed: int = 1) -> tuple[Trace, str]:
    """Run a scenario; return its trace (time from 0) and the fault that stands at its end, or an empty text.

    Raises Refusal for an unknown name or a bench that is not settled far enough.
    """
    if name not in SCENARIOS:
        raise Refusal(f"there is no scenario “{name}”", f"use one of {', '.join(SCENARIOS)}", where="--scenario")
    bench = standing(bench)
    sim = open_simulation(bench, seed=seed)
    trace = join(SCENARIOS[name](sim, bench))
    columns = dict(trace.columns)
    columns["t"] = columns["t"] - columns["t"][0]
    return Trace(columns), sim.fault


def capture_columns(trace: Trace) -> dict[str, FloatArray]:
    """Return the channels of a run in the capture format."""
    return {name: trace[name] for name in RUN_COLUMNS}
