"""Field orientation of an induction motor without a sensor: the flux from the stator's voltage balance, the speed from how it turns; compiled.

The rotor's flux of the inverse-Γ circuit is what is left of the stator's, ψ = ∫(v − Rs·i)dt − Lσ·i (G. R. Slemon 1989). Its length is drawn at a rate k to what the rotor's own equation says,
dψ/dt = (LM·i_d − ψ)/Tr, so that offsets do not let it drift (the closed-loop flux observer of P. L. Jansen and R. D. Lorenz, IEEE Trans. Ind. Appl. 30, 1994, with its length alone corrected). A phase-locked
loop of second type follows its angle with the slip RR·i_q/ψ fed ahead: what its integrator holds is the rotor's electrical speed.

Where the voltage is too small to tell a flux, a current of given length is turned at a forced angle along the ramp, as slow motors are stepped; the rotor follows with its slip. Above a speed and with a
flux that has looked right for a while the loops close on it; below another they let go again.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.rotor_field import flux_current, read_stator, regulated, torque_limits
from crisp_compass.plant.control.speed import forget_reference, speed_step
from crisp_compass.plant.parameters import CURRENT, LOST, NO_FAULT, NO_START, OFF, Control, Drive
from crisp_compass.plant.sensors import dead_time_taken
from crisp_compass.plant.state import (
    ANGLE_SEEN,
    AT_REST,
    CLOSED,
    FAULT,
    FIELD,
    FLUX_SEEN,
    FORCING,
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
    LOST_CLOCK,
    MAGNETIZED,
    OBSERVER_STATE,
    PHASE,
    PHASE_CLOCK,
    REF,
    RESTING,
    SLIP,
    SPEED_SEEN,
    V_ALPHA,
    V_BETA,
    V_BUS,
    VD,
    VQ,
)
from crisp_compass.sensorless.estimator import wrapped

# what the observer knows, behind the state of the drive
WAS_ALPHA, WAS_BETA, FLUX_ALPHA, FLUX_BETA, FLUX_ANGLE, ROTOR_SPEED, SPREAD, HELD = range(OBSERVER_STATE, OBSERVER_STATE + 8)
#: Part of the magnetizing flux that nothing divides by less than; of it, what must stand before the shaft is turned.
LEAST, STANDS = 0.2, 0.9
#: How far above the closing speed the forced field goes at most while the flux is not yet believed, and from which part of it a flux is looked at.
FORCED_MOST, LOOKS = 1.3, 0.7
#: Part of the forced speed that the rotor must be told to follow with.
FOLLOWED = 0.3


@inlined
def observe(x: FloatArray, drive: Drive, alpha: float, beta: float, va: float, vb: float) -> None:
    """Take in the period that ends: the voltage [V] that was commanded over it and the current [A] at its end."""
    o, c = drive.estimator, drive.control
    loss, was_a, was_b = drive.start.dead_voltage, x[WAS_ALPHA], x[WAS_BETA]
    if loss > 0.0:
        lost_a, lost_b = dead_time_taken(alpha, beta, was_a, was_b, loss, drive.inverter.knee)
        va -= lost_a
        vb -= lost_b
    fa = x[FLUX_ALPHA] + c.ts * (va - 0.5 * c.r * (alpha + was_a)) - c.lq * (alpha - was_a)
    fb = x[FLUX_BETA] + c.ts * (vb - 0.5 * c.r * (beta + was_b)) - c.lq * (beta - was_b)
    x[WAS_ALPHA], x[WAS_BETA] = alpha, beta
    ahead = x[FLUX_ANGLE] + (x[ROTOR_SPEED] + x[SLIP]) * c.ts
    cs, sn = math.cos(ahead), math.sin(ahead)
    i_d, i_q = alpha * cs + beta * sn, beta * cs - alpha * sn
    x[FLUX_SEEN] += (1.0 - math.exp(-c.rotor_rate * c.ts)) * (c.lm * i_d - x[FLUX_SEEN])
    wanted = max(x[FLUX_SEEN], LEAST * c.lm * c.i_flux)
    length = math.sqrt(fa * fa + fb * fb)
    uneven = 1.0
    if length > 0.0:
        uneven = length / wanted - 1.0
        pull = min(o.correction * c.ts, 1.0) * (wanted / length - 1.0)
        fa += pull * fa
        fb += pull * fb
    x[FLUX_ALPHA], x[FLUX_BETA] = fa, fb
    error = math.atan2(fb * cs - fa * sn, fa * cs + fb * sn)
    x[ROTOR_SPEED] += o.ki * c.ts * error
    x[FLUX_ANGLE] = wrapped(ahead + o.kp * c.ts * error)
    x[SLIP] = c.rotor_rate * c.lm * i_q / wanted
    share = min(o.filter * c.ts, 1.0)
    x[SPREAD] += share * (error * error + min(uneven * uneven, 1.0) - x[SPREAD])


@inlined
def _looks_right(x: FloatArray, drive: Drive, slack: float) -> bool:
    """Tell whether length and angle of the flux have been even enough, and it turns fast enough to be told."""
    turning = abs(x[ROTOR_SPEED] + x[SLIP])
    return bool(x[SPREAD] <= drive.estimator.spread * drive.estimator.spread * slack and turning * slack >= LOOKS * drive.machine.pole_pairs * drive.start.low_up)


@inlined
def _turn(x: FloatArray, c: Control, by: float) -> None:
    """Turn the frame on by ``by`` [rad] with the voltage as it is; the integrators take all of it but what is fed ahead, which the next period knows."""
    ct, st = math.cos(by), math.sin(by)
    x[INT_D], x[INT_Q] = x[INT_D] * ct + x[INT_Q] * st, x[INT_Q] * ct - x[INT_D] * st
    x[VD], x[VQ] = x[VD] * ct + x[VQ] * st, x[VQ] * ct - x[VD] * st


@inlined
def _close(x: FloatArray, drive: Drive, alpha: float, beta: float) -> None:
    """Close the loops on the flux: current and voltage stay what they are, seen from it."""
    c, angle = drive.control, x[FLUX_ANGLE]
    cs, sn = math.cos(angle), math.sin(angle)
    i_d, i_q = alpha * cs + beta * sn, beta * cs - alpha * sn
    _turn(x, c, wrapped(angle - x[FIELD]))
    turning, speed = x[ROTOR_SPEED] + x[SLIP], x[ROTOR_SPEED]
    # what decoupling will give is taken off what the integrators hold
    x[INT_D] = x[VD] - c.decouple * (-turning * c.lq * i_q - c.rotor_rate * x[FLUX_SEEN])
    x[INT_Q] = x[VQ] - c.decouple * (turning * c.ld * i_d + speed * x[FLUX_SEEN])
    x[SPEED_SEEN] = speed / drive.machine.pole_pairs
    x[IQ_LOW], x[IQ_HIGH] = torque_limits(c, i_d, x[FLUX_SEEN], speed, turning, x[V_BUS] * c.volts_per_bus)
    i_q = min(max(i_q, x[IQ_LOW]), x[IQ_HIGH])
    forget_reference(x, c, x[SPEED_SEEN], i_q)
    x[IQ_REF] = x[INT_SPEED] = i_q
    x[PHASE], x[PHASE_CLOCK], x[LOST_CLOCK] = CLOSED, 0.0, 0.0


@inlined
def _let_go(x: FloatArray, c: Control, speed: float) -> None:
    """Go back to a forced current: along the one that flows, from the rotor's speed on."""
    lead = math.atan2(x[IQ_REF], x[ID_REF])
    x[FIELD] = wrapped(x[FLUX_ANGLE] + lead)
    _turn(x, c, lead)
    x[INT_D], x[INT_Q] = x[VD], x[VQ]
    x[INT_SPEED] = x[IQ_REF] = 0.0
    forget_reference(x, c, speed, 0.0)
    x[PHASE], x[PHASE_CLOCK], x[HELD] = FORCING, 0.0, 0.0


