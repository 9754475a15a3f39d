"""Torque instead of speed: which firmware holds one, and the currents that it takes."""

from __future__ import annotations

import math

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.course.observed import estimates
from crisp_compass.course.open_loop import closes_loops, steps_open
from crisp_compass.course.speed_design import torque_constant
from crisp_compass.errors import Refusal
from crisp_compass.motor import family_of

#: Share of top speed from which the drag cancel acts fully: below, the sensor's steps would make it chatter.
ROLLS_FROM = 0.01


def holds_torque(bench: Bench) -> bool:
    """Tell whether this bench's firmware holds a torque from rest on: it closes a current loop, and a sensor tells the angle."""
    return closes_loops(bench) and not steps_open(bench) and not estimates(bench)


def drag_cancel(bench: Bench) -> dict[str, float]:
    """Return the current [A peak] that hides friction while a torque is held, and the speed [rad/s] from which it acts fully; nothing where none is set, or this firmware holds no torque."""
    run = bench.settings.run
    if run.drag_cancel is None or not holds_torque(bench):
        return {}
    return {"roll": min(run.drag_cancel, run.i_limit), "roll_knee": ROLLS_FROM * bench.settings.plate.top_speed if run.drag_way == "turning" else 0.0}


def friction_current(bench: Bench, speed: float) -> float:
    """Return the torque current [A peak] that the measured friction takes at ``speed`` [rad/s]; raises Refusal where it is not known."""
    coulomb, viscous = (need(bench, f"mechanics.{k}_friction") for k in ("coulomb", "viscous"))
    return (coulomb + viscous * abs(speed)) / torque_constant(bench)


def torque_currents(bench: Bench, torque: float) -> tuple[float, float]:
    """Return i_d and i_q [A peak] that make a torque [N·m] within the current limit; raises Refusal where this firmware holds none."""
    if not holds_torque(bench):
        raise Refusal("this firmware holds no torque from rest", "choose a sensor, and closed loops; or hold a speed", field="run.holds")
    i_d = family_of(bench).believed(bench).get("i_flux", 0.0)
    most = math.sqrt(max(bench.settings.run.i_limit**2 - i_d**2, 0.0))
    return i_d, min(max(torque / torque_constant(bench), -most), most)
