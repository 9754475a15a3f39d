"""The speed loop as the firmware runs it: ramp, set-point, feed-forward, PI, low-pass and notch of the torque current; compiled."""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.parameters import Control
from crisp_compass.plant.state import (
    AHEAD,
    INT_SPEED,
    IQ_REF,
    LAG,
    MOVING,
    NOTCH_1,
    NOTCH_2,
    REF,
    RISE,
    RISE_AHEAD,
    SMOOTH,
    SPEED_SEEN,
    V_BUS,
    WATCHING,
)


@inlined
def forget_reference(x: FloatArray, c: Control, speed: float, current: float) -> None:
    """Begin anew at a speed [rad/s] and a torque current [A]: the reference rests there, and the filters behind the PI stand at that current."""
    x[REF], x[LAG], x[RISE], x[MOVING], x[WATCHING] = speed, 0.0, 0.0, 0.0, 0.0
    x[SMOOTH] = current
    x[NOTCH_1], x[NOTCH_2] = (1.0 - c.notch_b0) * current, (c.notch_b2 - c.notch_a2) * current


@inlined
def _sign(value: float) -> float:
    return 1.0 if value > 0.0 else (-1.0 if value < 0.0 else 0.0)


@inlined
def rolled(x: FloatArray, c: Control, i_q: float) -> float:
    """Return the torque current [A] with what hides friction and cogging while a torque is held, within the current limit."""
    if c.roll == 0.0:
        return i_q
    part = 1.0 if c.roll_knee <= 0.0 else min(max(float(x[SPEED_SEEN]) / c.roll_knee, -1.0), 1.0)
    return min(max(i_q + c.roll * part, -c.i_limit), c.i_limit)


@inlined
def ramped(x: FloatArray, c: Control, target: float, period: float) -> None:
    """Move the reference towards ``target`` [rad/s] by one step of the ramp; with ``jerk`` the acceleration itself builds and fades at that rate.

    The time-optimal rule of a sampled double integrator (J. Han, IEEE Trans. Ind. Electron. 56, 2009, “fhan”): it arrives without chatter, to within what a step of the jerk gains.
    """
    if c.jerk <= 0.0:
        most = c.ramp * period
        x[REF] += min(most, max(-most, target - x[REF]))
        return
    d = c.jerk * period * period
    a0 = period * x[RISE]
    y = x[REF] - target + a0
    a1 = math.sqrt(d * (d + 8.0 * abs(y)))
    a2 = a0 + 0.5 * _sign(y) * (a1 - d)
    near = 0.5 * (_sign(y + d) - _sign(y - d))
    a = (a0 + y - a2) * near + a2
    slow = 0.5 * (_sign(a + d) - _sign(a - d))
    jerk = -c.jerk * (a / d - _sign(a)) * slow - c.jerk * _sign(a)
    x[REF] += period * x[RISE]
    x[RISE] = min(c.ramp, max(-c.ramp, x[RISE] + period * jerk))


@inlined
def filtered_current(x: FloatArray, c: Control, current: float) -> float:
    """Return the torque current [A] behind low-pass and notch (direct form II, transposed)."""
    x[SMOOTH] += c.torque_share * (current - x[SMOOTH])
    u = float(x[SMOOTH])
    y = float(c.notch_b0 * u + x[NOTCH_1])
    x[NOTCH_1] = c.notch_b1 * u - c.notch_a1 * y + x[NOTCH_2]
    x[NOTCH_2] = c.notch_b2 * u - c.notch_a2 * y
    return y


@inlined
def slower(c: Control, speed: float) -> float:
    """Return the share of the bandwidth that the loop has at a speed [rad/s]."""
    if c.slow_below <= 0.0:
        return 1.0
    return c.slow_share + (1.0 - c.slow_share) * min(max(speed / c.slow_below - 1.0, 0.0), 1.0)


@inlined
def within_power(x: FloatArray, c: Control, low: float, high: float) -> tuple[float, float]:
    """Return the ends of the torque current [A] within which no more power is taken from the bus and given to it than may be.

    The bus gives P = Kt·ω·i + R'·i² for a current i that drives, and gets Kt·|ω|·i − R'·i² of one that brakes: of both the root that is zero with P.
    """
    turns = c.power_kt * x[SPEED_SEEN]
    size, drives, brakes = abs(turns), high, -low
    if turns < 0.0:
        drives, brakes = -low, high
    if c.power_from > 0.0:
        drives = min(drives, 2.0 * c.power_from / (size + math.sqrt(size * size + 4.0 * c.power_r * c.power_from)))
    root = size * size - 4.0 * c.power_r * c.power_into
    if c.power_into > 0.0 and root > 0.0:  # else copper takes all that comes back
        brakes = min(brakes, 2.0 * c.power_into / (size + math.sqrt(root)))
    return (-brakes, drives) if turns >= 0.0 else (-drives, brakes)


@inlined
def speed_step(x: FloatArray, c: Control, target: float, low: float, high: float) -> None:
    """Ramp, set-point filter (``LAG``: how far its output is behind the ramp), feed-forward, PI whose output stays between ``low`` and ``high`` [A]; its integrator does not run on against them."""
    period = c.ts * c.speed_divider
    if c.power_from > 0.0 or c.power_into > 0.0:
        low, high = within_power(x, c, low, high)
    if c.low_start > 0.0:  # what drives takes from a bus that sinks: less of it
        left = min(max((x[V_BUS] - c.low_end) / (c.low_start - c.low_end), 0.0), 1.0)
        low, high = (low, high * left) if x[SPEED_SEEN] >= 0.0 else (low * left, high)
    if c.fold_end > 0.0:  # what brakes gives back: less of it as the bus rises
        share = min(max((c.fold_end - x[V_BUS]) / (c.fold_end - c.fold_start), 0.0), 1.0)
        low, high = (low * share, high) if x[SPEED_SEEN] > 0.0 else (low, high * share)
    if x[MOVING] != 0.0:  # a position loop asks: what is ahead of the PI is its profile's, and no filter stands between
        x[REF], x[LAG], x[RISE] = target, 0.0, 0.0
        reference = target
        ahead = c.ahead_inertia * x[RISE_AHEAD] + c.ahead_viscous * x[AHEAD] + c.ahead_coulomb * _sign(x[AHEAD])
    else:
        before = x[REF]
        last = before + (1.0 - c.set_weight) * x[LAG]
        ramped(x, c, target, period)
        x[LAG] = (x[LAG] + before - x[REF]) * math.exp(-c.set_point * period) if c.set_point > 0.0 else 0.0
        reference = x[REF] + (1.0 - c.set_weight) * x[LAG]
        ahead = c.ahead_inertia * (reference - last) / period + c.ahead_viscous * reference + c.ahead_coulomb * _sign(x[REF])
    error = reference - x[SPEED_SEEN]
    part = slower(c, abs(x[SPEED_SEEN]))
    trial = x[INT_SPEED] + c.ki_speed * part * part * period * error
    want = c.kp_speed * part * error + trial + ahead
    limited = min(high, max(low, want))
    if want == limited or error * (want - limited) < 0:
        x[INT_SPEED] = trial
    # what is filtered stands within the limits already; a filter that rings passes them no more than the current may
    x[IQ_REF] = min(high, max(low, filtered_current(x, c, limited)))
