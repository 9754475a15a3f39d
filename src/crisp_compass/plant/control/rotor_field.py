"""Firmware of induction motors: indirect field orientation, and volts over frequency; compiled.

Indirect field orientation (F. Blaschke 1971, K. Hasse 1969; equations of the inverse-Γ circuit, G. R. Slemon 1989): the angle of the
rotor's flux is the shaft's electrical angle plus the integral of the slip (1/Tr)·LM·i_q/ψ, with ψ as the firmware's own first-order model
says it and i_q as it flows: a reference that the voltage cannot reach would turn the frame away from the flux. Torque waits until that
flux stands, and is held to what current limit and voltage leave. Volts over frequency: V = boost + k·ω along the ramp, and the frequency raised by a share of
the slip that the current in phase with the voltage tells.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.field_oriented import regulate
from crisp_compass.plant.control.speed import forget_reference, rolled, speed_step
from crisp_compass.plant.parameters import ALIGN, CURRENT, HERTZ, MAINS, MOVE, OFF, SPEED, Control, Drive
from crisp_compass.plant.sensors import read_current
from crisp_compass.plant.state import (
    ANGLE_SEEN,
    AT_REST,
    FIELD,
    FLUX_SEEN,
    I_ALPHA,
    I_BETA,
    IA,
    IB,
    ID_REF,
    IN_ID,
    IN_IQ,
    IN_SPEED,
    INT_D,
    INT_Q,
    INT_SPEED,
    IQ_HIGH,
    IQ_LOW,
    IQ_REF,
    MAGNETIZED,
    MOVING,
    OUT_OF_STEP,
    REF,
    SLIP,
    SPEED_SEEN,
    SQRT3,
    V_BUS,
    VD,
    VQ,
)

#: Part of its reference that the flux must have before torque is asked for, and the least that the slip is divided by.
_MAGNETIZED_AT, _LEAST = 0.9, 0.05
#: Volts over frequency: part of the line's flux below which the rotor follows no more. Behind the stator's leakage it falls to 0.71 at
#: the pull-out torque and on from there; looked at from the frequency at which the line gives so many times the magnetizing current's drop.
FOLLOWS, TELLS = 0.6, 3.0
#: Speed [rad/s] below which a shaft counts as resting.
REST = 0.5
#: Rate [1/s] of the filter on the slip that volts over frequency compensates: slower than the rotor's own swing.
SLIP_RATE = 10.0


@inlined
def read_stator(x: FloatArray, drive: Drive) -> tuple[float, float]:
    """Return α and β current [A] as the two channels read them."""
    s = drive.sensing
    second = -0.5 * x[I_ALPHA] + 0.5 * SQRT3 * x[I_BETA]
    x[IA] = read_current(x, x[I_ALPHA], s.offset_a, s.noise, s.step, s.full_scale)
    x[IB] = read_current(x, second, s.offset_b, s.noise, s.step, s.full_scale)
    return x[IA], (x[IA] + 2.0 * x[IB]) / SQRT3


@inlined
def flux_current(x: FloatArray, drive: Drive) -> float:
    """Return the magnetizing current [A] at the speed seen: full as long as the voltage there is holds it, then as 1/ω.

    A flux that induces more than there is (the supply sagged) is taken down by what the leakage lets through, instead of braking the
    shaft: ω·Lσ·i_d + ω·ψ within the voltage.
    """
    c = drive.control
    speed = abs(drive.machine.pole_pairs * x[SPEED_SEEN])
    limit = x[V_BUS] * c.volts_per_bus
    most = c.flux_share * limit / max(c.lm + c.lq, 1e-12)
    i_d = most / speed if 0.0 < most < speed * c.i_flux else c.i_flux
    left = limit - speed * x[FLUX_SEEN]
    if c.flux_share > 0.0 and speed * c.lq * i_d > left:
        i_d = max(left / (speed * c.lq), -c.i_limit)
    return i_d


@inlined
def torque_limits(c: Control, i_d: float, flux: float, speed: float, turning: float, limit: float) -> tuple[float, float]:
    """Return the least and the greatest i_q [A] that the current limit leaves and the voltage ``limit`` [V] holds in the steady state.

    ``i_d`` [A] and ``flux`` [Wb] as they are; ``speed`` of the shaft and ``turning`` of the frame, electrical rad/s. The circle
    (R·i_d − ω·Lσ·i_q)² + ((R + RR)·i_q + ω·Lσ·i_d + ω_r·ψ)² = V² solved for i_q; zero always lies between them.
    """
    rr = c.rotor_rate * c.lm
    reach, whole = turning * c.lq, c.r + rr
    emf = reach * i_d + speed * flux
    a = reach * reach + whole * whole
    half = whole * emf - reach * c.r * i_d
    rest = half * half - a * (c.r * c.r * i_d * i_d + emf * emf - limit * limit)
    spread = math.sqrt(rest) if rest > 0.0 else 0.0
    most = math.sqrt(max(c.i_limit * c.i_limit - i_d * i_d, 0.0))
    low, high = (-half - spread) / max(a, 1e-18), (-half + spread) / max(a, 1e-18)
    return max(min(low, 0.0), -most), min(max(high, 0.0), most)


@inlined
def ask_speed(x: FloatArray, drive: Drive, target: float) -> None:
    """Run the speed loop once there is flux; until then the shaft is asked for nothing."""
    c = drive.control
    x[ID_REF] = flux_current(x, drive)
    if c.field_off > 0.0:
        rests = target == 0.0 and x[MOVING] == 0.0 and abs(x[REF]) < REST and abs(x[SPEED_SEEN]) < REST
        x[AT_REST] = x[AT_REST] + c.ts * c.speed_divider if rests else 0.0
        if x[AT_REST] > c.field_off + 0.5 * c.ts:  # nothing is to be held: the field is let go
            x[MAGNETIZED] = x[ID_REF] = 0.0
    if x[ID_REF] > 0.0 and x[FLUX_SEEN] >= _MAGNETIZED_AT * c.lm * x[ID_REF]:
        x[MAGNETIZED] = 1.0
    if x[MAGNETIZED] == 0.0:
        x[INT_SPEED] = x[IQ_REF] = 0.0
        forget_reference(x, c, x[SPEED_SEEN], 0.0)
        return
    speed_step(x, c, target, x[IQ_LOW], x[IQ_HIGH])


@inlined
def regulated(x: FloatArray, drive: Drive, alpha: float, beta: float, speed: float, turning: float, flux: float) -> tuple[float, float]:
    """Run the current controllers in the frame at ``ANGLE_SEEN``, which turns with ``turning`` [rad/s], on a ``flux`` [Wb] along d that the rotor's electrical ``speed`` cuts; return the stationary voltage."""
    c, angle = drive.control, x[ANGLE_SEEN]
    cs, ss = math.cos(angle), math.sin(angle)
    i_d, i_q = alpha * cs + beta * ss, -alpha * ss + beta * cs
    feed_d = c.decouple * (-turning * c.lq * i_q - c.rotor_rate * flux)
    feed_q = c.decouple * (turning * c.ld * i_d + speed * flux)
    limit = x[V_BUS] * c.volts_per_bus
    if abs(speed) * flux > limit:  # the flux induces more than there is: the voltage belongs against it
        turned = regulate(c, x[INT_Q], x[INT_D], x[IQ_REF] - i_q, x[ID_REF] - i_d, feed_q, feed_d, limit)
        x[VQ], x[VD], x[INT_Q], x[INT_D] = turned
    else:
        x[VD], x[VQ], x[INT_D], x[INT_Q] = regulate(
            c, x[INT_D], x[INT_Q], x[ID_REF] - i_d, x[IQ_REF] - i_q, feed_d, feed_q, limit
        )
    ahead = angle + c.delay_samples * c.ts * turning
    ca, sa = math.cos(ahead), math.sin(ahead)
    return x[VD] * ca - x[VQ] * sa, x[VD] * sa + x[VQ] * ca


