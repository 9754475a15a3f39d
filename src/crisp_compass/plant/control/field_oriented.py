"""Field-oriented current control with a speed loop, as the firmware runs it; compiled."""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.speed import forget_reference, rolled, speed_step
from crisp_compass.plant.parameters import ALIGN, CURRENT, OFF, Control, Drive
from crisp_compass.plant.sensors import read_current
from crisp_compass.plant.state import (
    ANGLE_SEEN,
    COS,
    COS_SEEN,
    CUT,
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
    SIN,
    SIN_SEEN,
    SPEED_SEEN,
    SQRT3,
    V_BUS,
    VD,
    VOLTS,
    VQ,
    WEAK,
)


@inlined
def weakened(x: FloatArray, drive: Drive) -> float:
    """Move i_d against the magnet by one speed step, as far as the voltage needs; return the most i_q [A] beside it.

    Where i_d is at its end, what is missing is taken off i_q instead: at the voltage limit the torque current that is left falls on to
    a braking one by itself. The change of i_d that takes the missing volts is about those over ω·Ld, the reactance along the magnet, so the integrator has one rate at every
    speed. Voltage feedback: T. M. Jahns, IEEE Trans. Ind. Appl. IA-23, 1987 (the principle; the gain by speed is ours).
    """
    c = drive.control
    if c.i_weak <= 0.0:
        return c.i_limit
    limit, turning = x[V_BUS] * c.volts_per_bus, abs(drive.machine.pole_pairs * x[SPEED_SEEN])
    room = c.weak_share * limit - x[VOLTS]
    # above the share there is only a little to the limit, below there may be anything: neither way faster than the other
    room = min(2.0 * abs(room), 2.0 * (1.0 - c.weak_share) * limit) * (1.0 if room > 0.0 else -1.0)
    most = turning * math.sqrt(c.psi * c.psi + c.lq * c.lq * c.i_limit * c.i_limit) + c.r * c.i_limit
    if most < 0.8 * c.weak_share * limit:  # full voltage is only on its way to a current
        room = 2.0 * (1.0 - c.weak_share) * limit
    per_ampere = turning * c.ld + c.r
    fresh = x[WEAK] - x[CUT] + c.weak_rate * c.ts * c.speed_divider * room / per_ampere
    x[WEAK] = min(0.0, max(-c.i_weak, fresh))
    x[CUT] = min(c.i_limit, max(x[WEAK] - fresh, 0.0)) if fresh < 0.0 else 0.0
    return max(math.sqrt(max(c.i_limit * c.i_limit - x[WEAK] * x[WEAK], 0.0)) - float(x[CUT]), 0.0)


@inlined
def speed_loop(x: FloatArray, drive: Drive, target: float) -> None:
    """Make a speed step whose current stays within the limit, i_d counted."""
    most = weakened(x, drive)
    speed_step(x, drive.control, target, -most, most)


@inlined
def first_voltage(first: float, second: float, limit: float) -> float:
    """Return what of ``first`` [V] is set, of two axes that share a circle of ``limit`` [V].

    Up to 0.8 of the limit all of it; beyond, and all the way from the limit on, as much as the vector shortened to the circle has. An axis that took
    the whole circle would leave the other one nothing against the back-EMF, whose current then keeps it there: the drive brakes with its short-circuit
    current until it has nearly stopped (the attack: a bus that sags at speed).
    """
    if abs(first) <= 0.8 * limit:
        return first
    size = math.sqrt(first * first + second * second)
    if size <= limit:
        return first
    share = min(max(5.0 * abs(first) - 4.0 * limit, 0.0), limit) / max(limit, 1e-9)
    most = abs(first) * (1.0 - share) + abs(first) * limit / size * share
    return math.copysign(min(most, limit), first)


@inlined
def regulate(
    c: Control, int_d: float, int_q: float, e_d: float, e_q: float, feed_d: float, feed_q: float, limit: float
) -> tuple[float, float, float, float]:  # fmt: skip
    """Return v_d, v_q [V] and the two integrators after one step of the current controller.

    Parallel PI on errors [A] with feed-forward [V]; the voltage limit [V] is a circle, d first as far as ``first_voltage`` lets it. At the limit an integrator
    goes the share ``track`` of the way to what the limited voltage leaves for it (loops.current.limit_tracking).
    """
    new_d, new_q = int_d + c.ki_d * c.ts * e_d, int_q + c.ki_q * c.ts * e_q
    vd, vq = c.kp_d * e_d + new_d + feed_d, c.kp_q * e_q + new_q + feed_q
    vd_set = first_voltage(vd, vq, limit)
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
    """PI on d and q of the seen angle, with the share ``decouple``; the voltage limit is a circle, ``kept`` [V] within it."""
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
    if c.i_weak > 0.0:  # the mean length of a speed step
        x[VOLTS] += (math.sqrt(x[VD] * x[VD] + x[VQ] * x[VQ]) - x[VOLTS]) / c.speed_divider


@inlined
def command(x: FloatArray, drive: Drive) -> tuple[float, float]:
    """Return the stationary voltage [V] of v_d and v_q, its angle advanced by the delay."""
    ahead = drive.control.delay_samples * drive.control.ts * drive.machine.pole_pairs * x[SPEED_SEEN]
    turn_c, turn_s = math.cos(ahead), math.sin(ahead)
    ca, sa = x[COS_SEEN] * turn_c - x[SIN_SEEN] * turn_s, x[SIN_SEEN] * turn_c + x[COS_SEEN] * turn_s
    return x[VD] * ca - x[VQ] * sa, x[VD] * sa + x[VQ] * ca


@inlined
def released(x: FloatArray, c: Control) -> None:
    """Forget what the loops held: the bridge is off."""
    x[INT_D] = x[INT_Q] = x[INT_SPEED] = x[IQ_REF] = x[ID_REF] = 0.0
    x[VD] = x[VQ] = x[WEAK] = x[CUT] = x[VOLTS] = 0.0
    forget_reference(x, c, x[SPEED_SEEN], 0.0)


@inlined
def firmware(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int) -> tuple[float, float]:
    """Run the current controller of one period; return the stationary voltage it commands, its angle advanced by the delay."""
    if mode == OFF:
        released(x, drive.control)
        return 0.0, 0.0
    if mode == ALIGN:  # a voltage held along phase A, and one across it
        x[VD], x[VQ] = inputs[IN_ID], inputs[IN_IQ]
        return inputs[IN_ID], inputs[IN_IQ]
    if mode == CURRENT:
        x[ID_REF], x[IQ_REF] = inputs[IN_ID], rolled(x, drive.control, inputs[IN_IQ])
    else:
        x[ID_REF] = x[WEAK]
    alpha, beta = read_currents(x, drive)
    hold_currents(x, drive, alpha, beta, x[ID_REF], x[IQ_REF], drive.control.decouple)
    va, vb = command(x, drive)
    return va, vb
