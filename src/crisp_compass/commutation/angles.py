"""Angles on the circle."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.estimates import FloatArray


def wrap(angle: FloatArray) -> FloatArray:
    """Bring angles (n,) rad into −π ≤ x < π."""
    return np.asarray((np.asarray(angle) + math.pi) % (2 * math.pi) - math.pi)


def circular_mean(angle: FloatArray) -> float:
    """Return the direction of the mean unit vector of angles (n,), rad, −π … π."""
    return float(np.angle(np.mean(np.exp(1j * np.asarray(angle)))))