@inlined
def _oriented(x: FloatArray, drive: Drive) -> tuple[float, float]:
    """Run the current controllers in the frame of the flux as the firmware believes it; return the stationary voltage."""
    c = drive.control
    alpha, beta = read_stator(x, drive)
    cs, ss = math.cos(x[ANGLE_SEEN]), math.sin(x[ANGLE_SEEN])
    i_d, i_q = alpha * cs + beta * ss, -alpha * ss + beta * cs
    x[FLUX_SEEN] += (1.0 - math.exp(-c.rotor_rate * c.ts)) * (c.lm * i_d - x[FLUX_SEEN])
    speed = drive.machine.pole_pairs * x[SPEED_SEEN]
    turning = speed + x[SLIP]
    x[IQ_LOW], x[IQ_HIGH] = torque_limits(c, x[ID_REF], x[FLUX_SEEN], speed, turning, x[V_BUS] * c.volts_per_bus)
    x[IQ_REF] = min(max(x[IQ_REF], x[IQ_LOW]), x[IQ_HIGH])
    va, vb = regulated(x, drive, alpha, beta, speed, turning, x[FLUX_SEEN])
    x[SLIP] = c.rotor_rate * c.lm * i_q / max(x[FLUX_SEEN], _LEAST * c.lm * c.i_flux, 1e-12)
    return va, vb


