"""Inertia, friction and the delay of the speed measurement from a closed speed loop's steps; the model is in ``speed_model``, what it is not linear in is found in ``speed_search``."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, Result
from crisp_compass.identify.guard import solvable
from crisp_compass.identify.speed_model import Fit, Model, moved_by_jumps, prepare
from crisp_compass.identify.speed_search import corners_of, course_of, jumps_of, respond

#: What the course of the current between its samples and the smoothness of real friction leave open: of the inertia, and of all friction; and the part of a jump that its transition may miss.
_FLOOR, _FRICTION_DOUBT, _MISSED = 5e-4, 0.002, 2e-3
#: Jumps of the reference that are looked at for it.
_JUMPS = 12
#: What the chosen order, filter and instants add to the bars of the whitened fit.
_WIDER, _WIDER_GAIN = 1.25, 2.0
#: How well the gain must be told, relatively: where the reference jumps, and where only its slope or the load changes; there two ways of
#: whitening must agree as well.
_TOLD, _TOLD_SOFTLY = 0.05, 0.015
#: Standard uncertainty of the instant at which the current changes between two samples, in intervals: where a jump tells it, and where none does.
_COURSE, _NO_COURSE = 0.07, 0.3
#: Relative uncertainty beyond which friction, and the delay, count as not determined.
_FRICTION_TOLD, _DELAY_TOLD, _DELAY_TOLD_SOFTLY = 0.5, 0.15, 0.05


@dataclass(frozen=True)
class SpeedResponse(Result):
    """Estimates, and of the first reference step ``overshoot_pct``, ``rise_time`` and ``settling_time`` [s] (NaN where there is
    none); ``time`` [s], ``speed``, ``model``, ``residual`` [rad/s], all (n,)."""

    overshoot_pct: float
    rise_time: float
    settling_time: float
    time: FloatArray
    speed: FloatArray
    model: FloatArray
    residual: FloatArray


@solvable
@without_gaps
def fit_speed_response(capture: Capture, *, kt: float) -> SpeedResponse:
    """Estimate what the speed loop's plant is.

    Parameters
    ----------
    capture
        ``speed_ref``, ``speed`` and ``i_q`` over one or more steps of reference or load.
    kt
        Torque constant, N·m per A of i_q.

    Returns
    -------
    SpeedResponse
        ``inertia`` [kg·m²], ``viscous_friction`` [N·m·s/rad], ``coulomb_friction`` [N·m], ``delay`` [s]; what the capture does not
        determine is left out, with a finding.

    Raises
    ------
    Refusal
        Missing or constant channels, no step in speed or current, a Kt that cannot be, reversed signs.
    """
    if not (kt > 0 and math.isfinite(kt)):
        raise Refusal(f"{kt:g} cannot be meant", "a torque constant above zero is needed", where="--kt")
    w, i = capture.require("speed", "i_q", samples=60)
    reference = capture["speed_ref"]
    findings = list(capture.findings)
    if float(np.ptp(w)) < 8 * noise(w):
        raise Refusal(
            "the speed hardly changes", "capture a step of the reference or of the load", where=capture.source
        )
    course = course_of(i, reference)
    data = prepare(capture.time, w, i, 0.5 if course is None else course)
    hard, found = respond(data, corners_of(capture.time, reference), reference)
    model, fit = found[0]
    data = model.data
    at = jumps_of(reference)
    jumps = [(float(capture.time[k + 1] - capture.time[0]), _MISSED * abs(float(reference[k + 1] - reference[k]))) for k in at[:_JUMPS]]
    estimates = _estimates(found, kt, hard, course is not None, source=capture.source, jumps=jumps, findings=findings)
    overshoot, rise, settling = _step_figures(capture.time, reference, w, findings)
    loads = f", {len(fit.loads)} load step{'s' if len(fit.loads) != 1 else ''} found" if fit.loads else ""
    method = (
        f"speed over {data.t[-1]:.3g} s as driven by the measured current, integrated once, noise whitened{loads}; delay by search"
    )
    said = model.unwhitened(fit)
    return SpeedResponse(
        estimates, method, tuple(findings), overshoot, rise_time=rise, settling_time=settling, time=data.t, speed=data.w, model=said, residual=data.w - said
    )


def _told(found: list[tuple[Model, Fit]], doubt: float, *, hard: bool) -> bool:
    """Tell whether the capture determines the gain, whose relative uncertainty is ``doubt``; ``hard`` where the reference jumps."""
    if hard:
        return doubt < _TOLD
    gains = [fit["gain"] for _, fit in found]
    if len(gains) < 2 or any(fit.loads for _, fit in found) or gains[1] == 0:
        return False
    return doubt < _TOLD_SOFTLY and abs(gains[0] / gains[1] - 1) < max(_TOLD_SOFTLY, 4 * doubt)


def _estimates(
    found: list[tuple[Model, Fit]], kt: float, hard: bool, course: bool, source: str, jumps: list[tuple[float, float]], findings: list[Finding]
) -> dict[str, Estimate]:  # fmt: skip
    model, fit = found[0]
    covariance, names = model.covariance(fit)
    g, dof = names.index("gain"), max(fit.count - len(names), 1)
    gain, u_gain = fit["gain"], _WIDER_GAIN * math.sqrt(max(float(covariance[g, g]), 0.0))
    if gain < -5 * u_gain and hard:
        raise Refusal(
            "the speed falls while the current drives it",
            "one channel is reversed; map it with a minus sign (i_q=-i_q)",
            where=source,
        )
    if not (gain > 0 and _told(found, u_gain / gain, hard=hard)):
        text = "Noise and unknown loads drive this speed loop as much as its reference does, so neither inertia nor friction nor delay can be told: take a step of the reference, large against the noise."
        findings.append(Finding("caution", "not-determined", text))
        return {}
    inertia = kt / gain
    estimates = {"inertia": Estimate.from_u(inertia, "kg·m²", inertia * math.hypot(u_gain / gain, _FLOOR), dof=dof)}
    estimates |= _frictions(model, fit, covariance, names, inertia=inertia, jumps=jumps, findings=findings)
    d, f = names.index("dead"), names.index("filtered")
    by_fit = float(covariance[d, d] + covariance[f, f] + 2 * covariance[d, f])
    u_delay = math.hypot(_WIDER * math.sqrt(max(by_fit, 0.0)), (_COURSE if course else _NO_COURSE) * model.data.row)
    delay = fit.lag.total + model.data.held
    if u_delay < (_DELAY_TOLD if course else _DELAY_TOLD_SOFTLY) * delay:
        estimates["delay"] = Estimate.from_u(delay, "s", u_delay, dof=dof)
    else:
        text = f"The delay of the measured speed, {1e3 * delay:.2g} ms ± {2e3 * u_delay:.2g} ms, is not determined: sample faster, or take a larger step of the reference."
        findings.append(Finding("info", "delay-not-determined", text))
    return estimates


def _frictions(
    model: Model, fit: Fit, covariance: FloatArray, names: tuple[str, ...], inertia: float, jumps: list[tuple[float, float]], findings: list[Finding]
) -> dict[str, Estimate]:
    """Return the frictions that the capture tells, with what rounded starts and ripples take for friction in their bars."""
    g, top = names.index("gain"), float(np.max(np.abs(model.data.w)))
    values = {n: fit[n] * inertia for n in ("viscous", "coulomb")}
    doubt = _FRICTION_DOUBT * (abs(values["coulomb"]) + abs(values["viscous"]) * top)
    kept, lost = {}, []
    missed = dict(zip(("viscous", "coulomb"), inertia * moved_by_jumps(model, fit, jumps, ("viscous", "coulomb")), strict=True))
    for name, unit, share in (("viscous", "N·m·s/rad", 1 / top), ("coulomb", "N·m", 1.0)):
        k, value = names.index(name), values[name]
        slope = np.zeros(len(covariance))
        slope[k], slope[g] = inertia, -value / fit["gain"]
        u = math.hypot(_WIDER * math.sqrt(max(float(slope @ covariance @ slope), 0.0)), doubt * share, float(missed[name]))
        if value > 0 and u < _FRICTION_TOLD * value:
            kept[f"{name}_friction"] = Estimate.from_u(value, unit, u, dof=max(fit.count - len(names), 1))
        else:
            lost.append(name)
    if lost:
        text = f"This capture does not tell the {' and the '.join(lost)} friction apart from the rest: take steps to several speeds, and in both directions."
        findings.append(Finding("info", "friction-not-resolved", text))
    return kept


def _peak(t: FloatArray, x: FloatArray) -> float:
    """Return the height of a noisy response's first hump: of the parabola through its upper part, not of its luckiest sample."""
    top = int(np.argmax(x))
    for share in (0.85, 0.7, 0.5):  # the highest part that holds samples enough
        below = np.flatnonzero(x < 1 + share * (float(x[top]) - 1))
        left = int(below[below < top][-1]) if (below < top).any() else 0
        right = int(below[below > top][0]) if (below > top).any() else len(x) - 1
        if right - left >= 24:
            break
    if right - left < 6:
        return float(x[top])
    part = slice(left, right + 1)
    middle, scale = float(t[top]), float(t[right] - t[left])
    a, b, c = np.polyfit((t[part] - middle) / scale, x[part], 2)
    return float(c - b**2 / (4 * a)) if a < 0 and abs(b / (2 * a)) < 1 else float(np.mean(x[part]))


