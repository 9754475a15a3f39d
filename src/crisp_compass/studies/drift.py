"""Cycle after cycle of a table on the simulated drive: whether the shaft comes back to the same place."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.course.drive import running_current
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.points import rows_of
from crisp_compass.course.position import as_designed, count_of, moving_mode
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import SPEED
from crisp_compass.studies.batch import Cancelled
from crisp_compass.studies.cycle import Cycle, cycle_of, row_limit
from crisp_compass.studies.scenarios import check_sound, open_simulation

_SETTLES = 0.3


@dataclass(frozen=True)
class Drift:
    """``off`` (n,) rad by which the shaft missed its commanded place at the end of each cycle, ``lost`` full steps in the end, a ``count`` [rad]; ``fault`` ended it, or is empty."""

    off: FloatArray
    lost: int
    count: float
    fault: str


def drift(bench: Bench, cycles: int, arrived: Callable[[Drift], None], called_off: Callable[[], bool]) -> Drift:
    """Run so many cycles; ``arrived`` is told after each, ``called_off`` asked. Raises Refusal where the table fails, Cancelled where it was called off."""
    found: Cycle = cycle_of(bench)
    bad = [f for f in found.findings if f.level == "stop"]
    if bad:
        raise Refusal(bad[0].text.rstrip("."), "mend the table on the section Points")
    tried = standing(as_designed(bench))
    rows, count, current = rows_of(bench), count_of(tried), running_current(tried)
    sim, mode = open_simulation(tried), moving_mode(tried)
    base, p = sim.drive, sim.drive.machine.pole_pairs
    sim.command(mode, position=0.0, i_d=current) if steps_open(tried) else sim.command(SPEED)
    sim.skip(_SETTLES + base.control.settle * (base.control.lost_limit > 0) + (5 / base.control.rotor_rate if base.control.rotor_rate > 0 else 0.0))
    least, at, offs = 2 * base.control.ts * base.control.speed_divider, 0.0, []
    made = Drift(np.empty(0), 0, count, "")
    for _ in range(cycles):
        for step in found.steps:
            row = rows[step.index]
            at = row.target if row.way == "to" else at + row.target
            sim.retune(base._replace(control=base.control._replace(move_speed=step.move.speed, move_accel=step.move.accel, i_limit=row_limit(tried, row, base.control.i_limit))))
            sim.command(mode, position=round(at / count) * count, i_d=current)
            sim.skip(max(step.move.duration + row.dwell, least))
            if sim.fault:
                break
            if called_off():
                raise Cancelled
        check_sound(sim)
        offs.append(round(at / count) * count - float(sim.state[state.THETA]))
        lost = 4 * round(float(sim.state[state.FIELD] / p - sim.state[state.THETA]) / (2 * math.pi / p)) if steps_open(tried) else 0
        made = Drift(np.array(offs), lost, count, sim.fault)
        arrived(made)
        if sim.fault:
            break
    return made
