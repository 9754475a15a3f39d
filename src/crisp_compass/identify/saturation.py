"""Inductance against current: a saturation curve from steps or a sweep that reach different currents.

Model. Between two terminals the flux obeys dλ/dt = v − R·i − c, and saturating iron is described by

    λ(i) = L∞·i + (L0 − L∞)·s·atan(i/s),      dλ/di = L∞ + (L0 − L∞)/(1 + (i/s)²)

the Lorentzian form whose incremental inductance falls from L0 to L∞ around the current s. The measured voltage,
integrated, is then linear in L∞, L0 − L∞, R, c and the start, for given s; s is found by a search. The integral of
white voltage noise is a random walk on top of white noise: both are whitened together by the innovations filter of
that model (A. C. Harvey, Forecasting, Structural Time Series Models, 1989, 4.1). Noise of the current would bias the
regressors; the current that the fitted curve itself predicts therefore serves as instrument (T. Söderström, P. Stoica,
Instrumental Variable Methods for System Identification, 1983). Jumps of the voltage between two samples carry a free
term with a prior, as in the plain step fit.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import scipy

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise, pile_up, quantum
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, Result
from crisp_compass.identify.circuit import circuit_factor
from crisp_compass.identify.steps import Steps, of_means, prepare_steps, run_covariance
from crisp_compass.quantities import show

_HEADS = 7  # L∞, L0 − L∞, knee, R, offset of the voltage, start, offset of the current
_MOST = 40_000


@dataclass(frozen=True)
class SaturationResult(Result):
    """The curve with what a plot needs.

    ``time``, ``voltage``, ``current``, ``model``, ``residual`` (n,): s, V, A, A, A; ``curve_current`` (k,) A peak along
    the axis and ``curve_inductance`` (k,) H, incremental, phase of the star.
    """

    time: FloatArray
    voltage: FloatArray
    current: FloatArray
    model: FloatArray
    residual: FloatArray
    curve_current: FloatArray
    curve_inductance: FloatArray


@dataclass(frozen=True)
class _Fit:
    values: FloatArray  # L∞, L0 − L∞, knee, R, c, i0, o, flux missed at each edge
    model: FloatArray  # (n,) A
    fade: FloatArray  # (n,) what is left of a deviation after one sample
    jacobian: FloatArray  # (n, 6 + edges)
    cost: float


@without_gaps
def fit_saturation(capture: Capture) -> SaturationResult:
    """Estimate the saturation curve from ``v_ab`` and ``i_a``, rotor held, current up to where the iron saturates.

    Returns
    -------
    SaturationResult
        ``inductance`` [H] at no current, ``inductance_at_peak`` [H] incremental at the largest current seen,
        ``saturated_inductance`` [H] far beyond the knee, ``saturation_current`` [A peak along the axis] where half the
        difference is gone, ``resistance`` [Ω]; all per phase of the star.

    Raises
    ------
    Refusal
        Missing, constant or clipped channel; no sign of saturation.
    """
    v, i = capture.require("v_ab", "i_a", samples=60)
    if pile_up(i).mean() > 0.02 and float(np.ptp(i)) > 0 and quantum(i) and noise(i[~pile_up(i)]) > 2 * quantum(i):
        raise Refusal("i_a is cut off at the end of its range", "use a larger range", where=capture.source)
    data = _thin(prepare_steps(capture.time, v, i, means=of_means(capture)))
    factor = circuit_factor(capture)
    peak = float(np.max(np.abs(scipy.ndimage.median_filter(data.i, 5))))
    sigma = max(noise(data.i), 1e-7 * float(np.ptp(data.i)))
    findings = list(capture.findings)
    widths = _widths(data, findings)
    try:
        starts, flat = _starts(data, peak), _starts(data, math.inf)[0]
    except Refusal as refusal:
        raise refusal.at(capture.source) from None
    fit = min((_fit(data, x, widths, sigma) for x in starts), key=lambda f: f.cost)
    straight = _fit(data, flat, widths, sigma)
    if straight.cost - fit.cost < 25 or fit.values[1] <= 0:
        raise Refusal(
            f"no saturation shows up to {show(peak, 'A')}",
            "the inductance is one number there; go to a larger current if the drive will",
            where=capture.source,
        )
    residual = data.i - fit.model
    excess = float(np.std(residual)) / math.hypot(sigma, _through(data, fit))
    covariance = _covariance(data, fit, widths)
    if excess > 1.4 and float(np.std(residual)) > 1e-4 * float(np.ptp(data.i)):
        text = f"The curve leaves {100 * float(np.std(residual)) / float(np.ptp(data.i)):.2g} % of the current unexplained: the rotor moved, or eddy currents; the error bar is widened."
        findings.append(Finding("caution", "model-does-not-fit", text))
        covariance = covariance * (2 * excess) ** 2
    peak = float(np.max(np.abs(fit.model - fit.values[6])))
    estimates = _estimates(fit, covariance, peak, factor, findings=findings)
    reach = 2 / math.sqrt(3) if factor == 2.0 else 1.0
    grid = np.linspace(0.0, peak, 120)
    curve = (fit.values[0] + fit.values[1] / (1 + (grid / fit.values[2]) ** 2)) / factor
    method = f"flux from the integrated voltage against current, up to {show(peak, 'A')} in the lead; arc-tangent saturation curve"
    return SaturationResult(
        estimates, method, tuple(findings), data.t, voltage=data.v, current=data.i, model=fit.model, residual=residual, curve_current=grid * reach, curve_inductance=curve
    )


def _thin(data: Steps) -> Steps:
    if len(data.t) > _MOST:
        raise Refusal(
            f"{len(data.t)} samples are more than a saturation capture needs",
            f"keep at most {_MOST} around the steps",
        )
    return data


def _flux(data: Steps) -> FloatArray:
    """Return ∫v dt (n,), exact for a voltage whose curve between samples is known to third order."""
    h = data.dt / data.upsample
    if data.means:
        return np.asarray(np.concatenate([[0.0], np.cumsum(data.smooth[1:])]) * h)
    whole = np.concatenate([[0.0], np.cumsum(0.5 * (data.smooth[1:] + data.smooth[:-1]) * h)])
    return np.asarray(whole[:: data.upsample][: len(data.t)])


def _widths(data: Steps, findings: list[Finding]) -> FloatArray:
    """Return the prior widths (inf: free) of all parameters: the current's offset by the rest before the first step, each edge's instant."""
    first = int(data.edges[0]) if len(data.edges) else 0
    at_rest = first >= 5 and abs(float(np.mean(data.v[:first]))) < 0.03 * float(np.ptp(data.v))
    if at_rest:
        step = quantum(data.i)
        rest = float(np.std(data.i[:first])) or step / math.sqrt(12)
        offset = math.hypot(rest / math.sqrt(first), step / math.sqrt(12) if rest < 0.5 * step else 0.0)
    else:
        offset = 5e-3 * float(np.ptp(data.i))
        text = "The capture does not begin at rest, so an offset of the current cannot be separated from magnetisation: begin with the supply off."
        findings.append(Finding("caution", "no-rest", text))
    edges = [abs(data.v[e + 1] - data.v[e]) * data.dt / math.sqrt(12) for e in data.edges]
    return np.array([*[math.inf] * (_HEADS - 1), max(offset, 1e-12), *np.maximum(edges, 1e-30)])


def _starts(data: Steps, peak: float) -> list[FloatArray]:
    """Return start values from the integrated voltage, linear for each knee tried; one inductance where ``peak`` is infinite."""
    first = int(data.edges[0]) + 1 if len(data.edges) else 0
    offset = float(np.mean(data.i[:first])) if first >= 5 else 0.0
    flux, i = _flux(data), data.i - offset
    charge = np.concatenate([[0.0], np.cumsum(0.5 * (i[1:] + i[:-1]) * data.dt)])
    others = [charge, data.t, np.ones_like(i)]
    tries: list[tuple[float, FloatArray]] = []
    for knee in np.geomspace(0.2 * peak, 4 * peak, 12) if math.isfinite(peak) else (math.inf,):
        curve = [i, knee * np.arctan(i / knee)] if math.isfinite(knee) else [i]
        design = np.column_stack([*curve, *others])
        scale = np.linalg.norm(design, axis=0)
        normed, *_ = np.linalg.lstsq(design / scale, flux, rcond=None)
        misfit = float(np.sum((flux - design / scale @ normed) ** 2))
        solved = normed / scale
        whole = float(solved[0] + solved[1]) if math.isfinite(knee) else float(solved[0])
        if not (whole > 0 and math.isfinite(whole)):
            continue
        # a curve that bends the wrong way starts as one that hardly bends; the fit then says there is none
        low = min(max(float(solved[0]), 0.02 * whole), 0.98 * whole)
        head = [low, whole - low, knee]
        head = head if math.isfinite(knee) else [whole, 0.0, 1e12]
        tail = [max(float(solved[-3]), 1e-9), float(solved[-2]), float(np.median(i[:3])), offset]
        tries.append((misfit, np.array([*head, *tail, *np.zeros(len(data.edges))])))
    if not tries:
        raise Refusal("the current does not answer the voltage as an inductance does", "check channels and signs")
    tries.sort(key=lambda found: found[0])
    return [values for _, values in tries[:4:3]]


def _fit(data: Steps, start: FloatArray, widths: FloatArray, sigma: float) -> _Fit:
    """Fit all parameters (trust-region least squares; M. A. Branch, T. F. Coleman, Y. Li, SIAM J. Sci. Comput. 21, 1999, 1–23)."""
    free = np.ones(len(start), dtype=np.bool_)
    free[1:3] = start[1] != 0.0
    centre = np.zeros(len(start))
    centre[6] = start[6]
    held = 1 / widths  # 0 where free
    kept = held > 0
    last: list[_Fit] = []

    def run(x: FloatArray) -> _Fit:
        values = start.copy()
        values[free] = x
        if not last or not np.array_equal(last[-1].values, values):
            last[:] = [_run(data, values)]
        return last[-1]

    def rest(x: FloatArray) -> FloatArray:
        fit = run(x)
        return np.concatenate([(fit.model - data.i) / sigma, ((fit.values - centre) * held)[kept]])

    def slope(x: FloatArray) -> FloatArray:
        return np.vstack([run(x).jacobian / sigma, np.diag(held)[kept]])[:, free]

    low, high = np.full(len(start), -math.inf), np.full(len(start), math.inf)
    low[:4] = 1e-3 * start[0], 0.0, 1e-3 * start[2], 0.0
    high[2] = 50 * start[2]
    found = scipy.optimize.least_squares(
        rest, start[free], jac=slope, bounds=(low[free], high[free]), x_scale="jac", ftol=1e-9, xtol=1e-9, max_nfev=40
    )
    return replace(run(found.x), cost=2 * float(found.cost))


def _run(data: Steps, values: FloatArray) -> _Fit:
    """Drive the curve with the measured voltage and carry every parameter's sensitivity along."""
    slope, bend, s, r, c, i = (float(x) for x in values[:6])
    h, n = data.dt, len(data.t)
    far = 1e4 * float(np.max(np.abs(data.i)))
    v = data.v.tolist()
    flux = np.diff(_flux(data)).tolist()
    jumps = dict(zip((int(e) for e in data.edges), values[_HEADS:].tolist(), strict=True))
    model = [i]
    for k in range(n - 1):
        rate = (v[k] - r * i - c) / (slope + bend / (1 + (i / s) ** 2))
        # λ(i⁺) − λ(i) = ∫v − R·∫i − c·h − what the edge misses
        known = slope * i + bend * s * math.atan(i / s) + flux[k] - jumps.get(k, 0.0) - c * h - 0.5 * r * h * i
        x = i + (0.0 if k in jumps else rate * h)
        for _ in range(3):
            x = max(min(x, far), -far)
            local = slope + bend / (1 + (x / s) ** 2)
            bow = 0.0 if k in jumps else r * h * h / 12 * ((v[k + 1] - r * x - c) / local - rate)
            x -= (slope * x + bend * s * math.atan(x / s) + 0.5 * r * h * x - bow - known) / (local + 0.5 * r * h)
        i = max(min(x, far), -far)  # a trial step of the search may diverge; its cost then is large, and that is all
        model.append(i)
    current = np.array(model)
    inductance = slope + bend / (1 + (current / s) ** 2)
    across = inductance[1:] + 0.5 * r * h
    fade = (inductance[:-1] - 0.5 * r * h) / across
    ratio = current / s
    curves = np.column_stack([current, s * np.arctan(ratio), bend * (np.arctan(ratio) - ratio / (1 + ratio**2))])
    force = np.zeros((n - 1, len(values)))
    force[:, :3] = -np.diff(curves, axis=0)
    force[:, 3] = -0.5 * h * (current[1:] + current[:-1])
    force[:, 4] = -h
    force[np.asarray(data.edges, dtype=int), _HEADS + np.arange(len(data.edges))] = -1.0
    force /= across[:, None]
    jacobian = np.zeros((n, len(values)))
    jacobian[0, 5] = 1.0
    row = jacobian[0].copy()
    for k, left in enumerate(fade.tolist()):
        row = left * row + force[k]
        jacobian[k + 1] = row
    jacobian[:, 6] = 1.0
    return _Fit(values, current + values[6], np.append(fade, 0.0), jacobian, cost=0.0)


