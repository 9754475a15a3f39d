"""An encoder that watches a field which is stepped, once a speed step; compiled.

A rotor that falls behind its field by more than half an electrical turn is drawn to another stable place, whole electrical turns off. What the encoder counts tells it before: up to a full step (a quarter of an
electrical turn) a load alone draws the shaft off, beyond it pulls no more the harder it falls behind.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.parameters import FOLLOWING, PULSE, Drive
from crisp_compass.plant.state import (
    AT,
    FAULT,
    FIELD,
    FOLLOWS,
    IN_POSITION,
    IN_SPEED,
    KNOWN,
    LAST_ANGLE,
    MOVING,
    ORIGIN,
    PLANNED,
    QUIET,
    REF,
    SETTLING,
    STANDS,
    TRIED,
    TRIM,
    TRIM_CLOCK,
    TWO_PI,
    WATCHING,
)

#: Times the standing window at which a shaft that stands is moved again.
LEAVES = 2.0


@inlined
def _to_shaft(x: FloatArray, pole_pairs: float, seen: float) -> None:
    """Put the field to where the shaft is [rad], and let it stand."""
    x[FIELD] = pole_pairs * (seen + x[ORIGIN])
    x[TRIM] = x[TRIM_CLOCK] = x[STANDS] = 0.0


@inlined
def _trim(x: FloatArray, drive: Drive, seen: float, period: float) -> None:
    """Turn the field on to bring a shaft that rests into its window; within twice of it one that was there is left alone, or load and friction would make it hunt."""
    c, p = drive.control, drive.machine.pole_pairs
    error = float(x[AT] - seen - x[ORIGIN])
    outside = LEAVES * c.window if x[STANDS] != 0.0 else c.window
    if abs(error) <= outside:
        x[STANDS], x[TRIM_CLOCK] = 1.0, 0.0
        return
    x[STANDS] = 0.0
    x[TRIM_CLOCK] += period
    if x[TRIM_CLOCK] >= c.settle - 0.5 * period:
        most = 0.5 * math.pi / p
        x[TRIM_CLOCK] = 0.0
        x[TRIM] = min(most, max(-most, x[TRIM] + error))


@inlined
def watch(x: FloatArray, drive: Drive, mode: int, inputs: FloatArray) -> None:
    """Compare field and shaft, once a speed step before the profile goes on: learn where zero is, see steps that are lost and begin anew, trim at rest."""
    c, p = drive.control, drive.machine.pole_pairs
    period = c.ts * c.speed_divider
    seen = float(x[LAST_ANGLE]) * TWO_PI / drive.sensing.counts_per_rev
    if x[FAULT] != 0.0:
        return
    if x[WATCHING] == 0.0:  # the bridge is on again: the shaft settles in the field, which knows where it is if it was watched before
        x[WATCHING], x[SETTLING], x[TRIED] = 1.0, c.settle, 0.0
        if x[KNOWN] != 0.0:
            _to_shaft(x, p, seen)
    off = float(x[FIELD] / p - seen - x[ORIGIN])
    if x[SETTLING] > 0.0:
        x[SETTLING] -= period
        if x[KNOWN] != 0.0 and abs(off) > c.lost_limit:  # it still turns
            _to_shaft(x, p, seen)
        if x[SETTLING] <= 0.5 * period:
            x[SETTLING] = 0.0
            if x[KNOWN] == 0.0:
                x[ORIGIN], x[KNOWN] = x[FIELD] / p - seen, 1.0
        return
    x[FOLLOWS] = off
    if abs(off) > c.lost_limit:
        x[TRIED] += 1.0
        _to_shaft(x, p, seen)  # at the end, too: what is held must not jump once the way is free
        if x[TRIED] > c.corrections:
            x[FAULT] = FOLLOWING
        else:
            x[SETTLING] = c.settle
        return
    if mode != PULSE:
        if x[REF] == 0.0 and inputs[IN_SPEED] == 0.0:
            x[TRIED] = 0.0
    elif x[MOVING] != 0.0 and x[QUIET] >= c.move_steps and x[PLANNED] == inputs[IN_POSITION]:
        x[TRIED] = 0.0
        if c.window > 0.0:
            _trim(x, drive, seen, period)
    else:
        x[STANDS] = x[TRIM_CLOCK] = 0.0
