"""Current and angle sensors as the firmware sees them; compiled."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.parameters import BAD_SENSOR, Drive
from crisp_compass.plant.state import (
    ANGLE_SEEN,
    EDGE_ANGLE,
    EDGE_CLOCK,
    FAULT,
    HALL_SPEED,
    LAST_ANGLE,
    RNG_STATE,
    SECTOR,
    SENSOR_LOST,
    SPEED_SEEN,
    SQRT3,
    THETA,
    TWO_PI,
)
from crisp_compass.sensing.sensor import HALLS

_TABLE = np.random.default_rng(20).standard_normal(1 << 14)
_PER_TURN = 1 / TWO_PI


@inlined
def _normal(x: FloatArray) -> float:
    """Return a standard normal number: a table picked from by a 32-bit linear congruential generator in the state."""
    n = (np.uint64(x[RNG_STATE]) * np.uint64(1664525) + np.uint64(1013904223)) & np.uint64(0xFFFFFFFF)
    x[RNG_STATE] = float(n)
    return float(_TABLE[n >> np.uint64(18)])


@inlined
def read_current(x: FloatArray, i: float, offset: float, noise: float, step: float, full: float) -> float:
    value = i + offset
    if noise > 0:
        value += noise * _normal(x)
    if step > 0:
        value = step * math.floor(value / step + 0.5)
    return min(full, max(-full, value))


@inlined
def hall_sector(theta: float, edges: FloatArray) -> int:
    """Return the sector whose lower edge lies last below theta (edges ascend within one turn)."""
    x = theta % TWO_PI
    for k in range(5, -1, -1):
        if x >= edges[k]:
            return k
    return 5


@inlined
def sense_angle(x: FloatArray, drive: Drive, edges: FloatArray, table_edges: FloatArray) -> None:
    """Update the firmware's angle (electrical rad) and, with halls, its speed."""
    p, ts = drive.machine.pole_pairs, drive.control.ts
    if x[SENSOR_LOST] != 0.0:  # halls show a code that cannot be, which the firmware knows; an encoder's count stands still, which it does not
        if drive.sensing.angle_sensor == HALLS and x[FAULT] == 0.0:
            x[FAULT] = BAD_SENSOR
        return
    if drive.sensing.angle_sensor == HALLS:
        theta_e = drive.sensing.sense * p * x[THETA]
        sector = hall_sector(theta_e, edges)
        last = int(x[SECTOR])
        x[EDGE_CLOCK] += ts
        if last < 0:
            x[SECTOR] = sector
            x[EDGE_ANGLE] = -1.0
        elif sector != last:
            forward = (sector - last) % 6 <= 3
            edge = table_edges[sector] if forward else table_edges[(sector + 1) % 6]
            if x[EDGE_ANGLE] >= 0.0:
                travel = (edge - x[EDGE_ANGLE] + math.pi) % TWO_PI - math.pi
                if (forward and travel < 0) or (not forward and travel > 0):
                    travel = 0.0  # came back over the same edge
                x[HALL_SPEED] = travel / x[EDGE_CLOCK]
            x[EDGE_ANGLE] = edge
            x[EDGE_CLOCK] = 0.0
            x[SECTOR] = sector
        width = (table_edges[(sector + 1) % 6] - table_edges[sector]) % TWO_PI
        # without an edge the speed can at most be what would just not have reached the next one
        most = width / max(x[EDGE_CLOCK], ts)
        x[HALL_SPEED] = min(most, max(-most, x[HALL_SPEED]))
        if x[EDGE_ANGLE] < 0.0 or abs(x[HALL_SPEED]) < 1.0:
            seen = table_edges[sector] + 0.5 * width
        else:
            run = min(abs(x[HALL_SPEED]) * x[EDGE_CLOCK], width)
            seen = x[EDGE_ANGLE] + (run if x[HALL_SPEED] > 0 else -run)
        x[ANGLE_SEEN] = seen + drive.control.angle_offset
    else:
        n = drive.sensing.counts_per_rev
        counts = math.floor(drive.sensing.sense * x[THETA] * (n * _PER_TURN))
        x[ANGLE_SEEN] = p * (counts + 0.5) * (TWO_PI / n) + drive.control.angle_offset


@inlined
def sense_speed(x: FloatArray, drive: Drive) -> None:
    """Update the firmware's mechanical speed once a speed step."""
    c = drive.control
    period = c.ts * c.speed_divider
    if drive.sensing.angle_sensor == HALLS:
        raw = x[HALL_SPEED] / drive.machine.pole_pairs
    else:
        n = drive.sensing.counts_per_rev
        counts = float(math.floor(drive.sensing.sense * x[THETA] * (n * _PER_TURN))) if x[SENSOR_LOST] == 0.0 else float(x[LAST_ANGLE])
        raw = (counts - x[LAST_ANGLE]) * TWO_PI / n / period
        x[LAST_ANGLE] = counts
    if c.speed_filter > 0:
        x[SPEED_SEEN] += (1.0 - math.exp(-c.speed_filter * period)) * (raw - x[SPEED_SEEN])
    else:
        x[SPEED_SEEN] = raw


@inlined
def _mean_sign(now: float, before: float, knee: float) -> float:
    """Return the mean sign over a period of a leg's current [A], which may cross zero within it."""
    return min(1.0, max(-1.0, (now + before) / max(2.0 * knee, abs(now - before))))


@inlined
def dead_time_taken(alpha: float, beta: float, was_alpha: float, was_beta: float, loss: float, knee: float) -> tuple[float, float]:
    """Return what three legs that lose ``loss`` [V] each took of α and β voltage over a period, by the currents [A] at its end and before."""
    half, was_half = 0.5 * SQRT3 * beta, 0.5 * SQRT3 * was_beta
    ea = _mean_sign(alpha, was_alpha, knee)
    eb = _mean_sign(half - 0.5 * alpha, was_half - 0.5 * was_alpha, knee)
    ec = _mean_sign(-half - 0.5 * alpha, -was_half - 0.5 * was_alpha, knee)
    return loss * (2.0 * ea - eb - ec) / 3.0, loss * (eb - ec) / SQRT3
