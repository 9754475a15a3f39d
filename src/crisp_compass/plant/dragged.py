"""A rotor dragged by a current vector of given length, its currents taken as they are asked for; compiled.

Where current loops are far quicker than the rotor's swing, this is the start up to the hand-over speed at a
fortieth of the work.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import compiled
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.mechanics import drag, friction
from crisp_compass.plant.parameters import START_COLUMNS, Drive

#: Steps of one swing of the rotor.
_STEPS = 120.0


@compiled
def drag_rows(drive: Drive, sense: float, until: int, theta: float, out: FloatArray) -> bool:
    """Go through the first ``until`` rows of a drive's start from a rotor at rest at ``theta`` [rad, mechanical].

    Writes angle, speed, field [rad], forced speed, current [A] and time [s] into ``out`` (6,); returns whether the rotor stayed in step,
    which it did not once it lies a turn behind the field.
    """
    m, rows = drive.machine, drive.start.rows
    p, j = m.pole_pairs, drive.load.inertia + drive.load.second
    coulomb, viscous, quadratic = drive.load.coulomb, drive.load.viscous, drive.load.quadratic
    breakaway, driving = drive.load.breakaway, drive.load.driving
    w, field, forced, current, time = 0.0, 0.0, 0.0, 0.0, 0.0
    slip = 0.0
    for k in range(until):
        goal_i, goal_w, span = (
            rows[k * START_COLUMNS],
            rows[k * START_COLUMNS + 1] * sense,
            rows[k * START_COLUMNS + 2],
        )
        if k > 0 and goal_w == 0.0:
            field += 0.5 * math.pi
        strongest = max(goal_i, current, 1e-9)
        own = math.sqrt(1.5 * p * p * m.psi * strongest / j)
        steps = math.ceil(span * _STEPS * own / (2 * math.pi))
        steps = max(steps, 8)
        h = span / steps
        from_i, from_w = current, forced
        for n in range(steps):
            done = (n + 1.0) / steps
            current = from_i + (goal_i - from_i) * min(4.0 * done, 1.0)
            forced = from_w + (goal_w - from_w) * done
            field += h * p * forced
            lead = field - p * theta
            i_q, i_d = current * math.sin(lead), current * math.cos(lead)
            torque = 1.5 * p * (m.psi + (m.ld - m.lq) * i_d) * i_q
            before = w
            w += h * friction(torque - drag(viscous, quadratic, w) - driving, w, coulomb, breakaway) / j
            if before * w < 0.0:
                w = 0.0
            theta += h * w
            if goal_w != 0.0:
                slip += h * p * (forced - w)
                if abs(slip) > 4 * math.pi:
                    out[0], out[1], out[2], out[3], out[4], out[5] = theta, w, field, forced, current, time + h * n
                    return False
        time += span
    out[0], out[1], out[2], out[3], out[4], out[5] = theta, w, field, forced, current, time
    return True
