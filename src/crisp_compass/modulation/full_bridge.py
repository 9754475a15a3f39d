"""A winding between two legs of its own: duties and ripple with slow and with fast decay.

Slow decay: one leg switches, the other rests at a rail, so the winding sees V or nothing; per period of f a resistance-free winding
ripples by ΔI = Vdc·d·(1 − d)/(f·L), d = |v|/Vdc. Fast decay: both legs switch against each other, the winding sees ±V, and
ΔI = Vdc·(1 − d²)/(2·f·L): the most, Vdc/(2·f·L), at no voltage at all, where slow decay has none. A dead leg loses against its
current: one leg with slow decay, two with fast.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from crisp_compass.estimates import FloatArray

Decay = Literal["slow", "fast"]
#: Legs of a winding that switch in a period.
SWITCHING: dict[Decay, int] = {"slow": 1, "fast": 2}


def leg_duties(volts: ArrayLike, v_bus: float, decay: Decay) -> FloatArray:
    """Return the duties (n, 2) of a winding's two legs for voltages ``volts`` (n,) [V], |v| ≤ Vdc."""
    share = np.clip(np.asarray(volts, dtype=np.float64) / v_bus, -1, 1)
    if decay == "fast":
        return np.column_stack([0.5 * (1 + share), 0.5 * (1 - share)])
    return np.column_stack([np.maximum(share, 0), np.maximum(-share, 0)])


def winding_ripple(volts: ArrayLike, v_bus: float, inductance: float, carrier_hz: float, decay: Decay) -> FloatArray:
    """Return the ripple (n,) [A peak to peak] of the current at winding voltages ``volts`` (n,) [V]."""
    share = np.clip(np.abs(np.asarray(volts, dtype=np.float64)) / v_bus, 0, 1)
    full = v_bus / (carrier_hz * inductance)
    return np.asarray(full * (share * (1 - share) if decay == "slow" else 0.5 * (1 - share**2)))


def lost_voltage(lost: float, decay: Decay) -> tuple[float, float]:
    """Return what a leg loss ``lost`` [V] takes from a winding [V]: of a held voltage, and of the fundamental along its current."""
    held = SWITCHING[decay] * lost
    return held, 4 / math.pi * held
