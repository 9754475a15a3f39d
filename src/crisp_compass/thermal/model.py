"""Winding and housing of a motor as two bodies: P → winding → housing → air.

    C_w·dT_w/dt = P(T_w) − (T_w − T_h)/R_w,   C_h·dT_h/dt = (T_w − T_h)/R_w + P_h − (T_h − T_a)/R_h

The copper's loss grows with its temperature, P = k·R·(235 + T_w)/(235 + T_ref)·I² (copper's rule of IEC 60034-1), which keeps the equations linear while current and speed stand still: each stretch of
a duty is one matrix exponential, by its two modes, exact for any length. The time constants are those of data sheets, R_w·C_w and R_h·C_h.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import scipy

from crisp_compass.conversions import COPPER_RULES
from crisp_compass.estimates import FloatArray

_COPPER = COPPER_RULES["iec"]
#: A body is one only: so much of the resistance and of the heat capacity is the winding's then.
_ONE = 1e-3


class Bodies(NamedTuple):
    """Thermal resistances winding → housing and housing → air [K/W], time constants [s] of both; ``factor``·``r``·I² [Ω, at ``reference`` °C] is the copper's loss of a current vector I [A peak]."""

    to_housing: float
    to_air: float
    winding_time: float
    housing_time: float
    factor: float
    r: float
    reference: float = 20.0

    @property
    def whole(self) -> float:
        """Thermal resistance from winding to air, K/W."""
        return self.to_housing + self.to_air

    def copper(self, current: float, winding: float) -> float:
        """Return the copper's loss [W] at a winding temperature [°C]."""
        return self.factor * self.r * current**2 * max(_COPPER + winding, 0.0) / (_COPPER + self.reference)


def one_body(whole: float, time: float, factor: float, r: float, reference: float = 20.0) -> Bodies:
    """Return winding and housing as one body of thermal resistance ``whole`` [K/W] and a time constant [s]."""
    return Bodies(_ONE * whole, (1 - _ONE) * whole, _ONE**2 * time, (1 - _ONE) * time, factor=factor, r=r, reference=reference)


class Stretch(NamedTuple):
    """A part of a duty: seconds, current [A peak], other losses [W], of them all into the housing, and the factor of R_h there."""

    seconds: float
    current: float
    housing_loss: float = 0.0
    air_factor: float = 1.0


def _system(b: Bodies, s: Stretch, ambient: float) -> tuple[FloatArray, FloatArray]:
    """Return A (2, 2) [1/s] and b (2,) [K/s] of dT/dt = A·T + b."""
    cw, ch = b.winding_time / b.to_housing, b.housing_time / b.to_air
    air = b.to_air * s.air_factor
    per_kelvin = b.factor * b.r * s.current**2 / (_COPPER + b.reference)
    a = np.array([[(per_kelvin - 1 / b.to_housing) / cw, 1 / (b.to_housing * cw)], [1 / (b.to_housing * ch), -(1 / b.to_housing + 1 / air) / ch]])
    return a, np.array([per_kelvin * _COPPER / cw, (s.housing_loss + ambient / air) / ch])


def steady(b: Bodies, current: float, ambient: float, *, housing_loss: float = 0.0, air_factor: float = 1.0) -> tuple[float, float]:
    """Return winding and housing temperature [°C] that a current [A peak] leads to in the end; infinite where the copper's loss runs away."""
    a, drive = _system(b, Stretch(1.0, current, housing_loss, air_factor), ambient)
    (aa, ab), (ba, bb) = a.tolist()
    det = aa * bb - ab * ba
    if det <= 0 or aa + bb >= 0:
        return math.inf, math.inf
    p, q = drive.tolist()
    return (ab * q - bb * p) / det, (ba * p - aa * q) / det


def continuous_current(b: Bodies, limit: float, ambient: float, *, housing_loss: float = 0.0, air_factor: float = 1.0) -> float:
    """Return the current [A peak] that leads to ``limit`` [°C] in the end; 0 where the other losses alone do."""
    air = b.to_air * air_factor
    left = limit - ambient - air * housing_loss  # K for the copper
    if left <= 0:
        return 0.0
    watt = left / (b.to_housing + air)
    return math.sqrt(watt / b.copper(1.0, limit))


#: Logarithm of the growth at which a loss that runs away is followed no further.
_GROWN = 40.0


@dataclass(frozen=True)
class Course:
    """``time`` (n,) s, ``winding`` and ``housing`` (n,) °C."""

    time: FloatArray
    winding: FloatArray
    housing: FloatArray


class _Modes(NamedTuple):
    """A = λ1·P1 + λ2·P2 of a ladder, whose λ are real and apart; the projectors (2, 2)."""

    slow: float
    fast: float
    of_slow: FloatArray
    of_fast: FloatArray


def _modes(a: FloatArray) -> _Modes:
    half, spread = 0.5 * (a[0, 0] + a[1, 1]), math.sqrt(0.25 * (a[0, 0] - a[1, 1]) ** 2 + a[0, 1] * a[1, 0])
    slow, fast, unit = half + spread, half - spread, np.eye(2)
    return _Modes(float(slow), float(fast), (a - fast * unit) / (slow - fast), (a - slow * unit) / (fast - slow))


