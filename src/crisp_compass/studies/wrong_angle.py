"""What a wrong angle, or a sensor that counts the other way, does to a speed step.

Sources: the plant's kernel; torque falls with the cosine of the angle error because the current's share along q is i·cos δ.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.course.waypoints.commutation import hall_edges
from crisp_compass.errors import Refusal
from crisp_compass.plant.parameters import SPEED, Drive
from crisp_compass.plant.simulation import Simulation, Trace
from crisp_compass.studies.untuned_drive import untuned_drive


@dataclass(frozen=True)
class WrongAngle:
    """A speed step with a wrong angle beside the right one: traces with time from 0, and what happened in words.

    ``torque_share`` cos δ, ``current_factor`` 1/cos δ (infinite from 90° on), ``outcome`` ``runs``, ``weak``,
    ``stands`` or ``runs-away``.
    """

    right: Trace
    wrong: Trace
    torque_share: float
    current_factor: float
    outcome: str
    text: str


def run_wrong_angle(bench: Bench, offset: float, *, reversed_sense: bool = False) -> WrongAngle:
    """Step to the speed of the run page with the angle ``offset`` [rad] off, or with the sensor running against the field.

    Raises Refusal where the machine is not settled far enough.
    """
    drive = untuned_drive(bench)
    target = bench.settings.run.speed
    if target == 0:
        raise Refusal("the speed of the run is zero", "set a speed above zero on the run page")
    seconds = min(max(4 * abs(target) / drive.control.ramp, 0.25), 2.0)
    right = _step(bench, drive, target, seconds)
    wrong_drive = drive._replace(
        control=drive.control._replace(angle_offset=offset),
        sensing=drive.sensing._replace(sense=-1.0 if reversed_sense else 1.0),
    )
    wrong = _step(bench, wrong_drive, target, seconds)
    share = math.cos(offset)
    outcome, text = _judge(right, wrong, target)
    return WrongAngle(right, wrong, share, 1 / share if share > 1e-6 else math.inf, outcome=outcome, text=text)


def _step(bench: Bench, drive: Drive, target: float, seconds: float) -> Trace:
    edges = hall_edges(bench)
    sim = Simulation(drive) if edges is None else Simulation(drive, edges=edges)
    sim.command(SPEED, speed=target)
    every = max(1, round(seconds / drive.control.ts / 4000))
    return sim.advance(seconds, every=every)


def _judge(right: Trace, wrong: Trace, target: float) -> tuple[str, str]:
    last = slice(-max(len(wrong["t"]) // 8, 4), None)
    end, goal = float(np.mean(wrong["speed"][last])), float(np.mean(right["speed"][last]))
    if end * np.sign(target) < -0.15 * abs(target):
        return (
            "runs-away",
            f"It runs away the wrong way, past {100 * abs(end / target):.0f} % of the speed asked for.",
        )
    if abs(end) < 0.05 * abs(target):
        return "stands", "It stands still at the current limit and heats the winding."
    ripple = float(np.ptp(wrong["speed"][last]))
    if abs(end - goal) > 0.1 * abs(target) or ripple > 0.3 * abs(target):
        return (
            "weak",
            f"It reaches {100 * end / target:.0f} % of the speed asked for: the current limit leaves too little torque.",
        )
    more = float(np.mean(np.hypot(wrong["i_d"][last], wrong["i_q"][last])))
    less = float(np.mean(np.hypot(right["i_d"][last], right["i_q"][last])))
    return "runs", f"It runs, with {more:.3g} A at that speed instead of {less:.3g} A."
