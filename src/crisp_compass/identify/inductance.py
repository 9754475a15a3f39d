"""Phase inductance and resistance from voltage steps (or any other voltage that moves) on a held rotor.

Model. Between two terminals, third open: v_ab = 2·R·i + 2·L·di/dt. With a = R/L and g = 1/(2L) the current is

    i(t) = g·∫ e^(−a(t−s)) v(s) ds + c0 + c1·(1 − e^(−a(t−t0)))/a

where c0, c1 take up the initial current and the offsets of both channels. Of one winding or an armature R and L stand once;
brushes take V0·sign(i) from the voltage, one more column whose shape the measured current tells. The measured voltage itself drives the
model, so a sagging supply, an unknown trigger instant or many steps need no special case. Where the voltage jumps
between two samples, the instant is unknown by half a sample; each jump therefore carries a free decaying term whose
size is bounded by a Gaussian prior of that width. For given a everything else is linear; a is found by a search
(variable projection: G. H. Golub, V. Pereyra, SIAM J. Numer. Anal. 10, 1973, 413–432).

Uncertainty: linear propagation (JCGM 100:2008, 5.1) of current noise, of voltage noise through the model, and of
converter steps that noise does not dither out.
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
from crisp_compass.estimates import BoolArray, Estimate, Finding, FloatArray, Result
from crisp_compass.identify.circuit import Terminals, family_of_capture, terminals_of
from crisp_compass.identify.eddy import EddyFit, fit_eddy
from crisp_compass.identify.guard import solvable
from crisp_compass.identify.relaxation import relax_back
from crisp_compass.identify.steps import (
    Steps,
    driven,
    dropped,
    of_means,
    prepare_steps,
    restarted,
    run_covariance,
    ties,
    with_drop,
)
from crisp_compass.quantities import show

#: Drop of brushes and its standard deviation, V (common practice: 0.2 to 1.5 V a motor); it counts only where the capture tells less.
_DROP, _DROP_U = 0.7, 0.4
#: Voltage below which a current at rest stays there whatever the brushes are, V.
_LEAST_DROP = 0.15
#: Standard deviation of a voltage channel's offset, of what the channel shows (common practice).
_OFFSET_U = 0.01
#: What the brushes add to the uncertainty, over that of the noise: of 100 motors behind a switch with its diode 94 % were held without it.
_BRUSHES = 0.5
#: A column this much smaller than the largest is none.
_NOTHING = 1e-12
#: How far a rough R/L may be off.
_NEAR = 4.0
#: Real brushes drop their voltage over a range of current: what share of the drop, over the voltage, goes into R for it, and at least.
_KNEE, _KNEE_LEAST = 0.14, 0.008

#: Per cent of the current that is not worth a word when it is left unexplained.
_NOTHING = 0.01


@dataclass(frozen=True)
class InductanceResult(Result):
    """Inductance with what a plot needs: ``time`` [s], measured ``current``, ``model`` and ``residual`` [A], all (n,)."""

    time: FloatArray
    voltage: FloatArray
    current: FloatArray
    model: FloatArray
    residual: FloatArray
    channels: tuple[str, str] = ("v_ab", "i_a")


@solvable
@without_gaps
def fit_inductance(capture: Capture, *, family: str | None = None) -> InductanceResult:
    """Estimate L and R of one phase from ``v_ab`` and ``i_a`` with the rotor held.

    Parameters
    ----------
    capture
        Of a stepper ``v_a`` and ``i_a`` or ``v_b`` and ``i_b``, of a brushed motor ``v_m`` and ``i_m``.
    family
        ``pm``, ``stepper``, ``brushed`` or ``induction``; without it what the capture's note says, else ``pm``.

    Returns
    -------
    InductanceResult
        ``inductance`` [H] and ``resistance`` [Ω], phase of the star; winding; armature.

    Raises
    ------
    Refusal
        Missing or constant channel, too few samples, no voltage change, current that does not answer, sampling
        too slow for the winding.
    """
    at = terminals_of(capture, family_of_capture(capture, family))
    v, i = capture.require(at.voltage, at.current, samples=30)
    findings = list(capture.findings)
    if pile_up(v).any() and _truly_clipped_voltage(v):
        raise Refusal(f"{at.voltage} is cut off at the end of its range", "use a larger range", where=capture.source)
    data = prepare_steps(capture.time, v, i, means=of_means(capture))
    suspects = pile_up(i)
    # free terms at many edges, each as wide as it likes, could stand in for the whole winding beside a drop that is not known yet
    rate, gain = _rough(data) if at.brushes else (0.0, 0.0)
    if at.brushes and not (rate > 0 and gain > 0):
        raise _reversed(at, capture.source)
    fit = None if at.brushes else _search(data, at, capture.source)
    drop, even = min(_DROP, 0.5 * float(np.max(np.abs(v)))), data.weight
    least = min(_LEAST_DROP, 0.1 * float(np.max(np.abs(v))))
    for _ in range(4 if at.brushes else 0):  # whether the current rests depends on the drop
        data = with_drop(data, even, drop)
        fit = _search(data, at, capture.source, fit.g if fit else gain, about=fit.a if fit else rate)
        before, drop = drop, max(-float(fit.coefficients[3]) / fit.g, least)
        if abs(drop - before) < 0.01 * drop:
            break
    assert fit is not None
    late = _lateness(fit)
    if late > 1.4:  # edges later than half a sample explains: a slow probe, or eddy currents too quick to be seen
        data = replace(data, edge_doubt=2 * late)
        fit = _search(data, at, capture.source, fit.g if at.brushes else 0.0, about=fit.a if at.brushes else 0.0)
    if suspects.any() and _misfit(data, fit) and len(suspects) == len(data.t):
        data, fit = _decide_clipping(data, fit, suspects, findings, at=at, source=capture.source)
    eddy = fit_eddy(data, fit.a, fit.g, fit.cost) if data.sign is None else None
    model = fit.model if eddy is None else eddy.model
    residual = data.i - model
    estimates = _estimates(data, fit, residual, findings) if eddy is None else _with_eddy(data, eddy, findings)
    estimates = {name: estimate.scaled(2 / at.factor) for name, estimate in estimates.items()}
    if at.brushes:  # when the brushes let go is part of the model, and known less well than the noise says
        share = _one_level(data)
        estimates = {n: e.widened(math.hypot(_BRUSHES * e.u, share * abs(e.value))) for n, e in estimates.items()}
        soft = math.hypot(_KNEE * drop / float(np.max(np.abs(v))), _KNEE_LEAST)
        estimates["resistance"] = estimates["resistance"].widened(soft * abs(estimates["resistance"].value))
        if share > 0:
            text = f"While current flows the voltage keeps one level, so the brushes' drop cannot be told from the resistance; a usual one, {_DROP:g} V, is presumed, and the bars are widened for it. Switch the voltage off while current flows, or take both directions."
            findings.append(Finding("caution", "brush-drop-presumed", text))
    edges = len(data.edges) if data.own_edges is None else data.own_edges
    kind = f"{edges} voltage step{'s' if edges != 1 else ''}" if edges else "a varying voltage"
    method = f"{kind} on a held rotor; R and L fitted together to the current that the measured voltage drives"
    return InductanceResult(
        estimates, method, tuple(findings), data.t, voltage=data.v, current=data.i, model=model, residual=residual, channels=(at.voltage, at.current)
    )


def _rough(data: Steps) -> tuple[float, float]:
    """Return a = R/L and g = 1/L of an armature roughly, from i = g·∫v − a·∫i − (g·V0)·∫sign i + i(0): integrals average the noise away."""
    flows = np.abs(data.i) > 0.05 * float(np.max(np.abs(data.i)))
    sign = np.where(flows, np.sign(data.i), 0.0)
    whole = [np.concatenate([[0.0], np.cumsum(0.5 * (x[1:] + x[:-1]))]) * data.dt for x in (data.v, -data.i, -sign)]
    answer = np.linalg.lstsq(np.column_stack([*whole, np.ones(len(data.i))]), data.i, rcond=None)[0]
    return float(answer[1]), float(answer[0])


def _reversed(at: Terminals, source: str) -> Refusal:
    return Refusal(
        "the current moves against the voltage",
        f"one channel is reversed; map it with a minus sign ({at.current}=-{at.current})",
        where=source,
    )


def _truly_clipped_voltage(v: FloatArray) -> bool:
    """A stepped supply rests at its highest value; a clipped sine does not rest and jumps between few values."""
    flags = pile_up(v)
    share = float(np.mean(flags))
    inside = v[~flags]
    if share > 0.9 or not len(inside):
        return False
    # a step leaves few samples between its levels, a clipped wave many
    low, high = float(np.min(v)), float(np.max(v))
    between = (v > low + 0.15 * (high - low)) & (v < high - 0.15 * (high - low))
    moved = np.abs(v[4:] - v[:-4])[between[2:-2]]  # a level between two others rests, a wave moves
    resting = float(np.mean(moved < 6 * max(noise(v), quantum(v)))) if len(moved) else 1.0
    return bool(np.mean(between) > 0.2 and resting < 0.5 and noise(inside) > 0)


@dataclass(frozen=True)
class _Fit:
    a: float
    g: float
    coefficients: FloatArray
    basis: FloatArray
    model: FloatArray
    cost: float
    prior: FloatArray


def _basis(data: Steps, a: float) -> FloatArray:
    t = data.t
    decay = np.exp(-a * t)
    free = (1 - decay) / a if a > 1e-9 else t.copy()
    columns = [driven(data, a), np.ones_like(t), free]
    if data.sign is not None:
        columns.append(dropped(data, a))
    if len(data.rests):
        columns.append(decay)
    for edge in data.edges:
        after = np.zeros_like(t)
        after[edge + 1 :] = np.exp(-a * (t[edge + 1 :] - t[edge + 1]))
        columns.append(after)
    basis = np.column_stack(columns)
    if len(data.rests):
        basis = restarted(data, a, basis)
        basis[:, 1] = 1.0  # the current channel's offset stays
    return basis


def _solve(data: Steps, a: float, g_guess: float, sigma: float) -> _Fit:
    """Solve the linear part for given a; edge terms carry their prior as extra rows."""
    basis = _basis(data, a)
    scale = np.linalg.norm(basis, axis=0)
    scale[scale <= _NOTHING * scale.max()] = 1.0  # an edge within a rest moves nothing
    weighted = basis * data.weight[:, None] / scale
    prior = data.edge_widths(g_guess)
    gram = weighted.T @ weighted
    tie = ties(prior, sigma)
    head = data.heads
    gram[head:, head:] += np.diag((tie / scale[head:]) ** 2)
    usual = _usual(data, g_guess, sigma, len(gram)) / scale
    gram += usual.T @ usual
    right = weighted.T @ (data.i * data.weight)
    if data.sign is None:
        coefficients = np.linalg.solve(gram + 1e-13 * np.eye(len(gram)), right) / scale
    else:  # brushes can be hard to tell from resistance: no normal equations, which would lose half the digits
        held = np.zeros((len(tie), len(gram)))
        held[:, head:] = np.diag(tie / scale[head:])
        rows = np.vstack([weighted, held, usual])
        seen = np.concatenate([data.i * data.weight, np.zeros(len(rows) - len(data.i))])
        coefficients = np.linalg.lstsq(rows, seen, rcond=1e-13)[0] / scale
    model = basis @ coefficients
    penalty = float(np.sum((coefficients[head:] * tie) ** 2))
    cost = (
        float(np.sum(((data.i - model) * data.weight) ** 2))
        + penalty
        + float(np.sum((usual * scale @ coefficients) ** 2))
    )
    if data.sign is not None and g_guess > 0 and coefficients[0] <= 0:
        cost *= 1e6  # the plain fit has told the sign; where drop and offset can stand in for the winding it must not turn
    return _Fit(a, float(coefficients[0]), coefficients, basis, model=model, cost=cost, prior=prior)


def _one_level(data: Steps) -> float:
    """Return the relative standard uncertainty of R and L where the current flows one way under one level of voltage only, else 0."""
    flowing = np.abs(data.i) > 0.1 * float(np.max(np.abs(data.i)))
    v, i = data.v[flowing], data.i[flowing]
    if len(v) < 10 or (i.min() < 0 < i.max()):
        return 0.0
    low, high = (float(x) for x in np.quantile(np.abs(v), (0.02, 0.98)))
    level = float(np.median(np.abs(v)))
    if high - low > 0.2 * level + 6 * noise(data.v):
        return 0.0
    return _DROP_U / max(level - _DROP, _DROP_U)


def _usual(data: Steps, g: float, sigma: float, columns: int) -> FloatArray:
    """Return the rows (2, columns) that hold the brushes' drop and the voltage's offset to what is usual: a single rise from rest
    tells neither from R."""
    rows = np.zeros((2, columns))
    if data.sign is not None and g > 0:
        rows[0, 3] = sigma / (g * _DROP_U)
        rows[0, 0] = rows[0, 3] * _DROP
    if len(data.rests) and g > 0:
        rows[1, 2] = sigma / (g * _OFFSET_U * float(np.ptp(data.v)))
    return rows


def _lateness(fit: _Fit) -> float:
    """Rms of the edges' terms over the width that the unknown instant allows; 1 is expected."""
    known = fit.prior > 0
    edges = fit.coefficients[len(fit.coefficients) - len(fit.prior) :]
    size = np.abs(edges[known]) / fit.prior[known]
    return float(np.sqrt(np.mean(size**2))) if len(size) else 0.0


