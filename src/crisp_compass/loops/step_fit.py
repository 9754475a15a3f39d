"""What a measured current step says of the loop: effective R, L and delay with error bars, and the likeliest cause of a difference.

Model: the sampled PI with the gains that ran, its output held, late by a delay, on one R–L axis; dead time takes a constant
voltage against the current's sign, fully so beyond a knee, and is integrated exactly between samples (three straight pieces,
an exponential in each); a voltage limit clamps the output, with the integrators' rule of this program's controllers. All levels
are the real ones: a step may start anywhere. Where the commanded voltage was recorded it drives the model instead of the PI.
Nonlinear least squares on ln R, ln L, delay, levels and loss; u from the curvature, widened for correlated residuals.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import scipy

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, coverage_factor
from crisp_compass.loops.current import limit_tracking
from crisp_compass.loops.step_kernel import run

#: Factors that slips of base make in a current scale.
_SLIPS = {
    1.5: "3/2", 2 / 3: "2/3", math.sqrt(2): "√2", 1 / math.sqrt(2): "1/√2", math.sqrt(3): "√3", 1 / math.sqrt(3): "1/√3", 2.0: "2", 0.5: "1/2",
}  # fmt: skip


#: Fewest samples that local cubics smooth.
_LEAST_WIDTH = 5
#: Samples before the step that are looked at.
_BEFORE = 30
#: What other firmwares' integrators do at the limit (see ``respond``).
_AT_THE_LIMIT = (0.0, 1.0, -1.0)
#: Half the difference of squares, over the noise's, from which one of them is clearly likelier than another.
_CLEARLY = 8.0
#: How a leg's loss grows with a small current is not known: its knee (over a fiftieth of the larger level), and whether it is smooth; each as likely as another.
_SHAPES = ((0.3, False), (1.0, False), (2.5, True), (6.0, True))


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
class RunningLoop:
    """What the design rests on: gains in V/A and V/(A·s), loop rate [Hz], R, L, delay [periods], voltage limit [V]."""

    kp: float
    ki: float
    loop_hz: float
    r: float
    inductance: float
    delay_samples: float
    v_limit: float = math.inf


def respond(
    expected: RunningLoop, r: float, inductance: float, delay: float, reference: FloatArray, at: FloatArray, *, voltage: FloatArray | None = None,
    lost: float = 0.0, start: float = 0.0, constant: float = 0.0, knee: float | None = None, tracking: float | None = None, smooth: bool = False,
) -> FloatArray:  # fmt: skip
    """Return the current (n,) [A] at ascending times ``at`` (n,) [s] for references (k,) [A], one a period from time 0.

    Before time 0 the loop rests at ``start`` [A]. ``voltage`` (k,) [V] replaces the controller, its first value having stood
    before; ``lost`` [V] is taken off against the current's sign beyond ``knee`` [A], ``smooth`` as a tanh; ``constant`` [V] stands beside
    the command. ``tracking`` is what the integrator does at the limit: the share by which it follows (None: as this program's
    controllers, 0: it stands still, negative: it runs on).
    """
    ts = 1 / expected.loop_hz
    size = float(np.max(np.abs(reference))) if len(reference) else 1.0
    gains = (
        expected.kp,
        expected.ki,
        limit_tracking(expected.kp, expected.ki, ts, expected.r, l_axis=expected.inductance)
        if tracking is None
        else tracking,
        expected.v_limit,
    )
    winding = (r, inductance, lost, knee or max(0.02 * max(size, abs(start)), 1e-9), constant, float(smooth))
    driven = np.empty(0) if voltage is None else np.asarray(voltage, dtype=np.float64)
    found: FloatArray = run(
        np.array(gains), np.array(winding), float(delay), ts, np.asarray(reference, dtype=np.float64), driven,
        np.asarray(at, dtype=np.float64), float(start),
    )  # fmt: skip
    return found


@without_gaps
def fit_step(capture: Capture, expected: RunningLoop) -> StepFit:
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
    begin = max(at - _BEFORE, 0)
    level = float(np.mean(current[begin:at]))
    first = float(reference[at - 1])
    size = float(np.median(reference[at:end]) - first)
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
    time, y = t[begin:end] - t[at], current[begin:end]
    if abs(float(np.median(y[-max(len(y) // 5, 3) :])) - level) < 0.2 * abs(size):
        raise Refusal(
            "the current does not follow the step", "check that the drive is on and the leads are", where=source
        )
    step_of = _Measured(time, y, first, size, voltage=None)
    if "v_q" in capture:
        # whole periods before the step too: what was commanded there tells what stands beside the command
        lead = math.floor(-time[0] / ts)
        # the command of a period is what stands when it begins; a quarter of a sample later is safely inside
        wanted = np.arange(-lead, math.ceil(float(time[-1]) / ts) + 2) * ts + 0.25 * step
        v = capture["v_q"][np.clip(np.searchsorted(t - t[at], wanted, side="right") - 1, 0, len(t) - 1)]
        step_of = _Measured(time, y, first, size, voltage=v, lead=lead * ts)
    return _solve(step_of, expected, list(capture.findings))


@dataclass(frozen=True)
class _Measured:
    """A step: ``time`` (n,) s from it, ``y`` (n,) A, reference before it and its size [A], commanded ``voltage`` (k,) [V] by period
    from ``lead`` seconds before it."""

    time: FloatArray
    y: FloatArray
    first: float
    size: float
    voltage: FloatArray | None
    lead: float = 0.0
    tracking: float | None = None
    smooth: bool = False

    def model(self, expected: RunningLoop, p: FloatArray) -> FloatArray:
        """Return the current (n,) for ln R, ln L (over expected), delay [periods], level and loss, perhaps a
        constant voltage (over their scales), and ln of the knee over a fiftieth of the larger level."""
        ts = 1 / expected.loop_hz
        r, inductance = expected.r * math.exp(p[0]), expected.inductance * math.exp(p[1])
        level, lost = p[3] * abs(self.size), p[4] * self.volts(expected)
        knee = 0.02 * max(abs(self.first + self.size), abs(self.first)) * math.exp(p[-1])
        if self.voltage is None:
            reference = np.full(math.ceil(float(self.time[-1]) / ts) + 2, self.first + self.size)
            # the channel's own offset moves what is read, not what the loop holds
            found = respond(
                expected, r, inductance, p[2] * ts, reference=reference, at=self.time, lost=lost, start=self.first, knee=knee,
                tracking=self.tracking, smooth=self.smooth,
            )  # fmt: skip
            return np.asarray(level + found)
        at = self.time + self.lead
        kept = at >= -1e-12
        out = np.full(len(at), self.first)
        # the current stood at its reference; what the channel read beside it is the channel's own offset
        out[kept] = respond(
            expected, r, inductance, p[2] * ts, reference=np.full(len(self.voltage), self.first + self.size), at=at[kept], voltage=self.voltage, lost=lost,
            start=self.first, constant=p[5] * self.volts(expected), knee=knee, smooth=self.smooth,
        )  # fmt: skip
        return np.asarray(level + out)

    def volts(self, expected: RunningLoop) -> float:
        """Return the scale of voltages [V]: a fiftieth of what the step needs in the end."""
        return 0.02 * expected.r * abs(self.size) + 1e-6


def _solve(step_of: _Measured, expected: RunningLoop, findings: list[Finding]) -> StepFit:
    ts = 1 / expected.loop_hz
    time, y, size, voltage = step_of.time, step_of.y, step_of.size, step_of.voltage
    ran = step_of
    loss_scale = step_of.volts(expected)
    more = 1 if voltage is not None else 0

    def misfit(p: FloatArray) -> FloatArray:
        return np.asarray(ran.model(expected, p) - y)

    # ln R, ln L, delay, level, loss, perhaps a constant voltage; the knee comes last
    lower = np.array([-2.5, -2.5, 0.5, -0.5, 0.0] + [-5000.0] * more)
    upper = np.array([2.5, 2.5, 12.0, 0.5, 500.0] + [5000.0] * more)
    level = (float(np.mean(y[time < -1e-12])) - step_of.first) / abs(size) if (time < -1e-12).any() else 0.0
    beside = 0.0
    if voltage is not None:
        beside = (
            expected.r * step_of.first - float(np.mean(voltage[: max(round(step_of.lead / ts), 1)]))
        ) / loss_scale
    scales = np.array([0.2, 0.2, 0.3, 0.01, 1.0] + [1.0] * more + [0.5])
    # a loss beyond a third of the step's own voltage is not expected: a weak prior only
    prior = 0.3 * expected.r * abs(size) / loss_scale

    def weighed(p: FloatArray, noise: float) -> FloatArray:
        return np.append(misfit(p), noise * p[4] / prior)

    def slopes(p: FloatArray, noise: float) -> FloatArray:
        # steps by each figure's scale: one that is zero would otherwise get none
        columns = []
        for k, scale in enumerate(scales):
            step = 1e-5 * scale * np.eye(len(p))[k]
            back = step if k != 4 or p[4] > step[4] else 0 * step  # there is no loss below zero
            columns.append((weighed(p + step, noise) - weighed(p - back, noise)) / float(np.sum(step + back)))
        return np.column_stack(columns)

    def fit(start: FloatArray, noise: float, knee: float = 0.0) -> Any:
        bounds = (np.append(lower, knee - 1e-9), np.append(upper, knee + 1e-9))
        return scipy.optimize.least_squares(
            weighed, np.clip(start, bounds[0], bounds[1]), bounds=bounds, x_scale=scales, jac=slopes, ftol=1e-11, xtol=1e-10, args=(noise,)
        )  # fmt: skip

    guesses = [g for g in np.arange(expected.delay_samples - 1, expected.delay_samples + 2.6, 0.5) if 0.5 < g < 12]

    def roughly(shares: tuple[float, ...]) -> Any:
        # R and the loss share the voltage of the end: valleys lie apart, so the search starts in three of them
        found = []
        for share in shares:
            starts = [
                np.array([math.log1p(-share), 0.0, g, level, 50 * share] + [beside] * more + [0.0]) for g in guesses
            ]
            found.append(fit(min(starts, key=lambda x: float(np.sum(misfit(x) ** 2))), 0.0))
        return min(found, key=lambda f: float(f.cost))

    roughs = [(step_of, roughly((0.01, 0.15, 0.4)))]
    if voltage is None and _meets_limit(step_of, expected):
        # another firmware's integrators may do something else at the limit
        for tracking in _AT_THE_LIMIT:
            ran = replace(step_of, tracking=tracking)
            roughs.append((ran, roughly((0.01, 0.15))))
    base, rough = min(roughs, key=lambda pair: float(pair[1].cost))
    noise = max(math.sqrt(2 * float(rough.cost) / max(len(y) - len(lower), 1)), 1e-9 * abs(size))
    if float(roughs[0][1].cost - rough.cost) < _CLEARLY * noise**2:  # not clearly another firmware's: it is taken for the design's
        base, rough = roughs[0]
    shapes = []
    for knee, smooth in _SHAPES:
        ran = replace(base, smooth=smooth)
        # at no loss there is no slope towards a wide knee: it is looked for from a plain loss
        start = rough.x[:-1] if knee <= 1 else _with_loss(rough.x[:-1], prior)
        shapes.append((ran, fit(np.append(start, math.log(knee)), noise, math.log(knee))))
    for ran, other in roughs:
        if ran is not base and float(other.cost - rough.cost) < _CLEARLY * noise**2:
            shapes.append((ran, fit(other.x, noise)))
    best = min((f for shape, f in shapes if shape.tracking == base.tracking), key=lambda f: float(f.cost))
    p, residual = best.x, best.fun[: len(y)]
    dof = max(len(y) - len(lower), 1)
    variance = float(np.sum(residual**2)) / dof
    rho = min(max(float(np.sum(residual[1:] * residual[:-1])) / max(float(np.sum(residual**2)), 1e-300), 0.0), 0.95)
    wider = variance * (1 + rho) / (1 - rho)
    mean, covariance = _over_shapes([f for _, f in shapes], wider, noise)
    p = np.append(mean, p[-1])
    u = np.sqrt(np.diag(covariance))
    r, inductance = (
        _logarithmic(start * math.exp(p[k]), unit, float(u[k]), dof)
        for k, (start, unit) in enumerate(((expected.r, "Ω"), (expected.inductance, "H")))
    )
    delay = Estimate.from_u(p[2] * ts, "s", u[2] * ts, dof=dof)
    # a loss that stands against both levels alike moves nothing that could tell it
    told = u[4] < 0.9 * prior
    lost = Estimate.from_u(p[4] * loss_scale, "V", u[4] * loss_scale, dof=dof) if told else None
    rest = math.sqrt(variance)
    if rest > 0.05 * abs(size):
        text = f"The fit leaves {100 * rest / abs(size):.0f} % of the step unexplained: the gains that ran are not these, or something else moved (rotor, limit, second step)."
        findings.append(Finding("caution", "fit-poor", text))
    chosen = base.tracking
    if chosen is not None:
        does = "stands still" if chosen == 0 else "runs on" if chosen < 0 else "follows at once"
        findings.append(
            Finding(
                "info",
                "other-anti-windup",
                f"At the voltage limit the integrator of this drive {does}; the design's follows by a share.",
            )
        )
    # drawn from the level before the step
    shift = step_of.first + p[3] * abs(size)
    ideal = np.array([0.0, 0.0, expected.delay_samples, 0.0, 0.0] + [beside] * more + [0.0])
    predicted = step_of.model(expected, ideal) - step_of.first
    log_r = (float(p[0]), float(u[0]))
    if lost is not None and abs(lost.value) <= max(3 * lost.u, 0.02 * expected.r):
        # R and loss cannot be told apart: what both take together at the end still can
        level = abs(step_of.first + size)
        taken = expected.r * math.exp(p[0]) * level + lost.value
        slope = np.zeros(len(u))
        slope[0], slope[4] = expected.r * math.exp(p[0]) * level / taken, loss_scale / taken
        log_r = math.log(taken / (expected.r * level)), math.sqrt(float(slope @ covariance @ slope))
    cause = likely_cause(expected, log_r, (p[1], u[1]), (p[2], u[2]), lost=(lost.value, lost.u) if lost else (0.0, 0.0))
    method = f"{len(y)} samples, {'commanded voltage' if voltage is not None else 'sampled PI'} on one R–L axis"
    return StepFit(
        r, inductance, delay, lost, figures=measured_figures(time, y - shift, size), size=size, time=time, measured=y - shift, fitted=y + residual - shift, predicted=predicted, cause=cause, method=method,
        findings=tuple(findings),
    )  # fmt: skip


def _with_loss(p: FloatArray, prior: float) -> FloatArray:
    """Return a start with no less than a third of the loss that may be."""
    start = p.copy()
    start[4] = max(start[4], 0.3 * prior)
    return start


def _over_shapes(fits: list[Any], variance: float, noise: float) -> tuple[FloatArray, FloatArray]:
    """Return mean (k,) and covariance (k, k) of the figures over fits with different shapes of the loss, each weighed by its likelihood; the knee is none of them."""
    costs = np.array([float(f.cost) for f in fits])
    weights = np.exp(-(costs - costs.min()) / max(variance, noise**2))
    weights /= weights.sum()
    points = np.array([f.x[:-1] for f in fits])
    mean = weights @ points
    spread = np.zeros((points.shape[1], points.shape[1]))
    for weight, point, fit in zip(weights, points, fits, strict=True):
        if weight < 1e-4:
            continue
        jacobian = fit.jac[:, :-1]
        spread += weight * (np.linalg.pinv(jacobian.T @ jacobian) * variance + np.outer(point - mean, point - mean))
    return mean, spread


def _meets_limit(step_of: _Measured, expected: RunningLoop) -> bool:
    """Tell whether the controller asks for more than its limit at the step, or nearly."""
    asks = expected.kp * abs(step_of.size) + expected.r * max(abs(step_of.first), abs(step_of.first + step_of.size))
    return bool(asks > 0.8 * expected.v_limit)


def _logarithmic(value: float, unit: str, relative: float, dof: int) -> Estimate:
    """Return an estimate whose logarithm is normal with standard uncertainty ``relative``."""
    k = coverage_factor(dof) * min(relative, 3.0)
    return Estimate(value, unit, value * relative, value * math.exp(-k), high=value * math.exp(k))


def likely_cause(
    expected: RunningLoop, log_r: tuple[float, float], log_l: tuple[float, float], delay: tuple[float, float], lost: tuple[float, float]
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
    rise = first(0.9) - first(0.1)
    return StepFigures(rise, 100 * _overshoot(time, relative, rise), settling, ringing, delay=first(0.05))


def _overshoot(time: FloatArray, relative: FloatArray, rise: float) -> float:
    """Return by what share a step passes its end; 0 where the noise would reach as far by itself.

    The largest of many noisy samples lies some standard deviations above them all. So the peak is that of local cubics over half the rise (A. Savitzky, M. J. E. Golay, Anal. Chem.
    36, 1964), which keep it, and counts from four times their noise on: 9/4 of a sample's variance over so many samples.
    """
    width = 0
    if math.isfinite(rise):
        width = min(int(0.5 * rise / float(np.median(np.diff(time)))), len(relative) - 1) // 2 * 2 + 1
    calm = scipy.signal.savgol_filter(relative, width, 3) if width >= _LEAST_WIDTH else relative
    peak = float(np.max(calm[time >= 0], initial=0.0)) - 1
    left = math.sqrt(2.25 / width) if width >= _LEAST_WIDTH else 1.0
    return peak if peak > 4 * left * noise(relative[time >= 0]) else 0.0


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