@inlined
def _forced_step(x: FloatArray, drive: Drive, target: float) -> None:
    """Move the forced speed on by one speed step, once there is flux; no further than where the flux must be told."""
    c, up = drive.control, drive.start.low_up
    x[PHASE_CLOCK] += c.ts * c.speed_divider
    if c.field_off > 0.0:
        x[AT_REST] = x[AT_REST] + c.ts * c.speed_divider if target == 0.0 and x[REF] == 0.0 else 0.0
        if x[AT_REST] > c.field_off + 0.5 * c.ts:
            x[MAGNETIZED] = x[PHASE_CLOCK] = 0.0
            return
    if x[MAGNETIZED] == 0.0:
        if x[FLUX_SEEN] >= STANDS * c.lm * c.i_flux or x[PHASE_CLOCK] * c.rotor_rate > 5.0:
            x[MAGNETIZED], x[PHASE_CLOCK] = 1.0, 0.0
        return
    most = min(c.ramp, drive.start.low_ramp) * c.ts * c.speed_divider  # no more than the forced current turns
    wanted = min(FORCED_MOST * up, max(-FORCED_MOST * up, target))
    x[REF] += min(most, max(-most, wanted - x[REF]))
    x[SPEED_SEEN] = x[REF]
    if abs(x[REF]) < up:
        x[PHASE_CLOCK] = 0.0
    elif x[PHASE_CLOCK] > drive.start.wait:
        x[FAULT] = NO_START


