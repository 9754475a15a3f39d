"""Open-loop stepping: a current of fixed length at a commanded angle, held in each winding by its own PI; compiled.

The current table has ``microsteps`` entries a full step (0: continuous), so the two windings carry I·cos and I·sin of whole
entries; a table of one entry is full stepping with both windings on (45°, 135°, …). Each winding is limited by its own bridge, so the
voltages fill a square.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import compiled, inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.position import stepped_on
from crisp_compass.plant.parameters import Drive
from crisp_compass.plant.sensors import read_current
from crisp_compass.plant.state import (
    AT_REST,
    COS,
    FIELD,
    IA,
    IB,
    ID,
    ID_REF,
    IN_ID,
    INT_D,
    INT_Q,
    IQ,
    IQ_REF,
    REF,
    SIN,
    V_BUS,
    VD,
    VQ,
)

_QUARTER = 0.5 * math.pi


@inlined
def table_angle(angle: float, microsteps: float) -> float:
    """Return the angle [rad] of the table's entry nearest to a commanded electrical angle."""
    if microsteps <= 0.0:
        return angle
    step = _QUARTER / microsteps
    middle = 0.5 * step if microsteps == 1.0 else 0.0  # full steps have both windings on
    return step * math.floor((angle - middle) / step + 0.5) + middle


@inlined
def hold_winding(
    total: float, error: float, kp: float, ki: float, ts: float, track: float, limit: float
) -> tuple[float, float]:
    """Return the voltage [V] of one winding and its integrator after one step of its PI."""
    fresh = total + ki * ts * error
    want = kp * error + fresh
    limited = min(limit, max(-limit, want))
    if limited != want:
        fresh = total + track * (kp * error + limited - want)
    return limited, fresh


@compiled
def step_firmware(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int, due: bool) -> tuple[float, float]:
    """Turn the commanded angle on along ramp or profile and hold the table's currents; return the two windings' voltages."""
    c, s = drive.control, drive.sensing
    stepped_on(x, drive, inputs, mode, due)
    at = table_angle(x[FIELD], c.microsteps)
    x[AT_REST] = x[AT_REST] + c.ts if x[REF] == 0.0 else 0.0
    size = inputs[IN_ID] * (c.idle_share if x[AT_REST] > c.idle_after else 1.0)
    alpha, beta = x[ID] * x[COS] - x[IQ] * x[SIN], x[ID] * x[SIN] + x[IQ] * x[COS]
    x[IA] = read_current(x, alpha, s.offset_a, s.noise, s.step, s.full_scale)
    x[IB] = read_current(x, beta, s.offset_b, s.noise, s.step, s.full_scale)
    limit = x[V_BUS] * c.volts_per_bus
    want_a, want_b = size * math.cos(at), size * math.sin(at)
    va, x[INT_D] = hold_winding(x[INT_D], want_a - x[IA], c.kp_d, c.ki_d, c.ts, c.track_d, limit)
    vb, x[INT_Q] = hold_winding(x[INT_Q], want_b - x[IB], c.kp_q, c.ki_q, c.ts, c.track_q, limit)
    x[ID_REF], x[IQ_REF] = want_a * x[COS] + want_b * x[SIN], want_b * x[COS] - want_a * x[SIN]
    x[VD], x[VQ] = va * x[COS] + vb * x[SIN], vb * x[COS] - va * x[SIN]
    return va, vb