def _backward(gain: FloatArray, fit: _Fit) -> FloatArray:
    """Return how each interval's flux moves the estimates (p, n − 1), given how each sample's current does (p, n)."""
    slope, bend, s = fit.values[:3]
    out = np.zeros((len(gain), gain.shape[1] - 1))
    row = np.zeros(len(gain))
    for k in range(gain.shape[1] - 2, -1, -1):
        row = gain[:, k + 1] + fit.fade[k + 1] * row
        out[:, k] = row
    return np.asarray(out / (slope + bend / (1 + ((fit.model[1:] - fit.values[6]) / s) ** 2)))


def _through(data: Steps, fit: _Fit) -> float:
    """Standard deviation [A] of the model current caused by white voltage noise."""
    inductance = fit.values[0] + fit.values[1] / (1 + (fit.model / fit.values[2]) ** 2)
    return (
        noise(data.v) * math.sqrt(data.dt / (2 * fit.values[3] * float(np.mean(inductance))))
        if fit.values[3] > 0
        else 0.0
    )


def _covariance(data: Steps, fit: _Fit, widths: FloatArray) -> FloatArray:
    """Covariance of (L∞, L0 − L∞, knee, R)."""
    scale = np.linalg.norm(fit.jacobian, axis=0)
    scale[scale == 0] = 1.0
    weighted = fit.jacobian / scale
    level = max(noise(data.i - fit.model), 1e-7 * float(np.ptp(data.i)))
    held = level / widths / scale
    inverse = np.linalg.pinv(weighted.T @ weighted + np.diag(held**2), rcond=1e-15)
    covariance = level**2 * (inverse / np.outer(scale, scale))[:4, :4]
    gain = ((inverse @ weighted.T) / scale[:, None])[:4]
    on_flux = _backward(gain, fit)
    on_voltage = np.zeros_like(gain)
    on_voltage[:, :-1] += 0.5 * data.dt * on_flux
    on_voltage[:, 1:] += 0.5 * data.dt * on_flux
    covariance += noise(data.v) ** 2 * (on_voltage @ on_voltage.T)
    covariance += run_covariance(data.v, on_voltage, quantum(data.v), noise(data.v))
    return np.asarray(covariance + run_covariance(data.i, gain, quantum(data.i), level))