@inlined
def _hertz(x: FloatArray, drive: Drive, target: float) -> tuple[float, float]:
    """Turn the voltage along the ramp, as long as its frequency asks for."""
    c = drive.control
    most = c.ramp * c.ts
    x[REF] += min(most, max(-most, target - x[REF]))
    alpha, beta = read_stator(x, drive)
    cs, ss = math.cos(x[FIELD]), math.sin(x[FIELD])
    x[IQ_REF] = x[ID_REF] = 0.0
    in_phase, across = alpha * cs + beta * ss, -alpha * ss + beta * cs
    # in phase with the voltage, less what the stator's copper takes
    active = in_phase - c.r * (alpha * alpha + beta * beta) / max(x[VD], 1e-3)
    sense = 1.0 if x[REF] >= 0.0 else -1.0
    wanted = c.slip_share * c.rotor_rate * active / max(c.i_flux, 1e-9) * sense if x[REF] != 0.0 else 0.0
    x[SLIP] += c.ts * SLIP_RATE * (wanted - x[SLIP])
    turning = drive.machine.pole_pairs * x[REF] + x[SLIP]
    behind = math.hypot(x[VD] - c.r * in_phase + turning * c.lq * across, c.r * across + turning * c.lq * in_phase)
    line = min(c.volts_per_rad * abs(turning), x[VD])
    lost = line > TELLS * c.r * c.i_flux and behind < FOLLOWS * line
    x[OUT_OF_STEP] = 1.0 if lost or math.hypot(alpha, beta) > c.i_limit else 0.0
    x[FIELD] += turning * c.ts
    size = float(min(c.boost + c.volts_per_rad * abs(turning), x[V_BUS] * c.volts_per_bus))
    x[VD], x[VQ] = size, 0.0
    x[ANGLE_SEEN] = x[FIELD]
    ahead = x[FIELD] + c.delay_samples * c.ts * turning
    return size * math.cos(ahead), size * math.sin(ahead)


@inlined
def rotor_firmware(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int) -> tuple[float, float]:
    """Run one period of the firmware; return the stationary voltage it commands. ``ANGLE_SEEN`` comes in as the shaft's."""
    c = drive.control
    if mode == OFF:
        x[INT_D] = x[INT_Q] = x[INT_SPEED] = x[IQ_REF] = x[ID_REF] = x[SLIP] = 0.0
        x[IQ_LOW] = x[IQ_HIGH] = x[MAGNETIZED] = x[OUT_OF_STEP] = x[AT_REST] = 0.0
        x[VD] = x[VQ] = 0.0
        forget_reference(x, c, x[SPEED_SEEN], 0.0)
        x[FLUX_SEEN] *= math.exp(-c.rotor_rate * c.ts)
        return 0.0, 0.0
    if mode == ALIGN:  # a voltage held along phase A
        x[VD], x[VQ] = inputs[IN_ID], 0.0
        return float(inputs[IN_ID]), 0.0
    if mode == MAINS:
        turn = drive.machine.pole_pairs * inputs[IN_SPEED] * c.ts
        x[VD], x[VQ], x[REF], x[ANGLE_SEEN] = inputs[IN_ID], 0.0, inputs[IN_SPEED], x[FIELD]
        held = x[FIELD] + c.delay_samples * turn  # the middle of the time for which it is held
        x[FIELD] += turn
        size = float(inputs[IN_ID])
        return size * math.cos(held), size * math.sin(held)
    if mode == HERTZ:
        va, vb = _hertz(x, drive, inputs[IN_SPEED])
        return va, vb
    if mode == CURRENT:
        x[ID_REF], x[IQ_REF] = inputs[IN_ID], rolled(x, c, inputs[IN_IQ])
    elif mode in (SPEED, MOVE):
        x[ID_REF] = 0.0 if c.field_off > 0.0 and x[AT_REST] > c.field_off + 0.5 * c.ts else flux_current(x, drive)
    x[FIELD] = (x[FIELD] + x[SLIP] * c.ts) % (2.0 * math.pi)
    x[ANGLE_SEEN] += x[FIELD]
    va, vb = _oriented(x, drive)
    return va, vb
