"""Duties of the three legs over one electrical turn, by scheme.

Every scheme adds a common mode to the three wanted phase voltages; the machine does not see it (star point free).
Sources: D. G. Holmes, T. A. Lipo, Pulse Width Modulation for Power Converters, 2003, ch. 5–6; the clamped ones are its
discontinuous modulations.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from crisp_compass.estimates import FloatArray

Scheme = Literal["sine", "space-vector", "third-harmonic", "clamped-low", "clamped-high", "clamped-60", "six-step"]
SCHEMES: tuple[Scheme, ...] = (
    "sine", "space-vector", "third-harmonic", "clamped-low", "clamped-high", "clamped-60", "six-step",
)  # fmt: skip
#: Schemes that clamp one leg at a time and so spare a third of the switching.
CLAMPED: tuple[Scheme, ...] = ("clamped-low", "clamped-high", "clamped-60")
_SHIFTS = np.array([0.0, 2 * math.pi / 3, 4 * math.pi / 3])

#: Peak of the phase voltage's fundamental per volt of DC link: linear limits; six-step reaches 2/π of the link.
VOLTAGE_PER_BUS: dict[Scheme, float] = {
    "sine": 0.5,
    "six-step": 2 / math.pi,
    **dict.fromkeys(("space-vector", "third-harmonic", *CLAMPED), 1 / math.sqrt(3)),
}


def phase_voltages(phase_peak: float, theta: FloatArray) -> FloatArray:
    """Return the three wanted phase voltages (n, 3) [V] of a vector of ``phase_peak`` at ``theta`` (n,) [rad]."""
    return np.asarray(phase_peak * np.cos(np.asarray(theta)[:, None] - _SHIFTS))


def common_mode(scheme: Scheme, legs: FloatArray, v_bus: float, theta: FloatArray) -> FloatArray:
    """Return what the scheme adds to all three legs (n,) [V], for wanted ``legs`` (n, 3) about the link's middle."""
    high, low = legs.max(axis=1), legs.min(axis=1)
    if scheme == "space-vector":
        return np.asarray(-0.5 * (high + low))
    if scheme == "third-harmonic":
        peak = np.sqrt(2 / 3 * np.sum(legs**2, axis=1))
        return np.asarray(-peak / 6 * np.cos(3 * np.asarray(theta)))
    if scheme == "clamped-low":
        return np.asarray(-0.5 * v_bus - low)
    if scheme == "clamped-high":
        return np.asarray(0.5 * v_bus - high)
    if scheme == "clamped-60":
        return np.asarray(np.where(high + low > 0, 0.5 * v_bus - high, -0.5 * v_bus - low))
    return np.zeros(len(legs))


def duties(scheme: Scheme, phase_peak: float, v_bus: float, theta: FloatArray) -> FloatArray:
    """Return leg duties (n, 3) for a voltage vector of ``phase_peak`` [V] at angles ``theta`` (n,) [rad].

    ``space-vector`` adds −(max + min)/2 (equal to centred space-vector modulation); ``third-harmonic`` a sixth of the third
    harmonic; ``clamped-low``/``clamped-high`` hold the lowest/highest leg at its rail, ``clamped-60`` the leg that is
    largest in size; ``six-step`` switches each leg once per half turn. Duties beyond 0…1 are cut, as the modulator would.
    """
    legs = phase_voltages(phase_peak, theta)
    if scheme == "six-step":
        legs = np.where(legs >= 0, v_bus / 2, -v_bus / 2)
    else:
        legs = legs + common_mode(scheme, legs, v_bus, np.asarray(theta))[:, None]
    cut: FloatArray = np.clip(legs / v_bus + 0.5, 0.0, 1.0)
    return cut