def _grown(rate: float, seconds: float) -> float:
    """Return (e^(λt) − 1)/λ."""
    return seconds if abs(rate * seconds) < 1e-12 else math.expm1(rate * seconds) / rate


def _exact(b: Bodies, s: Stretch, ambient: float, seconds: float) -> tuple[FloatArray, FloatArray]:
    """Return M (2, 2) and v (2,) of T(seconds) = M·T(0) + v, right for a loss that runs away too."""
    a, drive = _system(b, s, ambient)
    m = _modes(a)
    if m.slow > 0:  # beyond this no temperature means anything, and no figure holds it
        seconds = min(seconds, _GROWN / m.slow)
    moved = m.of_slow * math.exp(m.slow * seconds) + m.of_fast * math.exp(m.fast * seconds)
    return moved, (m.of_slow * _grown(m.slow, seconds) + m.of_fast * _grown(m.fast, seconds)) @ drive


#: No temperature is followed beyond it [°C]: copper melts at 1085.
MOST = 1e4


def follow(b: Bodies, stretches: Sequence[Stretch], ambient: float, start: tuple[float, float], points: int = 120) -> Course:
    """Return the course over the stretches, ``points`` of each, from winding and housing ``start`` [°C]."""
    now, t, times, temps = np.array(start, dtype=np.float64), 0.0, [0.0], [np.array(start, dtype=np.float64)]
    for s in stretches:
        if s.seconds <= 0:
            continue
        step, add = _exact(b, s, ambient, s.seconds / points)
        for k in range(points):
            now = np.minimum(step @ now + add, MOST)
            times.append(t + (k + 1) * s.seconds / points)
            temps.append(now)
        t += s.seconds
    table = np.array(temps)
    return Course(np.array(times), table[:, 0], table[:, 1])


def after(b: Bodies, s: Stretch, ambient: float, start: tuple[float, float]) -> tuple[float, float]:
    """Return winding and housing [°C] at the end of one stretch."""
    step, add = _exact(b, s, ambient, s.seconds)
    winding, housing = np.minimum(step @ np.array(start) + add, MOST)
    return float(winding), float(housing)


def settled_cycle(b: Bodies, stretches: Sequence[Stretch], ambient: float) -> tuple[float, float] | None:
    """Return winding and housing [°C] at the start of a cycle that repeats for ever: T = M·T + v; None where it heats up without end."""
    m, v = np.eye(2), np.zeros(2)
    for s in stretches:
        if s.seconds > 0:
            step, add = _exact(b, s, ambient, s.seconds)
            m, v = step @ m, step @ v + add
    if np.max(np.abs(np.linalg.eigvals(m))) >= 1 - 1e-12:
        return None
    winding, housing = np.linalg.solve(np.eye(2) - m, v)
    return float(winding), float(housing)


def hottest(b: Bodies, stretches: Sequence[Stretch], ambient: float) -> float:
    """Return the winding's highest temperature [°C] in a cycle that repeats for ever; infinite where it heats up without end."""
    start = settled_cycle(b, stretches, ambient)
    return math.inf if start is None else float(np.max(follow(b, stretches, ambient, start, points=60).winding))


def time_to(b: Bodies, limit: float, current: float, ambient: float, start: tuple[float, float], *, housing_loss: float = 0.0, air_factor: float = 1.0) -> float:
    """Return after how many seconds a current [A peak] brings the winding from ``start`` (winding, housing) to ``limit`` [°C]; 0 where it is there, infinite where it never gets there."""
    if start[0] >= limit:
        return 0.0
    if steady(b, current, ambient, housing_loss=housing_loss, air_factor=air_factor)[0] <= limit:
        return math.inf

    a, drive = _system(b, Stretch(1.0, current, housing_loss, air_factor), ambient)
    m, slope = _modes(a), a @ np.array(start) + drive
    slow, fast = float((m.of_slow @ slope)[0]), float((m.of_fast @ slope)[0])

    def short(seconds: float) -> float:
        seconds = min(seconds, _GROWN / m.slow) if m.slow > 0 else seconds
        return start[0] + slow * _grown(m.slow, seconds) + fast * _grown(m.fast, seconds) - limit

    low, high = 0.0, 1e-3 * b.winding_time
    while short(high) < 0:  # the winding only gets hotter on the way from below to a limit that it passes
        low, high = high, 2 * high
        if high > 1e9:
            return math.inf
    return float(scipy.optimize.brentq(short, low, high, xtol=1e-9 * high, rtol=1e-9))


def shortest_period(b: Bodies, limit: float, move: Sequence[Stretch], rest: Stretch, ambient: float) -> float:
    """Return how often a move may repeat: the shortest period [s], with the rest's losses between, that keeps the winding at the limit; infinite where even one move from cold is too much."""
    takes = sum(s.seconds for s in move)

    def over(pause: float) -> float:
        return hottest(b, [*move, rest._replace(seconds=pause)], ambient) - limit

    if over(0.0) <= 0:
        return takes
    longest = 50 * (b.winding_time + b.housing_time)
    if over(longest) > 0:
        return math.inf
    low, high = 0.0, longest
    for _ in range(60):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if over(middle) > 0 else (low, middle)
        if high - low < 1e-4 * (takes + high):
            break
    return takes + high
