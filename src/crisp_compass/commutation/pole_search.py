"""Rotor position at standstill from short voltage pulses all round: the axis by saliency, the polarity by saturation.

A pulse of V volts for T seconds (short against L/R) along the electrical angle α drives, along itself,

    i(α) = V·T·[ (1/Ld + 1/Lq)/2 + (1/Ld − 1/Lq)/2 · cos 2(α − θ) ] + a1·cos(α − θ) + a3·cos 3(α − θ)

(two-axis theory; the odd harmonics because iron that the magnet saturates takes more current towards the north pole, and the
excess grows with the square of the d current: a3 = a1/3). Harmonics 0 to 3 are fitted by least squares; the second one's phase is
the axis, where one says which inductance is the larger. An offset of the current channels is a first harmonic too, and never a
third: it has a prior of its own in the polarity, wider where a first harmonic across the axis shows it, unless what the
channels read before each pulse is in the table (``i_rest``) and taken off.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy

from crisp_compass.capture.gaps import without_gaps
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


Larger = Literal["lq", "ld"]
#: Standard deviation of a current channel's offset over the pulse, where the table holds no reading before it (common practice).
_OFFSET = 0.0075


@without_gaps
def search_pole(capture: Capture, *, larger: Larger = "lq") -> PoleSearch:
    """Evaluate a table of ``field_angle`` [rad] and ``i_peak`` [A], perhaps ``i_rest`` [A], one row a pulse, all with the same volts and time.

    ``larger`` says which axis has the larger inductance: magnets inside the rotor mean Lq, some surface and flux-guided ones Ld.

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
    rested = "i_rest" in capture
    if rested:
        current = current - capture["i_rest"]
    design = _design(alpha)
    solution, *_ = np.linalg.lstsq(design, current, rcond=None)
    dof = len(alpha) - design.shape[1]
    variance = float(np.sum((current - design @ solution) ** 2)) / dof
    covariance = variance * np.linalg.inv(design.T @ design)
    offset = 0.0 if rested else _OFFSET * float(solution[0])
    return _read(
        alpha,
        current,
        np.asarray(solution, dtype=np.float64),
        covariance,
        dof=dof,
        offset=offset,
        larger=larger,
        findings=list(capture.findings),
    )


def _design(alpha: FloatArray) -> FloatArray:
    """Return the harmonics 0 to 3 at ``alpha`` (n,) as columns, (n, 7)."""
    return np.asarray(
        np.column_stack([np.ones(len(alpha)), *(f(k * alpha) for k in (1, 2, 3) for f in (np.cos, np.sin))]),
        dtype=np.float64,
    )


def _read(
    alpha: FloatArray, current: FloatArray, solution: FloatArray, covariance: FloatArray, dof: int, offset: float, larger: Larger,
    findings: list[Finding],
) -> PoleSearch:  # fmt: skip
    mean = float(solution[0])
    second = complex(solution[3], solution[4])
    # squared length freed of the noise's share, so that noise does not feign saliency
    noise = float(covariance[3, 3] + covariance[4, 4])
    size = math.sqrt(max(abs(second) ** 2 - noise, 0.0))
    method = f"{len(alpha)} pulses, harmonics 0 to 3 by least squares{', readings before each subtracted' if offset == 0 else ''}"
    f_value = abs(second) ** 2 / noise
    seen = f_value > float(scipy.special.fdtri(2, dof, 0.9999))
    axis = (0.5 * math.atan2(second.imag, second.real) + (0.5 * math.pi if larger == "ld" else 0.0)) % math.pi
    across = np.array([-math.sin(2 * axis), math.cos(2 * axis)])
    u = math.sqrt(float(across @ covariance[3:5, 3:5] @ across)) / (2 * max(abs(second), 1e-300))
    # i2/i0 = (1/Ld − 1/Lq)/(1/Ld + 1/Lq) = (Lq − Ld)/(Lq + Ld), which is half of (Lq − Ld)/mean
    saliency = 2 * size / mean * (-1 if larger == "ld" else 1)
    if not seen:
        return _by_first(alpha, current, solution, covariance, dof=dof, offset=offset, saliency=saliency, method=method, findings=findings)
    which = (
        "Lq is taken to be larger than Ld, as with magnets inside the rotor"
        if larger == "lq"
        else "Ld is taken to be larger than Lq"
    )
    findings.append(
        Finding("info", "axis-assumed", f"{which}; were it the other way round, the axis would lie 90° off.")
    )
    if u > math.radians(1.5):
        text = f"The axis is known to ±{math.degrees(2 * u):.1f}° only: take more pulses, or larger ones."
        findings.append(Finding("caution", "axis-wide", text))
    along, cross, u_along, u_cross = _first(solution, covariance, axis)
    if abs(cross) > max(4 * u_cross, 0.35 * abs(along)):
        why = (
            "the current channels have an offset (read them before each pulse, column i_rest), or the other inductance is the larger"
            if offset > 0
            else "the other inductance is the larger, or the shaft moved"
        )
        text = f"The current differs between opposite directions across the axis too: {why}."
        findings.append(Finding("caution", "current-offset", text))
    chance, sign, reach = _polarity(
        solution, covariance, axis, along, u_along=u_along, offset=math.hypot(offset, 0.0 if offset == 0 else cross), dof=dof
    )
    theta = None
    if chance >= _CERTAIN:
        theta = axis if sign > 0 else axis + math.pi
    else:
        text = f"The polarity is not certain ({100 * max(chance, 0.5):.0f} %): the iron does not saturate enough at this current, or an offset of the current channels could feign it. Read the channels before each pulse, take longer pulses along the axis, or nudge the shaft and check the sign."
        findings.append(Finding("stop", "no-saturation", text))
    return PoleSearch(
        axis, u, theta, max(chance, 0.5), saliency=saliency, saturation=2 * reach / mean, angle=alpha, current=current, harmonics=solution, method=method, findings=tuple(findings)
    )  # fmt: skip


