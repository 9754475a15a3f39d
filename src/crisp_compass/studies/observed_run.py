"""An induction motor without a sensor, played: up, loaded, slowly through the forced range, and the other way, with a stator that is as warm as it is taken for doubtful."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.course.drive import build_drive
from crisp_compass.course.observed import (
    BELOW,
    Choice,
    Lowest,
    choices,
    forced_current,
    forced_torque,
    hand_over,
    lowest_speed,
    observes,
)
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import SPEED
from crisp_compass.plant.simulation import Simulation, join

#: Share of rated torque that is put on, and the longest a part takes [s].
_LOAD, _LONGEST = 0.6, 12.0


@dataclass(frozen=True)
class ObservedRun:
    """``time`` (n,) s, ``reference``, ``speed`` and ``seen`` (n,) rad/s of the shaft, ``error`` (n,) rad of the flux's angle, ``closed`` (n,) where the loops are closed on it.

    ``worst`` [rad] of the angle at a steady speed under load, the ``load`` [N·m], and the fault that ended it, or nothing.
    """

    lowest: Lowest
    closes: float
    lets_go: float
    current: float
    torque: float
    options: tuple[Choice, ...]
    time: FloatArray
    reference: FloatArray
    speed: FloatArray
    seen: FloatArray
    error: FloatArray
    closed: BoolArray
    worst: float
    load: float
    fault: str


def observed_run(bench: Bench) -> ObservedRun:
    """Play it; raises Refusal where the bench has a sensor or lacks something."""
    if not observes(bench):
        raise Refusal("the bench has a sensor, or closes no loop", "choose “none” as the sensor on the plate, and field orientation as firmware", field="sensor.kind")
    drive = build_drive(bench)
    c, m = drive.control, drive.machine
    up = hand_over(bench)
    down = BELOW * up
    top = max(abs(bench.settings.run.speed), 1.6 * up)
    sim = Simulation(drive._replace(machine=m._replace(r=m.r * (1 + bench.settings.circuit.stator_doubt))))
    torque = _LOAD * min(1.5 * m.pole_pairs * m.psi * math.sqrt(max((0.9 * c.i_limit) ** 2 - c.i_flux**2, 0.0)), 1e9)
    field, ramp = 5 / c.rotor_rate, top / c.ramp + 2 * 1.3 * up / min(c.ramp, drive.start.low_ramp)
    parts, load = [], min(torque, _rated_torque(bench) * _LOAD)
    every = max(round((2 * field + 4 * ramp + 3.0) / c.ts / 4000), 1)
    for target, loaded, seconds in ((top, 0.0, field + ramp + 0.6), (top, load, 0.6), (top, 0.0, 0.4), (0.5 * down, 0.0, ramp + 0.5), (-top, 0.0, 2 * ramp + 0.8)):
        sim.set_load(loaded)
        sim.command(SPEED, speed=target)
        parts.append(sim.advance(min(seconds, _LONGEST), every))
        if sim.fault:
            break
    t = join(parts)
    error = (t["theta_seen"] - t["theta_e"] + math.pi) % (2 * math.pi) - math.pi
    closed = t["phase"] == state.CLOSED
    steady = parts[1]["t"][len(parts[1]["t"]) // 2 :] if len(parts) > 1 else np.empty(0)
    there = np.isin(t["t"], steady) & closed
    return ObservedRun(
        lowest_speed(bench), up, down, forced_current(bench), torque=forced_torque(bench), options=choices(bench), time=t["t"], reference=t["speed_ref"], speed=t["speed"], seen=t["speed_seen"], error=np.where(closed, error, np.nan), closed=closed,
        worst=float(np.max(np.abs(error[there]))) if there.any() else math.nan, load=load, fault=sim.fault,
    )  # fmt: skip


def _rated_torque(bench: Bench) -> float:
    plate = bench.settings.plate
    if plate.rated_torque:
        return plate.rated_torque
    return plate.rated_power / plate.rated_speed if plate.rated_power and plate.rated_speed else math.inf
