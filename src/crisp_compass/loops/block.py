"""Torque of block commutation and of sinusoidal currents on one and the same back-EMF, by arithmetic.

e_a = −ω·ψ·(sin θ + h5·sin 5θ + h7·sin 7θ); a zero sequence (third harmonic) makes no torque in a star. Ideal currents: I through the
two phases whose vector stands within ±30° of 90° ahead of the rotor, or a sine of peak I in phase with the fundamental.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.estimates import FloatArray

_ANGLE: FloatArray = (np.arange(1440) + 0.5) * 2 * math.pi / 1440


@dataclass(frozen=True)
class Waveform:
    """Fundamental flux linkage ``psi`` [Wb, phase peak] and the ratios ``h5``, ``h7``."""

    psi: float
    h5: float = 0.0
    h7: float = 0.0

    def per_speed(self, theta: FloatArray) -> FloatArray:
        """Return e/ω of phase A [V·s] at electrical angles (n,) [rad]."""
        return -self.psi * (np.sin(theta) + self.h5 * np.sin(5 * theta) + self.h7 * np.sin(7 * theta))


def with_signs(psi: float, h5: float, h7: float, crest: float) -> Waveform:
    """Return the waveform whose harmonics have these sizes, with the signs that come nearest to ``crest``, the peak between two
    terminals over that of its fundamental."""

    def line_crest(wave: Waveform) -> float:
        line = wave.per_speed(_ANGLE) - wave.per_speed(_ANGLE - 2 * math.pi / 3)
        return float(np.max(line)) / (math.sqrt(3) * psi)

    trials = [Waveform(psi, a * h5, b * h7) for a in (1, -1) for b in (-1, 1)]
    return min(trials, key=lambda w: abs(line_crest(w) - crest))


@dataclass(frozen=True)
class TorqueOverAngle:
    """Torque per ampere (n,) [N·m/A] over ``angle`` (n,) [rad]; ``mean`` and ``ripple``, peak to peak over the mean."""

    angle: FloatArray
    torque: FloatArray

    @property
    def mean(self) -> float:
        """Mean torque per ampere, N·m/A."""
        return float(np.mean(self.torque))

    @property
    def ripple(self) -> float:
        """Peak to peak over the mean."""
        return float(np.ptp(self.torque)) / self.mean


def block_torque(wave: Waveform, pole_pairs: int, ahead: float = 0.0) -> TorqueOverAngle:
    """Return the torque of one ampere through two phases, switched ``ahead`` [rad] of the best angle."""
    step = np.floor((_ANGLE + ahead + math.pi / 6) / (math.pi / 3)) + 1
    vector = step * math.pi / 3 + math.pi / 6
    total = np.zeros(len(_ANGLE))
    for k in range(3):
        shift = 2 * math.pi * k / 3
        # +1 where the phase lies within 60° of the vector, −1 opposite, 0 across it
        current = np.round(np.cos(vector - shift) * 2 / math.sqrt(3))
        total += wave.per_speed(_ANGLE - shift) * current
    return TorqueOverAngle(_ANGLE, pole_pairs * total)


def sine_torque(wave: Waveform, pole_pairs: int) -> TorqueOverAngle:
    """Return the torque of sinusoidal currents of one ampere peak in phase with the fundamental."""
    total = np.zeros(len(_ANGLE))
    for k in range(3):
        shift = 2 * math.pi * k / 3
        total += wave.per_speed(_ANGLE - shift) * -np.sin(_ANGLE - shift)
    return TorqueOverAngle(_ANGLE, pole_pairs * total)