def _search(data: Steps, at: Terminals, source: str, guess: float = 0.0, about: float = 0.0) -> _Fit:
    """Find the best a; ``guess`` is what is known of g before: the widths of the jumps and the brushes' usual drop need it. ``about``
    is what is known of a."""
    duration = float(data.t[-1])
    low_half, high_half = np.quantile(data.v, (0.02, 0.98))
    # a drive's own square wave may turn so often that a noise told by differences sees nothing else
    unclear = 6 * noise(data.v) if not data.means else 0.0
    if not float(high_half - low_half) > unclear:
        raise Refusal(
            f"{at.voltage} shows no step above its noise",
            "a voltage step of at least ten times the noise is needed",
            where=source,
        )
    sigma = max(noise(data.i), 1e-6 * float(np.ptp(data.i)))
    low, high = math.log(0.02 / duration), math.log(4.0 / data.dt)
    thin = _thinned(data)
    grid = np.linspace(low, high, 40)
    if about > 0:
        grid = np.linspace(max(math.log(about / _NEAR), low), min(math.log(about * _NEAR), high), 16)
    costs = np.array([_solve(thin, math.exp(x), guess, sigma).cost for x in grid])
    best = int(np.argmin(costs))
    for _ in range(2):  # the prior of the jumps needs g, which the first pass gives
        if not guess > 0 or data.sign is None:
            guess = _solve(data, math.exp(grid[best]), guess, sigma).g
        left, right = grid[max(best - 1, 0)], grid[min(best + 1, len(grid) - 1)]
        found = scipy.optimize.minimize_scalar(
            lambda x, known=guess: _solve(data, math.exp(x), known, sigma).cost,
            bounds=(left, right),
            method="bounded",
            options={"xatol": 1e-7},
        )
        fit = _solve(data, math.exp(float(found.x)), guess, sigma)
        if data.sign is not None:
            guess = fit.g
    if best >= len(grid) - 2 and grid[-1] >= high:
        raise Refusal(
            "the current follows the voltage within one sample",
            "sample faster: at least 5 samples within L/R are needed",
            where=source,
        )
    if fit.g <= 0:
        raise _reversed(at, source)
    answer = float(np.std(fit.g * fit.basis[:, 0]))
    if answer < 3 * sigma:
        raise Refusal(
            "the current does not answer the voltage above its noise",
            "use a larger step or a finer current range",
            where=source,
        )
    return fit


