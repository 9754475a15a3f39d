"""What trips the drive; compiled."""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.parameters import (
    BAD_READING,
    CURRENT,
    FOLLOWING,
    HERTZ,
    MOVE,
    NO_FAULT,
    OVER_CURRENT,
    OVER_SPEED,
    OVER_VOLTAGE,
    OVERLOAD,
    SPEED,
    STALL,
    UNDER_VOLTAGE,
    Control,
    Drive,
)
from crisp_compass.plant.state import (
    FAULT,
    FOLLOWS,
    HEAT,
    ID,
    IQ,
    IQ_HIGH,
    IQ_LOW,
    IQ_REF,
    MAGNETIZED,
    OMEGA,
    OUT_OF_STEP,
    REF,
    SPEED_SEEN,
    SQUARE,
    STALL_CLOCK,
    V_BUS,
)


@inlined
def shorted(x: FloatArray, c: Control) -> bool:
    """Tell whether a fault that stands shorts the windings, so that the motor brakes."""
    return c.brakes != 0.0 and x[FAULT] != NO_FAULT and x[FAULT] != OVER_CURRENT and x[FAULT] != BAD_READING


@inlined
def heat(x: FloatArray, c: Control) -> None:
    """Count what flows [A²s], and of it what is above the continuous current; less cools."""
    square = x[ID] * x[ID] + x[IQ] * x[IQ]
    x[SQUARE] += square * c.ts
    if c.i2t > 0.0:
        x[HEAT] = max(x[HEAT] + (square - c.i_continuous * c.i_continuous) * c.ts, 0.0)


@inlined
def watch_short(x: FloatArray, c: Control) -> None:
    """Let go of a short that brakes with more than the trip level."""
    if shorted(x, c) and math.sqrt(x[ID] * x[ID] + x[IQ] * x[IQ]) > c.i_trip:
        x[FAULT] = OVER_CURRENT


@inlined
def protect(x: FloatArray, drive: Drive, mode: int) -> None:
    """Latch a fault: over-current, a bus too low or too high, over-speed as the firmware sees it, an overload, a shaft too far off its move, or for too long full current at
    standstill or, with volts over frequency, a rotor that does not follow."""
    c = drive.control
    # Beside the current that makes the flux, the torque current of a rotor field stops short of the current limit.
    most = c.i_limit if x[MAGNETIZED] == 0.0 else (x[IQ_HIGH] if x[IQ_REF] >= 0.0 else -x[IQ_LOW])
    stuck = abs(x[IQ_REF]) > 0.95 * most and abs(x[OMEGA]) < 0.02 * max(abs(x[REF]), 1.0) + 0.5
    if math.sqrt(x[ID] * x[ID] + x[IQ] * x[IQ]) > c.i_trip:
        x[FAULT] = OVER_CURRENT
    elif x[V_BUS] < c.v_min:
        x[FAULT] = UNDER_VOLTAGE
    elif x[V_BUS] > c.v_max:
        x[FAULT] = OVER_VOLTAGE
    elif (mode in (SPEED, CURRENT, MOVE)) and abs(x[SPEED_SEEN]) > c.speed_trip:
        x[FAULT] = OVER_SPEED
    elif c.i2t > 0.0 and x[HEAT] > c.i2t:
        x[FAULT] = OVERLOAD
    elif mode == MOVE and c.follow_limit > 0.0 and abs(x[FOLLOWS]) > c.follow_limit:
        x[FAULT] = FOLLOWING
    elif (mode in (SPEED, MOVE) and stuck) or (mode == HERTZ and x[OUT_OF_STEP] != 0.0):
        x[STALL_CLOCK] += c.ts
        if x[STALL_CLOCK] > c.stall_time:
            x[FAULT] = STALL
    else:
        x[STALL_CLOCK] = 0.0
