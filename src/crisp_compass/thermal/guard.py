"""An overload trip of a firmware, i²t, against the motor that it is to keep: does it trip in time, and with what does it?

The firmware counts ∫(i² − i_c²)dt, never below nothing, and trips at i²t. Its worst case is a motor that has run at i_c for hours and is then loaded with any current up to the limit: what the counter allows
from there on must not pass the winding's limit.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.thermal.model import Bodies, Stretch, after, steady, time_to

_POINTS = 48


@dataclass(frozen=True)
class Around:
    """What is around the motor: air [°C], losses into the housing [W] and the factor of R_h."""

    ambient: float
    housing_loss: float = 0.0
    air_factor: float = 1.0


def worst_at_trip(b: Bodies, around: Around, continuous: float, i2t: float, most: float) -> tuple[float, float]:
    """Return the hottest winding [°C] that the counter lets happen, and the current [A] that does it; ``most`` [A] is the current limit."""
    ambient, losses = around.ambient, (around.housing_loss, around.air_factor)
    warm = steady(b, continuous, ambient, housing_loss=losses[0], air_factor=losses[1])
    if not math.isfinite(warm[0]):
        return math.inf, continuous
    worst, by = warm[0], continuous
    if most <= continuous:
        return worst, by
    for current in np.linspace(continuous, most, _POINTS + 1)[1:]:
        seconds = min(i2t / (current**2 - continuous**2), 1e7)
        hot = after(b, Stretch(seconds, float(current), *losses), ambient, warm)[0]
        if hot > worst:
            worst, by = hot, float(current)
    return worst, by


def overload_for(b: Bodies, around: Around, limit: float, continuous: float, most: float) -> float | None:
    """Return the longest time [s] at the current limit ``most`` [A] whose counter keeps the winding below ``limit`` [°C] from warm; None where not even the continuous current does."""
    ambient, losses = around.ambient, {"housing_loss": around.housing_loss, "air_factor": around.air_factor}
    warm = steady(b, continuous, ambient, **losses)
    if warm[0] >= limit:
        return None
    allowed = math.inf
    for current in np.linspace(continuous, most, _POINTS + 1)[1:]:
        seconds = time_to(b, limit, float(current), ambient, start=warm, **losses)
        allowed = min(allowed, seconds * (current**2 - continuous**2))
    return allowed / (most**2 - continuous**2)


def trip_times(current: FloatArray, continuous: float, i2t: float) -> FloatArray:
    """Return after how many seconds the counter trips from nothing, (n,); infinite below the continuous current."""
    excess = np.maximum(current**2 - continuous**2, 0.0)
    with np.errstate(divide="ignore"):
        return np.where(excess > 0, i2t / np.where(excess > 0, excess, 1.0), math.inf)
