"""What a measured current step says of the loop: effective R, L and delay with error bars, and the likeliest cause of a difference.

Model: the sampled PI with the gains that ran, its output held, late by a delay, on one R–L axis (exact between samples:
the voltage switches once a period, at the delay's fraction); a voltage limit clamps it. Where the commanded voltage was
recorded it drives the model instead of the PI, and a constant loss against the current's sign joins the fit. Nonlinear
least squares on ln R, ln L and delay; u from the curvature, widened for correlated residuals.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, coverage_factor

#: Factors that slips of base make in a current scale.
_SLIPS = {
    1.5: "3/2", 2 / 3: "2/3", math.sqrt(2): "√2", 1 / math.sqrt(2): "1/√2", math.sqrt(3): "√3", 1 / math.sqrt(3): "1/√3", 2.0: "2", 0.5: "1/2",
}  # fmt: skip


@dataclass(frozen=True)
class StepFigures:
    """Of a measured step: rise 10–90 % [s], overshoot [%], settling into ±5 % [s] (NaN where it does not), ringing [Hz] (0 for none), time to the first 5 % [s]."""

    rise: float
    overshoot: float
    settling: float
    ringing: float
    delay: float


@dataclass(frozen=True)
class StepFit:
    """Effective figures: ``r`` [Ω], ``inductance`` [H], ``delay`` [s], ``lost`` [V] (None without the voltage).

    ``time`` (n,) s from the step, ``measured``, ``fitted``, ``predicted`` (n,) A from the level before; ``size`` of the step [A];
    ``cause`` the likeliest in words, empty where it agrees.
    """

    r: Estimate
    inductance: Estimate
    delay: Estimate
    lost: Estimate | None
    figures: StepFigures
    size: float
    time: FloatArray
    measured: FloatArray
    fitted: FloatArray
    predicted: FloatArray
    cause: str
    method: str
    findings: tuple[Finding, ...]


@dataclass(frozen=True)
class Expected:
    """What the design rests on: gains in V/A and V/(A·s), loop rate [Hz], R, L, delay [periods], voltage limit [V]."""

    kp: float
    ki: float
    loop_hz: float
    r: float
    inductance: float
    delay_samples: float
    v_limit: float = math.inf


def respond(
    expected: Expected, r: float, inductance: float, delay: float, reference: FloatArray, at: FloatArray, *, voltage: FloatArray | None = None,
    lost: float = 0.0,
) -> FloatArray:  # fmt: skip
    """Return the current (n,) at times ``at`` (n,) [s] for references (k,) one a period from time 0, from rest.

    ``voltage`` (k,) replaces the controller; ``lost`` [V] is taken off against the current's sign.
    """
    ts, pole = 1 / expected.loop_hz, r / inductance
    # half a period of the whole delay is the hold's own, which the model makes by holding
    late = max(delay - 0.5 * ts, 0.0) / ts
    whole, part = math.floor(late), late - math.floor(late)
    steps = len(reference)
    u = np.zeros(steps + whole + 2)  # u[k + whole + 1] is what period k's controller asked for
    i, integral = 0.0, 0.0
    ticks = np.empty(steps)
    first, second = math.exp(-pole * part * ts), math.exp(-pole * (1 - part) * ts)
    for k in range(steps):
        ticks[k] = i
        if voltage is None:
            error = reference[k] - i
            new = integral + expected.ki * ts * error
            want = expected.kp * error + new
            ask = min(expected.v_limit, max(-expected.v_limit, want))
            integral = new + (ask - want)
        else:
            ask = float(voltage[k])
        u[k + whole + 1] = ask
        loss = lost * math.tanh(i / max(0.02 * abs(reference[-1]), 1e-9)) if lost else 0.0
        before, after = u[k] - loss, u[k + 1] - loss
        i = i * first + before / r * (1 - first)
        i = i * second + after / r * (1 - second)
    place = np.clip((at / ts).astype(int), 0, steps - 1)
    inside = at - place * ts
    start = ticks[place]
    before, after = u[place], u[place + 1]
    early = np.minimum(inside, part * ts)
    rest = np.maximum(inside - part * ts, 0.0)
    value = start * np.exp(-pole * early) + before / r * (1 - np.exp(-pole * early))
    value = value * np.exp(-pole * rest) + after / r * (1 - np.exp(-pole * rest))
    return np.asarray(np.where(at < 0, 0.0, value))


def fit_step(capture: Capture, expected: Expected) -> StepFit:
    """Evaluate a capture of ``i_q_ref`` and ``i_q``, perhaps ``v_q``, around one step.

    Raises
    ------
    Refusal
        No step in the reference, fewer than twelve samples after it, a current that does not follow, sampling slower than the loop.
    """
    t, reference, current = capture.time, capture["i_q_ref"], capture["i_q"]
    source = capture.source
    jumps = np.abs(np.diff(reference))
    if not len(jumps) or float(np.max(jumps)) < 1e-9:
        raise Refusal("the reference i_q_ref makes no step", "capture one from rest to rest", where=source)
    at = int(np.argmax(jumps)) + 1
    later = np.flatnonzero(jumps[at:] > 0.5 * jumps[at - 1])
    end = at + int(later[0]) + 1 if len(later) else len(t)
    level = float(np.mean(current[max(at - 30, 0) : at]))
    size = float(np.median(reference[at:end]) - reference[at - 1])
    if end - at < 12:
        raise Refusal(f"only {end - at} samples follow the step", "capture twelve or more", where=source)
    step = float(np.median(np.diff(t)))
    ts = 1 / expected.loop_hz
    if step > 1.5 * ts:
        raise Refusal(
            f"the samples are {step * 1e6:.3g} µs apart, the loop runs every {ts * 1e6:.3g} µs",
            "capture at the loop rate or faster",
            where=source,
        )
    begin = max(at - 30, 0)
    time, y = t[begin:end] - t[at], current[begin:end] - level
    if abs(float(np.median(y[-max(len(y) // 5, 3) :]))) < 0.2 * abs(size):
        raise Refusal(
            "the current does not follow the step", "check that the drive is on and the leads are", where=source
        )
    ticks = np.full(math.ceil(float(time[-1]) / ts) + 2, size)
    voltage = None
    if "v_q" in capture:
        base = float(np.mean(capture["v_q"][max(at - 30, 0) : at]))
        # the command of a period is what stands when it begins; a quarter of a sample later is safely inside
        wanted = np.arange(len(ticks)) * ts + 0.25 * step
        voltage = (capture["v_q"] - base)[
            np.clip(np.searchsorted(t - t[at], wanted, side="right") - 1, 0, len(t) - 1)
        ]
    return _solve(time, y, size, ticks, voltage, expected, list(capture.findings))


def _solve(
    time: FloatArray, y: FloatArray, size: float, ticks: FloatArray, voltage: FloatArray | None, expected: Expected, findings: list[Finding]
) -> StepFit:  # fmt: skip
    ts = 1 / expected.loop_hz
    loss_scale = 0.02 * expected.r * abs(size) + 1e-6

    def misfit(p: FloatArray) -> FloatArray:
        r, inductance, delay = expected.r * math.exp(p[0]), expected.inductance * math.exp(p[1]), p[2] * ts
        lost = float(p[4]) * loss_scale if len(p) > 4 else 0.0
        # the level before the step is known from noisy samples only: its error is fitted too
        shape = respond(expected, r, inductance, delay, ticks, time, voltage=voltage, lost=lost)
        return np.asarray(shape + p[3] * abs(size) - y)

    lower = np.array([-2.5, -2.5, 0.5, -0.3] + ([-500.0] if voltage is not None else []))
    upper = np.array([2.5, 2.5, 12.0, 0.3] + ([500.0] if voltage is not None else []))
    best = None
    for guess in (expected.delay_samples, expected.delay_samples + 1, max(expected.delay_samples - 1, 0.6)):
        start = np.array([0.0, 0.0, min(max(guess, 0.6), 11.0), 0.0] + ([0.0] if voltage is not None else []))
        found = scipy.optimize.least_squares(
            misfit, start, bounds=(lower, upper), x_scale=np.array([0.2, 0.2, 0.3, 0.01, 1.0][: len(start)]),
            diff_step=np.full(len(start), 1e-4),
        )  # fmt: skip
        if best is None or found.cost < best.cost:
            best = found
    assert best is not None
    p, residual = best.x, best.fun
    dof = max(len(y) - len(p), 1)
    variance = float(np.sum(residual**2)) / dof
    rho = min(max(float(np.sum(residual[1:] * residual[:-1])) / max(float(np.sum(residual**2)), 1e-300), 0.0), 0.95)
    jacobian = np.asarray(best.jac, dtype=np.float64)
    covariance = np.linalg.pinv(jacobian.T @ jacobian) * variance * (1 + rho) / (1 - rho)
    u = np.sqrt(np.diag(covariance))
    r, inductance = (
        _logarithmic(start * math.exp(p[k]), unit, float(u[k]), dof)
        for k, (start, unit) in enumerate(((expected.r, "Ω"), (expected.inductance, "H")))
    )
    delay = Estimate.from_u(p[2] * ts, "s", u[2] * ts, dof=dof)
    lost = Estimate.from_u(p[4] * loss_scale, "V", u[4] * loss_scale, dof=dof) if voltage is not None else None
    rest = math.sqrt(variance)
    if rest > 0.05 * abs(size):
        text = f"The fit leaves {100 * rest / abs(size):.0f} % of the step unexplained: the gains that ran are not these, or something else moved (rotor, limit, second step)."
        findings.append(Finding("caution", "fit-poor", text))
    predicted = respond(expected, expected.r, expected.inductance, expected.delay_samples * ts, ticks, time)
    cause = likely_cause(
        expected,
        (p[0], u[0]),
        (p[1], u[1]),
        (p[2], u[2]),
        (0.0 if lost is None else lost.value, 0.0 if lost is None else lost.u),
    )
    method = f"{len(y)} samples, {'commanded voltage' if voltage is not None else 'sampled PI'} on one R–L axis"
    return StepFit(
        r, inductance, delay, lost, measured_figures(time, y, size), size, time, y, y + residual, predicted, cause, method, tuple(findings)
    )  # fmt: skip


def _logarithmic(value: float, unit: str, relative: float, dof: int) -> Estimate:
    """Return an estimate whose logarithm is normal with standard uncertainty ``relative``."""
    k = coverage_factor(dof) * min(relative, 3.0)
    return Estimate(value, unit, value * relative, value * math.exp(-k), value * math.exp(k))


def likely_cause(
    expected: Expected, log_r: tuple[float, float], log_l: tuple[float, float], delay: tuple[float, float], lost: tuple[float, float]
) -> str:  # fmt: skip
    """Return the likeliest cause of a difference in words, empty where all agrees within its error bar and 5 %.

    Each argument is a value with its u: ln(R/expected), ln(L/expected), delay in periods, voltage lost [V].
    """

    def differs(value: float, u: float, least: float) -> bool:
        return abs(value) > max(3 * u, least)

    late = delay[0] - expected.delay_samples
    both = differs(*log_r, 0.08) and differs(*log_l, 0.08)
    if both and abs(log_r[0] - log_l[0]) < max(3 * math.hypot(log_r[1], log_l[1]), 0.08):
        weights = (1 / max(log_r[1], 1e-6) ** 2, 1 / max(log_l[1], 1e-6) ** 2)
        factor = math.exp(-(log_r[0] * weights[0] + log_l[0] * weights[1]) / sum(weights))
        near = [text for slip, text in _SLIPS.items() if abs(math.log(factor / slip)) < 0.06]
        named = f", which is {near[0]}" if near else ""
        return f"R and L are both off by one factor: the current is scaled by {factor:.2f}{named}."
    causes = []
    if differs(late, delay[1], 0.35):
        causes.append(f"the delay is {abs(late):.1f} periods {'longer' if late > 0 else 'shorter'}")
    if differs(*log_l, 0.05):
        percent = 100 * (math.exp(log_l[0]) - 1)
        causes.append(
            f"L is {abs(percent):.0f} % {'lower at this current: the iron saturates' if percent < 0 else 'higher'}"
        )
    if differs(*log_r, 0.06):
        percent = 100 * (math.exp(log_r[0]) - 1)
        kelvin = percent / 0.393
        if percent > 0:
            causes.append(
                f"R is {percent:.0f} % higher: a winding {kelvin:.0f} K warmer, a contact, or voltage lost to dead time"
            )
        else:
            causes.append(f"R is {-percent:.0f} % lower")
    if lost[1] and differs(lost[0], lost[1], 0.02 * expected.r):
        causes.append(f"{abs(lost[0]) * 1e3:.0f} mV are lost against the current: dead time")
    if not causes:
        return ""
    text = "; ".join(causes)
    return f"{text[:1].upper()}{text[1:]}."


def measured_figures(time: FloatArray, y: FloatArray, size: float) -> StepFigures:
    """Return figures of a step of ``size`` [A] from ``y`` (n,) [A] at ``time`` (n,) [s] from the step."""
    relative = y / size

    def first(level: float) -> float:
        above = np.flatnonzero((relative >= level) & (time >= 0))
        if not len(above):
            return math.nan
        k = int(above[0])
        if k == 0 or relative[k] == relative[k - 1]:
            return float(time[k])
        return float(
            time[k - 1] + (level - relative[k - 1]) / (relative[k] - relative[k - 1]) * (time[k] - time[k - 1])
        )

    inside = np.abs(relative - 1) <= 0.05
    outside = np.flatnonzero(~inside & (time >= 0))
    settling = math.nan
    if len(outside) and outside[-1] + 1 < len(time):
        settling = float(time[outside[-1] + 1])
    after = relative[time >= first(0.9)] if math.isfinite(first(0.9)) else relative[:0]
    later = time[time >= first(0.9)] if math.isfinite(first(0.9)) else time[:0]
    error = after - 1
    # only swings clear of the noise count as ringing
    noise = float(np.std(relative[-max(len(relative) // 4, 4) :]))
    big = np.where(np.abs(error) > max(3 * noise, 0.02), np.sign(error), 0.0)
    kept = np.flatnonzero(big)
    crossings = []
    for a, b in itertools.pairwise(kept):
        if big[a] != big[b]:
            k = a + int(np.flatnonzero(np.sign(error[a : b + 1]) != big[a])[0])
            share = error[k - 1] / (error[k - 1] - error[k]) if error[k] != error[k - 1] else 0.0
            crossings.append(float(later[k - 1] + share * (later[k] - later[k - 1])))
    ringing = 0.5 / float(np.mean(np.diff(crossings))) if len(crossings) >= 2 else 0.0
    return StepFigures(
        first(0.9) - first(0.1), max(0.0, 100 * (float(np.max(relative)) - 1)), settling, ringing, first(0.05)
    )  # fmt: skip


def next_trial(figures: StepFigures, bandwidth_hz: float, phase_margin_deg: float) -> tuple[float, str]:
    """Return a bandwidth to try next [Hz] and why (common practice: small steps up, look for ringing, come down)."""
    if figures.ringing > 0 and figures.overshoot > 15:
        return 0.65 * bandwidth_hz, f"It rings at {figures.ringing:.0f} Hz: come down by a third."
    if figures.overshoot > 20:
        return 0.8 * bandwidth_hz, f"{figures.overshoot:.0f} % overshoot: come down by a fifth."
    if figures.overshoot < 8 and phase_margin_deg > 62:
        return 1.3 * bandwidth_hz, "No ringing and margin to spare: go up by a third, then look again."
    return bandwidth_hz, "Fast and calm: keep it."


def implausible_jump(first: tuple[float, float, float], second: tuple[float, float, float]) -> str:
    """Return a sentence where two automatic results (test current [A], Kp, Ki) differ as no winding does, else empty.

    Iron saturates by tens of per cent; a gain that jumps threefold or more with the test current is wrong (common practice).
    """
    for name, a, b in (("Kp", first[1], second[1]), ("Ki", first[2], second[2])):
        ratio = max(a, b) / min(a, b) if min(a, b) > 0 else math.inf
        if ratio > 3:
            return f"{name} jumps {ratio:.0f}-fold between test currents of {first[0]:g} A and {second[0]:g} A: no winding does that; one of the results is wrong."
    return ""