def _estimates(
    fit: _Fit, covariance: FloatArray, peak: float, factor: float, findings: list[Finding]
) -> dict[str, Estimate]:
    low, bend, s, r = (float(x) for x in fit.values[:4])
    share = 1 / (1 + (peak / s) ** 2)
    by_knee = bend * 2 * (peak / s) ** 2 / s * share**2
    reach = 2 / math.sqrt(3) if factor == 2.0 else 1.0  # of the current vector to the lead's current
    gradients = {
        "inductance": (low + bend, "H", np.array([1.0, 1.0, 0.0, 0.0]), 1 / factor),
        "inductance_at_peak": (low + bend * share, "H", np.array([1.0, share, by_knee, 0.0]), 1 / factor),
        "saturated_inductance": (low, "H", np.array([1.0, 0.0, 0.0, 0.0]), 1 / factor),
        "saturation_current": (s, "A", np.array([0.0, 0.0, 1.0, 0.0]), reach),
        "resistance": (r, "Ω", np.array([0.0, 0.0, 0.0, 1.0]), 1 / factor),
    }
    estimates = {}
    for name, (value, unit, gradient, scale) in gradients.items():
        u = math.sqrt(max(float(gradient @ covariance @ gradient), 0.0))
        estimates[name] = Estimate.from_u(value, unit, u).scaled(scale)
    zero, full = estimates["inductance"], estimates["inductance_at_peak"]
    text = f"The iron saturates: {show(zero.value, 'H')} without current, {show(full.value, 'H')} at {show(reach * peak, 'A')} peak ({100 * (1 - full.value / zero.value):.2g} % less)."
    findings.append(Finding("info", "saturation", text))
    if s > 1.5 * peak:
        text = "The current stays well below the knee: the curve holds up to the current seen, not beyond."
        findings.append(Finding("caution", "knee-not-reached", text))
    return estimates
