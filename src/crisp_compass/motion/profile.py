"""The shortest move from rest to rest within a speed, an acceleration and, where one is given, a jerk.

Trapezoid of speed, or a triangle where the distance ends it before the speed is reached. With jerk: seven phases of constant jerk,
symmetric (L. Biagiotti, C. Melchiorri, Trajectory Planning for Automatic Machines and Robots, 2008, ch. 3): the rise of the
acceleration takes A/J, or √(V/J) where the speed comes first; where the distance comes first, the peak speed follows from
D = v·(v/A + A/J), or D = 2·J·t³ where the acceleration is not reached either.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

#: Signs of the jerk in the seven phases: rise, hold, fall, cruise, rise, hold, fall.
_JERKS = (1.0, 0.0, -1.0, 0.0, -1.0, 0.0, 1.0)


@dataclass(frozen=True)
class Profile:
    """A move: ``phases`` [s], three of constant acceleration or seven of constant jerk; ``distance`` [rad] with its sign, and the
    magnitudes ``peak_speed`` [rad/s], ``peak_accel`` [rad/s²], ``jerk`` [rad/s³] (0: none)."""

    distance: float
    phases: tuple[float, ...]
    peak_speed: float
    peak_accel: float
    jerk: float = 0.0

    @property
    def duration(self) -> float:
        """Whole time, s."""
        return math.fsum(self.phases)

    def at(self, time: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Return position [rad], speed [rad/s] and acceleration [rad/s²], each (n,), at times (n,) [s] within the move.

        The second half is the first one backwards, so that the end is exact.
        """
        time = np.clip(np.asarray(time, dtype=np.float64), 0.0, self.duration)
        second = time > 0.5 * self.duration
        position, speed, accel = self._from_start(np.where(second, self.duration - time, time))
        size = abs(self.distance)
        sign = math.copysign(1.0, self.distance)
        return (
            sign * np.where(second, size - position, position),
            sign * speed,
            sign * np.where(second, -accel, accel),
        )

    def _from_start(self, time: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
        if not self.jerk:
            rise = self.phases[0]
            t = np.minimum(time, rise)
            accel = np.where(time < rise, self.peak_accel, 0.0)
            return 0.5 * self.peak_accel * t**2 + self.peak_speed * (time - t), self.peak_accel * t, accel
        position, speed, accel = np.zeros_like(time), np.zeros_like(time), np.zeros_like(time)
        left = np.array(time)
        for span, sign in zip(self.phases[:4], _JERKS, strict=False):
            t, jerk = np.minimum(left, span), sign * self.jerk
            position = position + speed * t + 0.5 * accel * t**2 + jerk * t**3 / 6
            speed = speed + accel * t + 0.5 * jerk * t**2
            accel = accel + jerk * t
            left = left - t
        return position, speed, accel


def shortest(distance: float, speed: float, accel: float, jerk: float | None = None) -> Profile:
    """Return the shortest move over ``distance`` [rad, signed] within ``speed`` [rad/s], ``accel`` [rad/s²] and ``jerk`` [rad/s³].

    Raises Refusal for anything that is no number, for a limit that is not above zero, and where the time is beyond all numbers.
    """
    if not math.isfinite(distance):
        raise Refusal("the distance is no number", "give turns, with a sign", where="--distance-turns")
    for name, value, where in (
        ("speed", speed, "--speed-rpm"),
        ("acceleration", accel, "--accel"),
        ("jerk", jerk, "--jerk"),
    ):
        if value is not None and not (value > 0 and math.isfinite(value)):
            raise Refusal(f"the {name} is {value:g}", "a number above zero is needed", where=where)
    size = abs(distance)
    profile = _trapezoid(size, speed, accel) if jerk is None else _seven_phases(size, speed, accel, jerk)
    if not math.isfinite(profile.duration):
        raise Refusal("the move takes longer than a number can say", "raise the limits, or shorten the distance")
    return Profile(distance, profile.phases, profile.peak_speed, profile.peak_accel, jerk=profile.jerk)


def _trapezoid(size: float, speed: float, accel: float) -> Profile:
    if size == 0:
        return Profile(0.0, (0.0, 0.0, 0.0), 0.0, 0.0)
    rise = speed / accel
    if size >= speed * rise:
        return Profile(size, (rise, size / speed - rise, rise), speed, accel)
    rise = math.sqrt(size / accel)
    return Profile(size, (rise, 0.0, rise), accel * rise, accel)


def _seven_phases(size: float, speed: float, accel: float, jerk: float) -> Profile:
    if size == 0:
        return Profile(0.0, (0.0,) * 7, 0.0, 0.0, jerk=jerk)
    rise = accel / jerk
    if speed * jerk < accel * accel:  # the speed is reached before the acceleration
        rise, hold = math.sqrt(speed / jerk), 0.0
    else:
        hold = speed / accel - rise
    peak, cruise = speed, 0.0
    if size >= speed * (2 * rise + hold):
        cruise = size / speed - (2 * rise + hold)
    else:
        rise = accel / jerk
        # D = v·(v/A + A/J); written so that nothing cancels
        peak = 2 * size / (rise + math.sqrt(rise * rise + 4 * size / accel))
        hold = peak / accel - rise
        if hold < 0:
            rise, hold = math.cbrt(size / (2 * jerk)), 0.0
            peak = jerk * rise * rise
    return Profile(size, (rise, hold, rise, cruise, rise, hold, rise), peak, jerk * rise, jerk=jerk)


def table(profile: Profile, rows: int = 201) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """Return time [s], position [rad], speed [rad/s] and acceleration [rad/s²] at even times and at every change of phase."""
    changes = np.cumsum(profile.phases)[:-1]
    time = np.unique(np.concatenate([np.linspace(0.0, profile.duration, rows), changes, [profile.duration]]))
    time = time[time <= profile.duration]
    return time, *profile.at(time)
