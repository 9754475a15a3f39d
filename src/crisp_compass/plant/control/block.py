"""Block commutation: one current through two phases, the third floats; six steps an electrical turn; compiled."""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.field_oriented import regulate
from crisp_compass.plant.control.speed import forget_reference, rolled
from crisp_compass.plant.parameters import CURRENT, OFF, Drive
from crisp_compass.plant.sensors import read_current
from crisp_compass.plant.state import (
    ANGLE_SEEN,
    IA,
    ID_REF,
    IN_IQ,
    INT_D,
    INT_Q,
    INT_SPEED,
    IQ_REF,
    PHASE_A,
    SPEED_SEEN,
    SQRT3,
    V_BUS,
    VD,
    VQ,
)

#: The step that leaves all legs off.
NONE = -1.0
_STEP, _HALF = math.pi / 3.0, math.pi / 6.0


@inlined
def step_of(angle: float) -> int:
    """Return the step 0–5 whose current vector, at 30° + 60°·step, stands nearest to 90° ahead of the rotor at ``angle`` [rad]."""
    return int((math.floor((angle + _HALF) / _STEP) + 1.0) % 6.0)


@inlined
def high_leg(step: int) -> int:
    """Return the leg (0 A, 1 B, 2 C) through which a positive current of this step enters: A A… for A+C−, B+C−, B+A−, C+A−, C+B−, A+B−."""
    return ((step + 1) % 6) // 2


@inlined
def low_leg(step: int) -> int:
    """Return the leg through which it leaves."""
    return ((step + 4) % 6) // 2


@inlined
def block_firmware(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int) -> tuple[float, float]:
    """Run one period: return the voltage over the two phases that carry current, and the step (``NONE``: off).

    The PI is that of one phase (half the loop's resistance, inductance and voltage), as the settled gains are.
    """
    c, s = drive.control, drive.sensing
    if mode == OFF:
        x[INT_D] = x[INT_Q] = x[INT_SPEED] = x[IQ_REF] = x[ID_REF] = x[VD] = x[VQ] = 0.0
        forget_reference(x, c, x[SPEED_SEEN], 0.0)
        return 0.0, NONE
    if mode == CURRENT:
        x[IQ_REF] = rolled(x, c, inputs[IN_IQ])
    x[ID_REF] = 0.0
    sense = 1.0 if x[SPEED_SEEN] >= 0.0 else -1.0
    step = step_of(x[ANGLE_SEEN] + sense * c.advance)
    x[IA] = read_current(x, x[PHASE_A + high_leg(step)], s.offset_a, s.noise, s.step, s.full_scale)
    feed = 0.5 * SQRT3 * c.psi * drive.machine.pole_pairs * x[SPEED_SEEN] * c.decouple
    _, x[VQ], _, x[INT_Q] = regulate(c, 0.0, x[INT_Q], 0.0, x[IQ_REF] - x[IA], 0.0, feed, 0.5 * x[V_BUS])
    x[VD] = 0.0
    return 2.0 * x[VQ], float(step)
