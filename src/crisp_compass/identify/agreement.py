"""Do several values of one constant agree?

Weighted mean, χ² test and Birge ratio (JCGM 100:2008, 4.3 and 5.1; R. T. Birge, Phys. Rev. 40, 1932, 207); a single
value that causes the disagreement is found by leaving each one out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.estimates import Estimate, Finding
from crisp_compass.identify.plate import likeliest_slip
from crisp_compass.quantities import show

_UNLIKELY = 0.01


@dataclass(frozen=True)
class Source:
    """One value of a constant: where it is from (``kind``: plate, meter, capture, drive, settled), value and u in SI.

    ``u_repeat`` is the part of u that a repeat with the same instruments shows; 0 where it is all of it.
    """

    name: str
    kind: str
    value: float
    u: float
    u_repeat: float = 0.0


@dataclass(frozen=True)
class Agreement:
    """Result of the test: weighted mean, probability of the scatter by chance, name of a value that stands apart."""

    mean: Estimate
    probability: float
    apart: str
    findings: tuple[Finding, ...]

    @property
    def agrees(self) -> bool:
        """Whether the values may well be one constant."""
        return self.probability >= _UNLIKELY


def combine(sources: Sequence[Source], unit: str) -> Agreement | None:
    """Test two or more independent sources; None with fewer. Sources without uncertainty count as known to 5 %."""
    if len(sources) < 2:
        return None
    values = np.array([s.value for s in sources])
    u = np.array([s.u if s.u > 0 else 0.05 * abs(s.value) for s in sources])
    mean, u_mean, chi2 = _mean(values, u)
    dof = len(values) - 1
    probability = float(scipy.special.chdtrc(dof, chi2))
    birge = math.sqrt(max(chi2 / dof, 1.0))
    estimate = Estimate.from_u(mean, unit, u_mean * birge)
    if probability >= _UNLIKELY:
        text = f"{len(sources)} sources agree (chance of this scatter {100 * probability:.0f} %); together {show(mean, unit, 4)}."
        return Agreement(estimate, probability, "", (Finding("info", "sources-agree", text),))
    apart = _outlier(sources, values, u)
    if apart is None:
        text = f"The {len(sources)} sources do not agree: they scatter {birge:.1f} times as much as their error bars allow."
        return Agreement(estimate, probability, "", (Finding("caution", "sources-disagree", text),))
    others = np.arange(len(values)) != apart
    rest = _mean(values[others], u[others])[0]
    ratio = values[apart] / rest
    slip = likeliest_slip(float(ratio), 0.05, unit)
    hint = f" That is about {slip}." if slip else ""
    text = f"{sources[apart].name} stands apart: {show(float(values[apart]), unit)} against {show(rest, unit)}, a factor of {ratio:.3g}.{hint}"
    return Agreement(estimate, probability, sources[apart].name, (Finding("caution", "source-apart", text),))


def combine_kinds(sources: Sequence[Source], unit: str) -> Agreement | None:
    """Test repeats against each other by what repeats show, then their mean against sources of other kinds by the whole u.

    What the instruments share moves all repeats alike: it must neither hide that they scatter nor set them apart from a meter.
    """
    captures = [s for s in sources if s.kind == "capture"]
    others = [s for s in sources if s.kind != "capture"]
    if len(captures) < 2:
        return combine(sources, unit)
    alone = [Source(s.name, s.kind, s.value, s.u_repeat or s.u) for s in captures]
    repeats = combine(alone, unit)
    assert repeats is not None
    shared = max(math.sqrt(max(s.u**2 - (s.u_repeat or s.u) ** 2, 0.0)) for s in captures)
    mean = repeats.mean.widened(shared)
    if not repeats.agrees or not others:
        return Agreement(mean, repeats.probability, repeats.apart, repeats.findings)
    name = f"mean of {len(captures)} captures"
    return combine([Source(name, "capture", mean.value, mean.u), *others], unit)


def _mean(values: np.ndarray, u: np.ndarray) -> tuple[float, float, float]:
    weight = 1 / u**2
    mean = float(np.sum(weight * values) / np.sum(weight))
    return mean, float(1 / math.sqrt(np.sum(weight))), float(np.sum(weight * (values - mean) ** 2))


def _outlier(sources: Sequence[Source], values: np.ndarray, u: np.ndarray) -> int | None:
    """Return the one source without which the rest agree; of two sources the less exact one."""
    if len(sources) == 2:
        return int(np.argmax(u / np.abs(values)))
    chances = []
    for k in range(len(values)):
        keep = np.arange(len(values)) != k
        chances.append(float(scipy.special.chdtrc(len(values) - 2, _mean(values[keep], u[keep])[2])))
    best = int(np.argmax(chances))
    return best if chances[best] >= _UNLIKELY else None


def auto_tune_did_not_run(before: float | None, after: float | None, what: str, unit: str) -> list[Finding]:
    """Flag a auto_tune value that equals what the drive held before it."""
    if before is None or after is None or not math.isclose(before, after, rel_tol=1e-6):
        return []
    text = f"The drive's {what} is {show(after, unit)} after the auto-tune, exactly what it held before: the auto-tune did not run. Run it again, and compare two runs."
    return [Finding("stop", "auto-tune-did-not-run", text)]


def heated(cold: float, hot: float, cold_c: float, k: float = 235.0) -> float:
    """Return the winding temperature [°C] at which a copper resistance has grown from ``cold`` at ``cold_c`` to ``hot``."""
    return hot / cold * (k + cold_c) - k