def _thinned(data: Steps) -> Steps:
    """A shortened copy for the coarse search when there are very many samples."""
    if len(data.t) * (data.heads + len(data.edges)) < 400_000 or not len(data.edges):
        return data
    return replace(data, edges=data.edges[:0], jumps=None if data.jumps is None else data.jumps[:0])


def _misfit(data: Steps, fit: _Fit) -> bool:
    """Tell whether the model, fitted to every sample, leaves more than noise."""
    residual = data.i - fit.model
    return float(np.std(residual)) > max(1.3 * noise(residual), 5e-4 * float(np.ptp(data.i)))


def _decide_clipping(
    data: Steps, fit: _Fit, suspects: BoolArray, findings: list[Finding], at: Terminals, source: str
) -> tuple[Steps, _Fit]:
    """Clipped current lies short of what the model, fitted without it, predicts; a settled level does not."""
    kept = replace(data, weight=data.weight * ~suspects)
    known = (fit.g, fit.a) if at.brushes else ()
    without = _search(kept, at, source, *known)
    middle = float(np.mean(data.i))
    least = max(3 * noise(data.i[~suspects]), 0.02 * float(np.ptp(data.i)))
    clipped = False
    for side in (1.0, -1.0):
        rail = suspects & (side * (data.i - middle) > 0)
        clipped = clipped or bool(rail.any() and float(np.mean(side * (without.model[rail] - data.i[rail]))) > least)
    if not clipped:
        return data, fit
    share = float(np.mean(suspects))
    if share > 0.7:
        raise Refusal(f"{at.current} is cut off at the end of its range", "use a larger range", where=source)
    findings.append(
        Finding(
            "caution",
            "clipped-part-left-out",
            f"{at.current} is cut off at the end of its range in {100 * share:.0f} % of the samples; they were left out.",
        )
    )
    return kept, without


