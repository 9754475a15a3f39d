"""Field-oriented current control with a speed loop, as the firmware runs it; compiled."""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.parameters import ALIGN, CURRENT, OFF, Control, Drive
from crisp_compass.plant.sensors import read_current
from crisp_compass.plant.state import (
    ANGLE_SEEN,
    COS,
    COS_SEEN,
    IA,
    IB,
    ID,
    ID_REF,
    IN_ID,
    IN_IQ,
    INT_D,
    INT_Q,
    INT_SPEED,
    IQ,
    IQ_REF,
    REF,
    SIN,
    SIN_SEEN,
    SPEED_SEEN,
    SQRT3,
    V_BUS,
    VD,
    VQ,
)


@inlined
def speed_step(x: FloatArray, c: Control, target: float, low: float, high: float) -> None:
    """Ramp, PI whose output stays between ``low`` and ``high`` [A]; its integrator does not run on against them."""
    period = c.ts * c.speed_divider
    most = c.ramp * period
    x[REF] += min(most, max(-most, target - x[REF]))
    error = x[REF] - x[SPEED_SEEN]
    trial = x[INT_SPEED] + c.ki_speed * period * error
    want = c.kp_speed * error + trial
    limited = min(high, max(low, want))
    if want == limited or error * (want - limited) < 0:
        x[INT_SPEED] = trial
    x[IQ_REF] = limited


@inlined
def regulate(
    c: Control, int_d: float, int_q: float, e_d: float, e_q: float, feed_d: float, feed_q: float, limit: float
) -> tuple[float, float, float, float]:  # fmt: skip
    """Return v_d, v_q [V] and the two integrators after one step of the current controller.

    Parallel PI on errors [A] with feed-forward [V]; the voltage limit [V] is a circle, d first. At the limit an integrator
    goes the share ``track`` of the way to what the limited voltage leaves for it (loops.current.limit_tracking).
    """
    new_d, new_q = int_d + c.ki_d * c.ts * e_d, int_q + c.ki_q * c.ts * e_q
    vd, vq = c.kp_d * e_d + new_d + feed_d, c.kp_q * e_q + new_q + feed_q
    vd_set = min(limit, max(-limit, vd))
    rest = math.sqrt(max(limit * limit - vd_set * vd_set, 0.0))
    vq_set = min(rest, max(-rest, vq))
    if vd_set != vd:
        new_d = int_d + c.track_d * (c.kp_d * e_d + vd_set - vd)
    if vq_set != vq:
        new_q = int_q + c.track_q * (c.kp_q * e_q + vq_set - vq)
    return vd_set, vq_set, new_d, new_q


@inlined
def read_currents(x: FloatArray, drive: Drive) -> tuple[float, float]:
    """Read both channels; return the current [A] in α and β as the firmware sees it."""
    s = drive.sensing
    ct, st = x[COS], x[SIN]
    alpha, beta = x[ID] * ct - x[IQ] * st, x[ID] * st + x[IQ] * ct
    two_phase = drive.machine.torque_factor == 1.0  # the second channel reads the second winding
    second = beta if two_phase else -0.5 * alpha + 0.5 * SQRT3 * beta
    ia = read_current(x, alpha, s.offset_a, s.noise, s.step, s.full_scale)
    ib = read_current(x, second, s.offset_b, s.noise, s.step, s.full_scale)
    x[IA], x[IB] = ia, ib
    return ia, ib if two_phase else (ia + 2.0 * ib) / SQRT3


@inlined
def hold_currents(
    x: FloatArray,
    drive: Drive,
    alpha: float,
    beta: float,
    id_ref: float,
    iq_ref: float,
    decouple: float,
    kept: float = 0.0,
) -> None:
    """PI on d and q of the seen angle, with the share ``decouple``; the voltage limit is a circle, d first, ``kept`` [V] within it."""
    c = drive.control
    cs, ss = math.cos(x[ANGLE_SEEN]), math.sin(x[ANGLE_SEEN])
    x[COS_SEEN], x[SIN_SEEN] = cs, ss
    i_d, i_q = alpha * cs + beta * ss, -alpha * ss + beta * cs
    we = drive.machine.pole_pairs * x[SPEED_SEEN] * decouple
    feed_d, feed_q = -we * c.lq * i_q, we * (c.ld * i_d + c.psi)
    limit = x[V_BUS] * c.volts_per_bus - kept
    x[VD], x[VQ], x[INT_D], x[INT_Q] = regulate(
        c, x[INT_D], x[INT_Q], id_ref - i_d, iq_ref - i_q, feed_d, feed_q, limit
    )


@inlined
def command(x: FloatArray, drive: Drive) -> tuple[float, float]:
    """Return the stationary voltage [V] of v_d and v_q, its angle advanced by the delay."""
    ahead = drive.control.delay_samples * drive.control.ts * drive.machine.pole_pairs * x[SPEED_SEEN]
    turn_c, turn_s = math.cos(ahead), math.sin(ahead)
    ca, sa = x[COS_SEEN] * turn_c - x[SIN_SEEN] * turn_s, x[SIN_SEEN] * turn_c + x[COS_SEEN] * turn_s
    return x[VD] * ca - x[VQ] * sa, x[VD] * sa + x[VQ] * ca


@inlined
def released(x: FloatArray) -> None:
    """Forget what the loops held: the bridge is off."""
    x[INT_D] = x[INT_Q] = x[INT_SPEED] = x[IQ_REF] = x[ID_REF] = 0.0
    x[VD] = x[VQ] = 0.0
    x[REF] = x[SPEED_SEEN]


@inlined
def firmware(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int) -> tuple[float, float]:
    """Run the current controller of one period; return the stationary voltage it commands, its angle advanced by the delay."""
    if mode == OFF:
        released(x)
        return 0.0, 0.0
    if mode == ALIGN:  # a voltage held along phase A
        x[VD], x[VQ] = inputs[IN_ID], 0.0
        return inputs[IN_ID], 0.0
    if mode == CURRENT:
        x[ID_REF], x[IQ_REF] = inputs[IN_ID], inputs[IN_IQ]
    else:
        x[ID_REF] = 0.0
    alpha, beta = read_currents(x, drive)
    hold_currents(x, drive, alpha, beta, x[ID_REF], x[IQ_REF], drive.control.decouple)
    va, vb = command(x, drive)
    return va, vb