def _step_figures(
    time: FloatArray, reference: FloatArray, w: FloatArray, findings: list[Finding]
) -> tuple[float, float, float]:
    if not len(jumps_of(reference)):
        findings.append(
            Finding("info", "no-reference-step", "The reference does not step, so there are no step figures.")
        )
    return first_step(time, reference, w)


def first_step(time: FloatArray, reference: FloatArray, w: FloatArray) -> tuple[float, float, float]:
    """Return overshoot [%], rise 10–90 % [s] and settling ±2 % [s] of the first reference step of a speed, (n,) each; NaN where the reference does not step."""
    jumps = jumps_of(reference)
    if not len(jumps):
        return math.nan, math.nan, math.nan
    start = int(jumps[0])
    later = jumps[jumps > start + 3]
    stop = int(later[0]) + 1 if len(later) else len(w)
    low, high = float(reference[start]), float(reference[min(start + 1, len(reference) - 1)])
    x = (w[start + 1 : stop] - low) / (high - low)
    t = time[start + 1 : stop] - time[start]
    spread = noise(x)
    width = (
        int(min(max((spread / 0.004) ** 2, 1), max(len(x) // 60, 1))) // 2 * 2 + 1
    )  # as much smoothing as the noise asks
    if width > 1:
        x = scipy.ndimage.uniform_filter1d(x, width, mode="nearest")
    overshoot = 100 * max(_peak(t, x) - 1, 0.0)

    def crossing(level: float) -> float:
        above = np.flatnonzero(x >= level)
        if not len(above):
            return math.nan
        k = int(above[0])
        if k == 0:
            return float(t[0])
        return float(t[k - 1] + (t[k] - t[k - 1]) * (level - x[k - 1]) / (x[k] - x[k - 1]))

    outside = np.flatnonzero(np.abs(x - 1) > 0.02)
    last = int(outside[-1]) if len(outside) else -1
    settling = math.nan if last >= len(x) - 1 else float(t[last + 1])
    return overshoot, crossing(0.9) - crossing(0.1), settling
