"""Torque over speed within current and voltage limit: torque per ampere, base speed, field weakening, characteristic current.

Steady state: v_d = R·i_d − ω_e·Lq·i_q, v_q = R·i_q + ω_e·(Ld·i_d + ψ), T = 3/2·p·(ψ + (Ld − Lq)·i_d)·i_q with i_d² + i_q² ≤ I²,
v_d² + v_q² ≤ V² (S. Morimoto et al., IEEE Trans. Ind. Appl. 26, 1990: trajectories of torque per ampere, constant current
along the voltage ellipse, torque per volt). Per speed the best torque is searched along i_d, where i_q's bound follows in
closed form from both limits; resistance is kept.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

_GRID = 1201


@dataclass(frozen=True)
class Limits:
    """Winding and limits: Ω, H, H, Wb, pole pairs, V phase peak, A phase peak; torque is ``torque_factor``·p·(…)."""

    r: float
    ld: float
    lq: float
    psi: float
    pole_pairs: float
    v_limit: float
    i_limit: float
    torque_factor: float = 1.5


@dataclass(frozen=True)
class TorqueSpeed:
    """``speed`` (n,) rad/s mechanical, best ``torque`` (n,) N·m, its ``i_d``, ``i_q`` (n,) A; NaN where nothing is possible.

    ``no_weakening_torque`` (n,) torque with i_d = 0; ``base`` speed [rad/s] up to which full torque is there, ``top`` the speed at which none is
    left (infinite where the characteristic current is within the limit and R is neglected); ``characteristic`` ψ/Ld [A];
    ``mtpa_d`` and ``mtpa_q`` [A] at the current limit.
    """

    speed: FloatArray
    torque: FloatArray
    i_d: FloatArray
    i_q: FloatArray
    no_weakening_torque: FloatArray
    base: float
    no_weakening: float
    top: float
    characteristic: float
    mtpa_d: float
    mtpa_q: float


def torque_per_ampere(limits: Limits, current: float) -> tuple[float, float]:
    """Return i_d and i_q [A] of most torque for ``current`` [A]: i_d = (ψ − √(ψ² + 8·(Lq − Ld)²·I²))/(4·(Lq − Ld))."""
    swing = limits.lq - limits.ld
    if abs(swing) < 1e-6 * limits.lq:
        return 0.0, current
    i_d = (limits.psi - math.sqrt(limits.psi**2 + 8 * swing**2 * current**2)) / (4 * swing)
    return i_d, math.sqrt(max(current**2 - i_d**2, 0.0))


def torque_at(limits: Limits, i_d: FloatArray, i_q: FloatArray) -> FloatArray:
    """Return the torque [N·m] of currents (n,) [A]."""
    return np.asarray(limits.torque_factor * limits.pole_pairs * (limits.psi + (limits.ld - limits.lq) * i_d) * i_q)


def voltage_at(limits: Limits, speed: float, i_d: float, i_q: float) -> float:
    """Return the phase voltage's peak [V] that currents [A] need at ``speed`` [rad/s]."""
    we = limits.pole_pairs * speed
    return math.hypot(limits.r * i_d - we * limits.lq * i_q, limits.r * i_q + we * (limits.ld * i_d + limits.psi))


def best_point(limits: Limits, speed: float) -> tuple[float, float, float]:
    """Return most torque [N·m] and its i_d, i_q [A] at ``speed`` [rad/s]; NaN where even no torque is out of reach."""
    we = limits.pole_pairs * speed
    wide = (
        np.linspace(-limits.i_limit, 0.0, _GRID)
        if limits.lq >= limits.ld
        else np.linspace(-limits.i_limit, limits.i_limit, 2 * _GRID)
    )
    for _ in range(3):
        i_q = np.minimum(np.sqrt(np.maximum(limits.i_limit**2 - wide**2, 0.0)), _most_q(limits, we, wide))
        torque = np.where(np.isfinite(i_q) & (i_q >= 0), torque_at(limits, wide, i_q), -np.inf)
        k = int(np.argmax(torque))
        if not math.isfinite(torque[k]):
            return math.nan, math.nan, math.nan
        found = float(torque[k]), float(wide[k]), float(i_q[k])
        step = wide[1] - wide[0]
        wide = np.clip(np.linspace(wide[k] - step, wide[k] + step, 61), -limits.i_limit, limits.i_limit)
    return found


def _most_q(limits: Limits, we: float, i_d: FloatArray) -> FloatArray:
    """Return the largest i_q (n,) within the voltage limit at each i_d; −∞ where none is."""
    r, v = limits.r, limits.v_limit
    across = we * limits.lq
    along = we * (limits.ld * i_d + limits.psi)
    # (R·i_d − across·i_q)² + (R·i_q + along)² = V² in i_q
    a = across**2 + r**2
    b = 2 * (r * along - r * i_d * across)
    c = (r * i_d) ** 2 + along**2 - v**2
    root = b * b - 4 * a * c
    return np.asarray(np.where(root >= 0, (-b + np.sqrt(np.maximum(root, 0.0))) / (2 * a), -np.inf))


def torque_speed(limits: Limits, *, points: int = 120) -> TorqueSpeed:
    """Return the torque–speed curve with field weakening, up to where no torque is left or three times the unweakened end.

    Raises Refusal for figures that are not above zero.
    """
    for name, value in (
        ("resistance", limits.r), ("inductance", min(limits.ld, limits.lq)), ("flux", limits.psi), ("voltage limit", limits.v_limit),
        ("current limit", limits.i_limit),
    ):  # fmt: skip
        if not (value > 0 and math.isfinite(value)):
            raise Refusal(f"the {name} is {value:g}", "a value above zero is needed")
    mtpa = torque_per_ampere(limits, limits.i_limit)
    full = float(torque_at(limits, np.array(mtpa[0]), np.array(mtpa[1])))
    base = _edge(lambda w: voltage_at(limits, w, *mtpa) <= limits.v_limit, limits)
    no_weakening = _edge(lambda w: float(_plain(limits, np.array([w]))[0]) > 0, limits)
    top = _edge(lambda w: best_point(limits, w)[0] > 1e-3 * full, limits)
    end = min(top if math.isfinite(top) else math.inf, 3 * max(no_weakening, base))
    speed = np.linspace(0.0, end, points)
    found = np.array([best_point(limits, float(w)) for w in speed])
    return TorqueSpeed(
        speed, found[:, 0], found[:, 1], found[:, 2], _plain(limits, speed), base, no_weakening, top, limits.psi / limits.ld, *mtpa
    )  # fmt: skip


def _plain(limits: Limits, speed: FloatArray) -> FloatArray:
    """Return the torque (n,) without weakening (i_d = 0), nought where the voltage does not reach."""
    out = []
    for w in speed:
        q = float(_most_q(limits, limits.pole_pairs * float(w), np.array([0.0]))[0])
        out.append(float(torque_at(limits, np.array(0.0), np.array(min(max(q, 0.0), limits.i_limit)))))
    return np.array(out)


def _edge(holds: Callable[[float], bool], limits: Limits) -> float:
    """Return the highest speed [rad/s] at which ``holds`` is still true, by doubling and halving; infinite beyond a hundredfold."""
    low, high = 0.0, limits.v_limit / (limits.pole_pairs * limits.psi)
    start = high
    while holds(high):
        low, high = high, 2 * high
        if high > 100 * start:
            return math.inf
    for _ in range(50):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if holds(middle) else (low, middle)
    return low