def _polarity(
    solution: FloatArray, covariance: FloatArray, axis: float, along: float, u_along: float, offset: float, dof: int
) -> tuple[float, float, float]:
    """Return the chance of the likelier polarity, its sign along the axis, and the size of the excess [A].

    First and third harmonic estimate one excess k: a1 = k + offset, a3 = k/3; an offset makes no third harmonic.
    """
    ahead = np.array([math.cos(3 * axis), math.sin(3 * axis)])
    third = float(ahead @ solution[5:7])
    u_third = math.sqrt(float(ahead @ covariance[5:7, 5:7] @ ahead))
    weight = np.array([1 / (u_along**2 + offset**2), 1 / (9 * u_third**2)])
    k = float((weight @ np.array([along, 3 * third])) / weight.sum())
    chance = float(scipy.special.stdtr(dof, abs(k) * math.sqrt(float(weight.sum()))))
    if offset > 0 and math.copysign(third, k * third) < 2 * u_third:
        chance = min(chance, 0.99)  # a first harmonic alone may be an offset larger than its prior
    if offset == 0 and along * third < 0 and abs(third) > 3 * u_third:
        chance = 0.5  # both are sure and contradict each other: the iron is another than this model's
    return chance, math.copysign(1.0, k), abs(k)


def _by_first(
    alpha: FloatArray, current: FloatArray, solution: FloatArray, covariance: FloatArray, dof: int, offset: float, saliency: float, method: str,
    findings: list[Finding],
) -> PoleSearch:  # fmt: skip
    """Take the whole angle from the odd harmonics of a machine without saliency, where an offset cannot feign it."""
    offset = 4 * offset  # nothing across an axis shows how large it is here
    first, third = complex(solution[1], solution[2]), complex(solution[5], solution[6])
    u_first = math.sqrt(0.5 * float(covariance[1, 1] + covariance[2, 2]))
    u_third = math.sqrt(0.5 * float(covariance[5, 5] + covariance[6, 6]))
    limit = math.sqrt(2 * float(scipy.special.fdtri(2, dof, _CERTAIN)))
    theta, u = math.atan2(first.imag, first.real), math.hypot(u_first, offset) / max(abs(first), 1e-300)
    told = abs(first) > limit * math.hypot(u_first, offset)
    if not told and abs(third) > limit * u_third and abs(first) > limit * math.hypot(u_first, offset) * 0.35:
        # the third harmonic is free of offsets but names three angles; the first picks one, were it off by less than 60°
        angles = np.angle(third) / 3 + 2 * math.pi / 3 * np.arange(3)
        pick = float(angles[int(np.argmax(np.cos(angles - theta)))])
        reach = abs(first) * math.sin(math.pi / 3) / math.hypot(u_first, offset)
        if scipy.special.stdtr(dof, reach) >= _CERTAIN:
            theta, u, told = pick, u_third / (3 * abs(third)), True
    if not told:
        why = (
            ""
            if offset == 0
            else " With what the channels read before each pulse (i_rest) the saturation alone may tell it."
        )
        text = f"No saliency shows: the current varies with the direction as the noise alone would do. The axis cannot be found this way; align with a DC current instead.{why}"
        findings.append(Finding("stop", "no-saliency", text))
        return PoleSearch(None, math.pi, None, 0.5, saliency=saliency, saturation=0.0, angle=alpha, current=current, harmonics=solution, method=method, findings=tuple(findings))
    text = (
        f"No saliency shows; the angle is that of the current's excess towards the pole, ±{math.degrees(2 * u):.1f}°."
    )
    findings.append(Finding("caution", "by-saturation", text))
    mean = float(solution[0])
    theta %= 2 * math.pi
    return PoleSearch(
        theta % math.pi, u, theta, _CERTAIN, saliency=saliency, saturation=2 * abs(first) / mean, angle=alpha, current=current, harmonics=solution, method=method, findings=tuple(findings)
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