@inlined
def _forced(x: FloatArray, drive: Drive, alpha: float, beta: float, i_d: float, i_q: float, turning: float) -> tuple[float, float]:
    """Hold a current in the forced frame and turn that on; return the stationary voltage."""
    c = drive.control
    x[ID_REF], x[IQ_REF] = i_d, i_q
    x[IQ_LOW], x[IQ_HIGH] = -c.i_limit, c.i_limit
    x[FIELD] = wrapped(x[FIELD] + turning * c.ts)
    x[ANGLE_SEEN] = x[FIELD]
    va, vb = regulated(x, drive, alpha, beta, 0.0, turning, 0.0)
    return va, vb


@inlined
def observed_firmware(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int, speed_due: bool, whole: int, early: float) -> tuple[float, float]:
    """Run one period of the firmware without a sensor; return the stationary voltage it commands."""
    c, p = drive.control, drive.machine.pole_pairs
    if mode == OFF:
        x[INT_D] = x[INT_Q] = x[INT_SPEED] = x[IQ_REF] = x[ID_REF] = x[SLIP] = 0.0
        x[IQ_LOW] = x[IQ_HIGH] = x[MAGNETIZED] = x[VD] = x[VQ] = 0.0
        x[SPEED_SEEN] = x[PHASE_CLOCK] = x[LOST_CLOCK] = x[FIELD] = x[AT_REST] = 0.0
        x[PHASE] = RESTING
        forget_reference(x, c, 0.0, 0.0)
        x[FLUX_SEEN] *= math.exp(-c.rotor_rate * c.ts)
        return 0.0, 0.0
    alpha, beta = read_stator(x, drive)
    if x[PHASE] == RESTING:
        x[PHASE], x[SPREAD] = FORCING, 1.0
        x[WAS_ALPHA], x[WAS_BETA] = alpha, beta
        x[FLUX_ALPHA] = x[FLUX_BETA] = x[FLUX_ANGLE] = x[ROTOR_SPEED] = x[HELD] = x[FLUX_SEEN] = 0.0
    part = early / c.ts
    va = part * x[V_ALPHA + whole + 1] + (1.0 - part) * x[V_ALPHA + whole]
    vb = part * x[V_BETA + whole + 1] + (1.0 - part) * x[V_BETA + whole]
    observe(x, drive, alpha, beta, float(va), float(vb))
    good = _looks_right(x, drive, 1.0 if x[PHASE] == FORCING else 2.0)
    if x[PHASE] == FORCING:
        if mode == CURRENT:
            va, vb = _forced(x, drive, alpha, beta, inputs[IN_ID], inputs[IN_IQ], 0.0)
            return va, vb
        if speed_due:
            _forced_step(x, drive, inputs[IN_SPEED])
        follows = x[ROTOR_SPEED] * x[REF] > 0.0 and abs(x[ROTOR_SPEED]) > FOLLOWED * abs(p * x[REF])
        x[HELD] = x[HELD] + abs(x[ROTOR_SPEED]) * c.ts if good and follows and abs(x[REF]) >= drive.start.low_up else 0.0
        if x[HELD] >= drive.estimator.hold:
            _close(x, drive, alpha, beta)
    else:
        x[LOST_CLOCK] = 0.0 if good else x[LOST_CLOCK] + c.ts
        if x[LOST_CLOCK] > drive.start.lost:
            x[FAULT] = LOST
        if speed_due:
            x[SPEED_SEEN] = x[ROTOR_SPEED] / p
            if mode == CURRENT:
                x[REF] = x[SPEED_SEEN]  # where the speed loop would begin
            elif abs(x[REF]) < drive.start.low_down and abs(x[SPEED_SEEN]) < drive.start.low_down:
                _let_go(x, c, x[SPEED_SEEN])
            else:
                x[ID_REF] = flux_current(x, drive)
                speed_step(x, c, inputs[IN_SPEED], x[IQ_LOW], x[IQ_HIGH])
    if x[FAULT] != NO_FAULT:
        return 0.0, 0.0
    if x[PHASE] == FORCING:
        turned = 0.0 if c.field_off > 0.0 and x[AT_REST] > c.field_off + 0.5 * c.ts else drive.start.low_current
        va, vb = _forced(x, drive, alpha, beta, turned, 0.0, p * x[REF])
        return va, vb
    if mode == CURRENT:
        x[ID_REF], x[IQ_REF] = inputs[IN_ID], inputs[IN_IQ]
    else:
        x[ID_REF] = flux_current(x, drive)
    x[ANGLE_SEEN] = x[FLUX_ANGLE]
    speed, turning = x[ROTOR_SPEED], x[ROTOR_SPEED] + x[SLIP]
    x[IQ_LOW], x[IQ_HIGH] = torque_limits(c, x[ID_REF], x[FLUX_SEEN], speed, turning, x[V_BUS] * c.volts_per_bus)
    x[IQ_REF] = min(max(x[IQ_REF], x[IQ_LOW]), x[IQ_HIGH])
    va, vb = regulated(x, drive, alpha, beta, speed, turning, x[FLUX_SEEN])
    return va, vb
