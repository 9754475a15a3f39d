"""Duties of the three legs over one electrical turn, by scheme."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.modulation.pwm import Scheme


def duties(scheme: Scheme, phase_peak: float, v_bus: float, theta: FloatArray) -> FloatArray:
    """Return leg duties (n, 3) for a voltage vector of ``phase_peak`` [V] at angles ``theta`` (n,) [rad].

    ``space-vector`` adds the common mode −(max + min)/2 (min-max injection, equal to centred space-vector modulation;
    D. G. Holmes, T. A. Lipo, 2003, ch. 6); ``third-harmonic`` adds one sixth of the third harmonic; ``six-step``
    switches each leg once per half turn. Duties beyond 0…1 are cut, as the modulator would.
    """
    shifts = np.array([0.0, 2 * math.pi / 3, 4 * math.pi / 3])
    legs = phase_peak * np.cos(np.asarray(theta)[:, None] - shifts)
    if scheme == "space-vector":
        legs = legs - 0.5 * (legs.max(axis=1) + legs.min(axis=1))[:, None]
    elif scheme == "third-harmonic":
        legs = legs - phase_peak / 6 * np.cos(3 * np.asarray(theta))[:, None]
    elif scheme == "six-step":
        legs = np.where(legs >= 0, v_bus / 2, -v_bus / 2)
    cut: FloatArray = np.clip(legs / v_bus + 0.5, 0.0, 1.0)
    return cut