def _estimates(data: Steps, fit: _Fit, residual: FloatArray, findings: list[Finding]) -> dict[str, Estimate]:
    used = data.weight > 0
    sigma = max(noise(residual[used]), 1e-7 * float(np.ptp(data.i)))
    step = 1e-4 * fit.a
    slope = (_basis_model(data, fit, fit.a + step) - _basis_model(data, fit, fit.a - step)) / (2 * step)
    jacobian = np.column_stack([slope, fit.basis])
    scale = np.linalg.norm(jacobian, axis=0)
    scale[scale <= _NOTHING * scale.max()] = 1.0  # an edge within a rest moves nothing
    weighted = jacobian * data.weight[:, None] / scale
    gram = weighted.T @ weighted
    head = data.heads + 1
    gram[head:, head:] += np.diag((ties(fit.prior, sigma) / scale[head:]) ** 2)
    usual = np.column_stack([np.zeros(2), _usual(data, fit.g, sigma, len(gram) - 1)]) / scale
    gram += usual.T @ usual
    if data.sign is None:
        inverse = np.linalg.pinv(gram, rcond=1e-15)
    else:
        held = np.zeros((gram.shape[0] - head, len(gram)))
        held[:, head:] = np.diag(ties(fit.prior, sigma) / scale[head:])
        inverse = _told(data, fit.a, np.vstack([weighted, held]), usual, scale=scale[1])
    gain = ((inverse @ weighted.T) * data.weight / scale[:, None])[:2]  # d(a, g)/d(current), shape (2, n)
    posterior = sigma**2 * inverse / np.outer(scale, scale)
    covariance = posterior[:2, :2] + _voltage_part(data, fit, gain) + _undithered(data, gain, residual)
    dof = max(int(used.sum()) - jacobian.shape[1], 1)
    rms = math.sqrt(float(np.sum((residual * data.weight) ** 2)) / dof)
    excess = rms / max(math.hypot(sigma, _voltage_noise_current(data, fit)), 1e-300)
    if excess > 1.4 and rms > 0.01 * _NOTHING * float(np.ptp(data.i)):
        reach = 100 * rms / float(np.ptp(data.i))
        findings.append(
            Finding(
                "caution",
                "model-does-not-fit",
                f"One R and one L leave {reach:.2g} % of the current unexplained: the rotor moved, iron eddy currents or saturation; the error bar is widened.",
            )
        )
        covariance = covariance * (2 * excess) ** 2
    l_grad = np.array([0.0, -1 / (2 * fit.g**2)])
    r_grad = np.array([1 / (2 * fit.g), -fit.a / (2 * fit.g**2)])
    inductance = Estimate.from_u(
        1 / (2 * fit.g), "H", math.sqrt(max(float(l_grad @ covariance @ l_grad), 0.0)), dof=dof
    )
    resistance = Estimate.from_u(
        fit.a / (2 * fit.g), "Ω", math.sqrt(max(float(r_grad @ covariance @ r_grad), 0.0)), dof=dof
    )
    return _checked(inductance, resistance, findings)


