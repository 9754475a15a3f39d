"""Filters of the torque current between the speed loop and the current loop: a low-pass of first order, and a notch for a resonance.

Notch: H(s) = (s² + d·w·ω·s + ω²)/(s² + w·ω·s + ω²), ω = 2πf its frequency, w·f the width [Hz] between the points of −3 dB of a deep one, d what is left at f;
made for samples by the bilinear rule that keeps f (A. V. Oppenheim, R. W. Schafer, Discrete-Time Signal Processing, 3rd ed. 2010, 7.1.2).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.loops.sampled import Sampled, series


@dataclass(frozen=True)
class Notch:
    """``hz`` its frequency, ``width`` over that frequency, ``depth`` the share that is left there (0: nothing)."""

    hz: float
    width: float
    depth: float

    def lag(self, ts: float) -> float:
        """Return how late it makes what is far below its frequency [s]: w·(1 − d)/ω, the slope of its phase at rest, ω as the bilinear rule bends it."""
        return self.width * (1 - self.depth) * ts / (2 * math.tan(min(math.pi * self.hz * ts, 1.5)))

    def coefficients(self, ts: float) -> tuple[float, float, float, float, float]:
        """Return b0, b1, b2, a1, a2 of b0 + b1·z⁻¹ + b2·z⁻² over 1 + a1·z⁻¹ + a2·z⁻²; raises Refusal for a frequency above half the sampling rate."""
        if not self.hz < 0.45 / ts:
            raise Refusal(
                f"a notch at {self.hz:g} Hz cannot be sampled at {1 / ts:g} Hz", f"it must stay below {0.45 / ts:.3g} Hz: a faster speed loop, or none",
                where="--notch-hz", field="speed_loop.notch_hz",
            )  # fmt: skip
        k = math.tan(math.pi * self.hz * ts)
        over = 1 / (1 + self.width * k + k * k)
        middle = 2 * (k * k - 1) * over
        kept = self.depth * self.width * k
        return (1 + kept + k * k) * over, middle, (1 - kept + k * k) * over, middle, (1 - self.width * k + k * k) * over


@dataclass(frozen=True)
class TorqueFilters:
    """What the torque current passes: a low-pass with its corner [Hz] and a notch; either may be missing."""

    low_pass_hz: float | None = None
    notch: Notch | None = None

    @property
    def any(self) -> bool:
        """Whether there is one."""
        return self.low_pass_hz is not None or self.notch is not None

    def lag(self, ts: float) -> float:
        """Return their small lags together [s]."""
        return (1 / (2 * math.pi * self.low_pass_hz) if self.low_pass_hz else 0.0) + (self.notch.lag(ts) if self.notch else 0.0)

    def share(self, ts: float) -> float:
        """Return the share of the way that the low-pass goes in a step; 1 without one."""
        return 1 - math.exp(-2 * math.pi * self.low_pass_hz * ts) if self.low_pass_hz else 1.0

    def system(self, ts: float) -> Sampled | None:
        """Return both as a sampled system with one output, None where there is none."""
        made = None
        if self.low_pass_hz:
            share = self.share(ts)
            made = Sampled(np.array([[1 - share]]), np.array([[share]]), np.array([[1 - share]]), np.array([[share]]), ts=ts)
        if self.notch:
            b0, b1, b2, a1, a2 = self.notch.coefficients(ts)
            A = np.array([[-a1, 1.0], [-a2, 0.0]])
            B = np.array([[b1 - a1 * b0], [b2 - a2 * b0]])
            notch = Sampled(A, B, np.array([[1.0, 0.0]]), np.array([[b0]]), ts=ts)
            made = notch if made is None else series(made, notch)
        return made


#: Nothing between the loops.
NO_FILTERS = TorqueFilters()
