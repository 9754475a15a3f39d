"""What an estimator returns: value, standard uncertainty, interval, and findings.

Uncertainty is meant as in JCGM 100:2008: ``u`` is the standard uncertainty (k = 1) and the interval holds
the truth with a probability of 95 %.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal, TypeAlias

import numpy as np
import numpy.typing as npt

FloatArray: TypeAlias = npt.NDArray[np.float64]
BoolArray: TypeAlias = npt.NDArray[np.bool_]
ComplexArray: TypeAlias = npt.NDArray[np.complex128]
IntArray: TypeAlias = npt.NDArray[np.int64]
Level = Literal["info", "caution", "stop"]


@dataclass(frozen=True)
class Finding:
    """Something a reader of the result must know.

    ``level`` is ``info``, ``caution`` or ``stop``; ``code`` is kebab-case; ``text`` one plain sentence.
    """

    level: Level
    code: str
    text: str

    def as_dict(self) -> dict[str, str]:
        """Return the JSON form."""
        return {"level": self.level, "code": self.code, "text": self.text}


@dataclass(frozen=True)
class Estimate:
    """One estimated quantity in SI units.

    ``u`` is the standard uncertainty, ``low`` and ``high`` bound the 95 % interval; all in ``unit``.
    """

    value: float
    unit: str
    u: float
    low: float
    high: float

    @classmethod
    def from_u(cls, value: float, unit: str, u: float, *, dof: float = math.inf) -> Estimate:
        """Build an estimate with a symmetric interval.

        ``dof`` is the number of degrees of freedom behind ``u``; the coverage factor is Student's t
        (JCGM 100:2008, G.3), capped at 13 so that one degree of freedom still prints a usable number.
        """
        k = coverage_factor(dof)
        return cls(float(value), unit, float(u), float(value - k * u), float(value + k * u))

    def scaled(self, factor: float, unit: str | None = None) -> Estimate:
        """Multiply by an exact positive factor."""
        return Estimate(
            self.value * factor, unit or self.unit, self.u * factor, self.low * factor, high=self.high * factor
        )

    def widened(self, u: float) -> Estimate:
        """Add an independent standard uncertainty ``u`` (same unit) that is normally distributed."""
        if u <= 0:
            return self
        total = math.hypot(self.u, u)
        half = math.hypot(0.5 * (self.high - self.low), 1.959964 * u)
        middle = 0.5 * (self.high + self.low)
        return Estimate(self.value, self.unit, total, middle - half, high=middle + half)

    def as_dict(self) -> dict[str, object]:
        """Return the JSON form of the fixed contract."""
        return {"value": self.value, "unit": self.unit, "u": self.u, "interval95": [self.low, self.high]}


def coverage_factor(dof: float) -> float:
    """Return the two-sided 95 % coverage factor for ``dof`` degrees of freedom."""
    if not math.isfinite(dof) or dof > 1e5:
        return 1.959964
    import scipy  # a second to load, and few results need it

    return min(float(scipy.special.stdtrit(max(dof, 1.0), 0.975)), 13.0)


@dataclass(frozen=True)
class Result:
    """What every identification returns at least: named estimates, the method in words, findings."""

    estimates: dict[str, Estimate]
    method: str
    findings: tuple[Finding, ...]

    @property
    def stopped(self) -> bool:
        """Whether a finding of level stop stands."""
        return any(finding.level == "stop" for finding in self.findings)
