"""Rotor position at standstill from short voltage pulses all round: the axis by saliency, the polarity by saturation.

A pulse of V volts for T seconds (short against L/R) along the electrical angle α drives, along itself,

    i(α) = V·T·[ (1/Ld + 1/Lq)/2 + (1/Ld − 1/Lq)/2 · cos 2(α − θ) ] + a1·cos(α − θ) + a3·cos 3(α − θ)

(two-axis theory; the odd harmonics because iron that the magnet saturates takes more current towards the north pole).
Harmonics 0 to 3 are fitted by least squares; the second one's phase is the axis, the sign of the first along it the
pole. A first harmonic *across* the axis is no saturation: it is an offset of the current channels, and is said.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray

_LEAST = 9
_CERTAIN = 0.9999


@dataclass(frozen=True)
class PoleSearch:
    """What the pulses tell, angles in rad.

    ``axis`` θe of the rotor's flux but for its sign, 0 … π, with ``u``; None without saliency. ``theta`` the whole
    angle, None where the polarity is not certain. ``chance`` that the polarity is right, 0.5 … 1. ``saliency`` is
    (Lq − Ld)/mean, ``saturation`` the difference of the current towards and against the pole over its mean. ``angle``,
    ``current`` (n,); ``harmonics`` (7,) A: mean, then cosine and sine of the first three.
    """

    axis: float | None
    u: float
    theta: float | None
    chance: float
    saliency: float
    saturation: float
    angle: FloatArray
    current: FloatArray
    harmonics: FloatArray
    method: str
    findings: tuple[Finding, ...]

    def line(self) -> tuple[FloatArray, FloatArray]:
        """Return direction [°] 0 … 360 and fitted current [A], for a plot."""
        degrees = np.linspace(0, 360, 181)
        return degrees, _design(np.radians(degrees)) @ self.harmonics


def search_pole(capture: Capture) -> PoleSearch:
    """Evaluate a table of ``field_angle`` [rad] and ``i_peak`` [A], one row a pulse, all with the same volts and time.

    Raises
    ------
    Refusal
        Fewer than 9 pulses, directions that leave a gap of more than 60°, currents that are not all positive.
    """
    alpha, current = capture["field_angle"], capture["i_peak"]
    source = capture.source
    if len(alpha) < _LEAST:
        raise Refusal(f"{len(alpha)} pulses are too few", f"{_LEAST} or more all round are needed", where=source)
    gap = _widest_gap(alpha)
    if gap > math.radians(61):
        raise Refusal(
            f"the pulses leave {math.degrees(gap):.0f}° without a direction",
            "spread them evenly all round",
            where=source,
        )
    if not (current > 0).all():
        row = int(np.argmin(current)) + 1
        raise Refusal(
            f"pulse {row} shows {current[row - 1]:g} A along its own direction",
            "take the current along the pulse; a pulse cannot drive it backwards",
            where=source,
        )
    design = _design(alpha)
    solution, *_ = np.linalg.lstsq(design, current, rcond=None)
    dof = len(alpha) - design.shape[1]
    variance = float(np.sum((current - design @ solution) ** 2)) / dof
    covariance = variance * np.linalg.inv(design.T @ design)
    return _read(alpha, current, np.asarray(solution, dtype=np.float64), covariance, dof, list(capture.findings))


def _design(alpha: FloatArray) -> FloatArray:
    """Return the harmonics 0 to 3 at ``alpha`` (n,) as columns, (n, 7)."""
    return np.asarray(
        np.column_stack([np.ones(len(alpha)), *(f(k * alpha) for k in (1, 2, 3) for f in (np.cos, np.sin))]),
        dtype=np.float64,
    )


def _read(
    alpha: FloatArray, current: FloatArray, solution: FloatArray, covariance: FloatArray, dof: int, findings: list[Finding]
) -> PoleSearch:  # fmt: skip
    mean = float(solution[0])
    second = complex(solution[3], solution[4])
    # squared length freed of the noise's share, so that noise does not feign saliency
    noise = float(covariance[3, 3] + covariance[4, 4])
    size = math.sqrt(max(abs(second) ** 2 - noise, 0.0))
    method = f"{len(alpha)} pulses, harmonics 0 to 3 by least squares"
    f_value = abs(second) ** 2 / noise
    seen = f_value > float(scipy.stats.f.ppf(0.9999, 2, dof))
    axis = (0.5 * math.atan2(second.imag, second.real)) % math.pi
    across = np.array([-math.sin(2 * axis), math.cos(2 * axis)])
    u = math.sqrt(float(across @ covariance[3:5, 3:5] @ across)) / (2 * max(abs(second), 1e-300))
    # i2/i0 = (1/Ld − 1/Lq)/(1/Ld + 1/Lq) = (Lq − Ld)/(Lq + Ld), which is half of (Lq − Ld)/mean
    saliency = 2 * size / mean
    if not seen:
        text = f"No saliency shows: the current varies by {100 * abs(second) / mean:.1f} % with the direction, as the noise alone would do. The axis cannot be told this way; align with a DC current instead."
        findings.append(Finding("stop", "no-saliency", text))
        return PoleSearch(None, math.pi, None, 0.5, saliency, 0.0, alpha, current, solution, method, tuple(findings))
    if u > math.radians(1.5):
        text = f"The axis is known to ±{math.degrees(2 * u):.1f}° only: take more pulses, or larger ones."
        findings.append(Finding("caution", "axis-wide", text))
    along, cross, u_along, u_cross = _first(solution, covariance, axis)
    chance = float(scipy.stats.t.cdf(abs(along) / u_along, dof))
    if abs(cross) > max(4 * u_cross, 0.35 * abs(along)):
        text = "The current differs between opposite directions across the axis too: the current channels have an offset; take off what they read before each pulse."
        findings.append(Finding("caution", "current-offset", text))
        # an offset as large along the axis would turn the pole round
        chance = min(chance, float(scipy.stats.t.cdf((abs(along) - abs(cross)) / u_along, dof)))
    theta = None
    if chance >= _CERTAIN:
        theta = axis if along > 0 else axis + math.pi
    else:
        text = f"The polarity is not certain ({100 * max(chance, 0.5):.0f} %): the iron does not saturate enough at this current. Take longer pulses along the axis, or nudge the shaft and check the sign."
        findings.append(Finding("stop", "no-saturation", text))
    return PoleSearch(
        axis, u, theta, max(chance, 0.5), saliency, 2 * abs(along) / mean, alpha, current, solution, method, tuple(findings)
    )  # fmt: skip


def _first(solution: FloatArray, covariance: FloatArray, axis: float) -> tuple[float, float, float, float]:
    """Return the first harmonic along and across the axis with their standard uncertainties, A."""
    ahead, aside = np.array([math.cos(axis), math.sin(axis)]), np.array([-math.sin(axis), math.cos(axis)])
    part, block = solution[1:3], covariance[1:3, 1:3]
    return (
        float(ahead @ part),
        float(aside @ part),
        math.sqrt(float(ahead @ block @ ahead)),
        math.sqrt(float(aside @ block @ aside)),
    )


def _widest_gap(alpha: FloatArray) -> float:
    """Return the widest angle between neighbouring directions, rad."""
    ordered = np.sort(alpha % (2 * math.pi))
    return float(np.max(np.diff(np.append(ordered, ordered[0] + 2 * math.pi))))
