"""The position loop as the firmware runs it, once a speed step: a profile from rest to rest, and a gain on what the shaft is off it; compiled.

The profile is the quickest of a sampled double integrator within a speed and an acceleration, worked out anew each step, so that the target may change at any time: with m steps of braking left,
m = ⌈(√(1 + 8·d/g) − 1)/2⌉ for the way d and the gain of speed g of a step, the speed is d/m + g·(m − 1)/2 at most, which arrives on the target with whole steps. Its mean over the last steps rounds it:
the acceleration then builds and fades within them (L. Biagiotti, C. Melchiorri, Trajectory Planning for Automatic Machines and Robots, 2008, ch. 4.6).
"""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.watching import LEAVES, watch
from crisp_compass.plant.parameters import MOVE, NO_FAULT, PULSE, Drive
from crisp_compass.plant.state import (
    AHEAD,
    AT,
    FAULT,
    FIELD,
    FOLLOWS,
    IN_POSITION,
    IN_SPEED,
    LAST_ANGLE,
    MOVING,
    PLAN_SPEED,
    PLANNED,
    QUIET,
    REF,
    RING,
    RING_AT,
    RISE_AHEAD,
    SETTLING,
    STANDS,
    TRIED,
    TRIM,
    TWO_PI,
    WATCHING,
)

#: Times the profile's speed that the loop may ask for at most, to catch up.
MOST_CATCHING = 1.25


@inlined
def _begin(x: FloatArray, steps: int, seen: float, period: float) -> None:
    """Begin at the place that is seen [rad], with the speed that was asked for: the profile is ahead of its mean by what that speed makes in half of the steps."""
    x[MOVING], x[AT] = 1.0, seen
    x[PLANNED] = seen + x[REF] * period * 0.5 * (steps - 1.0)
    x[PLAN_SPEED] = x[AHEAD] = x[REF]
    x[QUIET] = x[RING_AT] = x[STANDS] = 0.0
    for k in range(steps):
        x[RING + k] = x[REF]


@inlined
def _plan(x: FloatArray, target: float, speed: float, accel: float, period: float) -> None:
    """Move the profile on by one step towards ``target`` [rad]."""
    left, gain = target - x[PLANNED], accel * period * period
    size, before = abs(left), x[PLAN_SPEED] * period
    steps = max(math.ceil(0.5 * (math.sqrt(1.0 + 8.0 * size / gain) - 1.0) - 1e-6), 1.0)
    want = min(size / steps + 0.5 * gain * (steps - 1.0), speed * period)
    if left < 0.0:
        want = -want
    step = before + min(gain, max(-gain, want - before))
    x[PLANNED] = target if abs(left - step) < 1e-9 * gain else x[PLANNED] + step
    x[PLAN_SPEED] = step / period


@inlined
def _follow_profile(x: FloatArray, drive: Drive, target: float, seen: float, accel: float) -> None:
    """Move the profile and its mean on by a speed step towards ``target`` [rad]; a move begins at ``seen`` [rad]."""
    c = drive.control
    period, steps = c.ts * c.speed_divider, int(c.move_steps)
    if x[MOVING] == 0.0:
        _begin(x, steps, seen, period)
    _plan(x, target, c.move_speed, accel, period)
    was = float(x[AHEAD])
    place = int(x[RING_AT])
    x[AHEAD] += (x[PLAN_SPEED] - x[RING + place]) / steps
    x[RING + place] = x[PLAN_SPEED]
    x[RING_AT] = 0.0 if place + 1 >= steps else place + 1.0
    x[QUIET] = x[QUIET] + 1.0 if x[PLAN_SPEED] == 0.0 else 0.0
    x[AT] += x[AHEAD] * period
    if x[QUIET] >= steps:  # what sums have rounded off
        x[AHEAD], x[AT] = 0.0, x[PLANNED]
    x[RISE_AHEAD] = (x[AHEAD] - was) / period


@inlined
def asked_speed(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int) -> float:
    """Return the speed [rad/s] that the speed loop is asked for: what is commanded, or what a position loop makes of it."""
    if mode != MOVE:
        x[MOVING] = 0.0
        return float(inputs[IN_SPEED])
    c = drive.control
    seen = float(x[LAST_ANGLE]) * TWO_PI / drive.sensing.counts_per_rev
    _follow_profile(x, drive, inputs[IN_POSITION], seen, c.move_accel)
    x[FOLLOWS] = x[AT] - seen
    # a shaft that stands is not asked to move by less than the window, or integrator and friction would hunt
    outside = LEAVES * c.window if x[STANDS] != 0.0 else c.window
    x[STANDS] = 1.0 if x[QUIET] >= c.move_steps and abs(x[FOLLOWS]) <= outside and c.window > 0.0 else 0.0
    if x[STANDS] != 0.0:
        return 0.0
    most = MOST_CATCHING * c.move_speed
    return min(most, max(-most, c.ahead_speed * float(x[AHEAD]) + c.kv * float(x[FOLLOWS])))


@inlined
def stepped_on(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int, due: bool) -> None:
    """Turn the field of a motor that is stepped on by a period: along the ramp to a speed, or along a profile to a place, which it is believed to follow or an encoder watches."""
    c, p = drive.control, drive.machine.pole_pairs
    accel = c.ramp if mode != PULSE else c.move_accel
    if c.lost_limit > 0.0:
        if due:
            watch(x, drive, mode, inputs)
        if x[WATCHING] == 0.0 or x[SETTLING] > 0.0 or x[FAULT] != NO_FAULT:  # the field stands
            x[REF], x[MOVING], x[AT] = 0.0, 0.0, x[FIELD] / p
            return
        accel *= c.slower ** x[TRIED]
    if mode != PULSE:
        most = accel * c.ts
        x[MOVING] = 0.0
        x[REF] += min(most, max(-most, inputs[IN_SPEED] - x[REF]))
    elif due:
        if x[MOVING] != 0.0:  # what the sum over the periods has rounded off
            x[FIELD] = p * (x[AT] + x[TRIM])
        _follow_profile(x, drive, inputs[IN_POSITION], x[FIELD] / p - x[TRIM], accel)
        x[REF] = x[AHEAD]
    x[FIELD] += p * x[REF] * c.ts
