"""A ramp as a table of waits between steps, for a timer that makes the pulses.

The k-th pulse comes where the profile passes k steps: of a plain ramp at t = √(2·k·θ/α), of one averaged over a rounding T where (Q(t) − Q(t − T))/T = k·θ, with Q the integral of the plain ramp's place
(integrated in closed form, solved by Newton's rule from a table). Waits are differences of rounded moments, so that nothing adds up.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray, IntArray
from crisp_compass.quantities import grouped

#: Waits that a table holds at most.
MOST = 4096


@dataclass(frozen=True)
class StepTable:
    """``waits`` (n,) ticks of the timer before each pulse of the ramp, the wait ``cruise`` at speed, and the moments (n,) [s] they come from."""

    waits: IntArray
    cruise: int
    moments: FloatArray


def step_table(*, speed: float, accel: float, rounding: float, step: float, timer_hz: float) -> StepTable:
    """Return the waits of a ramp to ``speed`` [rad/s] with ``accel`` [rad/s²] averaged over ``rounding`` [s], for pulses of ``step`` [rad].

    Raises Refusal where the table would be too long, or the timer is too slow to tell two pulses apart.
    """
    rise = speed / accel
    whole = rise + rounding
    count = math.floor(0.5 * speed * whole / step + 1e-9)
    if count > MOST:
        raise Refusal(f"the ramp takes {grouped(count)} pulses, more than the {grouped(MOST)} that a table holds", "more acceleration, less speed, or a coarser table", field="motion.accel")
    if timer_hz * step / speed < 2.0:
        raise Refusal("the timer is too slow to tell two pulses apart at this speed", "a coarser table, less speed, or a quicker timer", field="motion.speed")
    cruise = round(timer_hz * step / speed)
    if count == 0:
        return StepTable(np.empty(0, dtype=np.int64), cruise, np.empty(0))
    places = step * np.arange(1.0, count + 1)
    if rounding == 0.0:
        moments = np.sqrt(2 * places / accel)
    else:
        grid = np.linspace(0.0, whole, 4097)
        moments = np.interp(places, _place(grid, speed, accel, rounding), grid)
        for _ in range(40):
            slope = np.maximum(_speed(moments, speed, accel, rounding), 1e-9 * speed)
            moments = np.clip(moments - (_place(moments, speed, accel, rounding) - places) / slope, 0.0, whole)
    ticks = np.rint(moments * timer_hz).astype(np.int64)
    return StepTable(np.diff(ticks, prepend=0), cruise, moments)


def _integral(t: FloatArray, speed: float, accel: float) -> FloatArray:
    """Return the integral of the plain ramp's place, rad·s."""
    rise = speed / accel
    before, after = np.clip(t, 0.0, rise), np.maximum(t - rise, 0.0)
    return np.asarray(accel * before**3 / 6 + 0.5 * accel * rise**2 * after + 0.5 * speed * after**2)


def _plain(t: FloatArray, speed: float, accel: float) -> FloatArray:
    """Return the plain ramp's place, rad."""
    rise = speed / accel
    return np.asarray(0.5 * accel * np.clip(t, 0.0, rise) ** 2 + speed * np.maximum(t - rise, 0.0))


def _place(t: FloatArray, speed: float, accel: float, rounding: float) -> FloatArray:
    return np.asarray((_integral(t, speed, accel) - _integral(t - rounding, speed, accel)) / rounding)


def _speed(t: FloatArray, speed: float, accel: float, rounding: float) -> FloatArray:
    return np.asarray((_plain(t, speed, accel) - _plain(t - rounding, speed, accel)) / rounding)