def _told(data: Steps, a: float, rows: FloatArray, usual: FloatArray, scale: float) -> FloatArray:
    """Return the inverse information of (a, g, …) from the data's ``rows`` and what is ``usual``; ``scale`` is g's column's.

    The noise of the voltage moves its column but not the current: what it seems to tell of g is taken off again (errors in
    variables; W. A. Fuller, Measurement Error Models, 1987, 1.2), as far as the data tell more than nothing.
    """
    data_only = rows.T @ rows
    told = 1 / max(float(np.linalg.pinv(data_only, rcond=1e-12, hermitian=True)[1, 1]), 1e-300)
    spread = noise(data.v) ** 2 * data.dt / (2 * a) * (1 - np.exp(-2 * a * data.t))
    seeming = float(np.sum(data.weight**2 * spread)) / scale**2
    whole = data_only + usual.T @ usual
    whole[1, 1] -= min(seeming, 0.999 * told)
    return np.asarray(np.linalg.pinv(whole, rcond=1e-14, hermitian=True))


def _checked(inductance: Estimate, resistance: Estimate, findings: list[Finding]) -> dict[str, Estimate]:
    if resistance.u > 0.2 * resistance.value:
        text = "The steps are too short to tell the resistance; take it from a staircase."
        findings.append(Finding("caution", "resistance-not-resolved", text))
    if inductance.u > 0.1 * inductance.value:
        text = "The error bar is wide: use a larger step, more steps or faster sampling."
        findings.append(Finding("caution", "wide-error-bar", text))
    return {"inductance": inductance, "resistance": resistance}


def _with_eddy(data: Steps, eddy: EddyFit, findings: list[Finding]) -> dict[str, Estimate]:
    """Return the slow inductance and say what eddy currents take from it at once."""
    widen = 1.0
    lost = 100 * (1 - eddy.fast / eddy.slow)
    text = f"Iron eddy currents show: {lost:.2g} % of the inductance is missing at first. The value is the slow one; right after an edge the winding shows {show(eddy.fast / 2, 'H')} per phase of the star."
    findings.append(Finding("info", "eddy-currents", text))
    rms = 100 * float(np.std((data.i - eddy.model)[data.weight > 0])) / float(np.ptp(data.i))
    if eddy.excess > 1.5 and rms > _NOTHING:
        text = f"Two time constants still leave {rms:.2g} % of the current unexplained: saturation or a rotor that moved; the error bar is widened."
        findings.append(Finding("caution", "model-does-not-fit", text))
        widen = 2 * eddy.excess
    dof = max(int(np.sum(data.weight > 0)) - 7 - len(data.edges), 1)
    inductance = Estimate.from_u(eddy.slow / 2, "H", widen * eddy.slow_u / 2, dof=dof)
    resistance = Estimate.from_u(eddy.resistance / 2, "Ω", widen * eddy.resistance_u / 2, dof=dof)
    return _checked(inductance, resistance, findings)


def _basis_model(data: Steps, fit: _Fit, a: float) -> FloatArray:
    return np.asarray(_basis(data, a) @ fit.coefficients, dtype=np.float64)


def _voltage_noise_current(data: Steps, fit: _Fit) -> float:
    """Standard deviation [A] of the model current caused by white voltage noise."""
    return fit.g * noise(data.v) * math.sqrt(data.dt / (2 * fit.a)) if fit.a * data.t[-1] > 1 else 0.0


def _voltage_part(data: Steps, fit: _Fit, gain: FloatArray) -> FloatArray:
    """Covariance of (a, g) caused by white voltage noise: the gain run backwards through the model."""
    sensitivity = fit.g * relax_back(gain, fit.a, data.dt)
    part: FloatArray = noise(data.v) ** 2 * (sensitivity @ sensitivity.T)
    return part + run_covariance(data.v, sensitivity, quantum(data.v), noise(data.v))


def _undithered(data: Steps, gain: FloatArray, residual: FloatArray) -> FloatArray:
    return run_covariance(data.i, gain, quantum(data.i), noise(residual))
