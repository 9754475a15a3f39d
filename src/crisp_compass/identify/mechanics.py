"""Inertia and friction from a run-up and a coast, or from a coast alone where the inertia is known.

Model. J·dω/dt = Kt·iq − B·ω − C·sign ω. With b = B/J, k = Kt/J, c = C/J the speed of each moving stretch is

    ω(t) = ω0·e^(−b(t−t0)) + ∫ e^(−b(t−s)) (k·iq(s) − c·sign ω(s)) ds

so the measured current itself drives the model and the speed is never differentiated. For given b everything else is
linear; b is found by a search (variable projection: G. H. Golub, V. Pereyra, SIAM J. Numer. Anal. 10, 1973, 413–432).
Where the current jumps between two samples the instant is unknown by half a sample; each jump carries a free term held
by a Gaussian prior of that width. A coast is taken as zero current: whatever the current channel shows there is its offset. Near standstill friction
follows no simple law, so the slowest part is left out. Where it helps beyond chance, a lag of the speed channel is
fitted too (−τ·dω/dt).

Uncertainty: linear propagation (JCGM 100:2008, 5.1) of speed noise and of current noise through the model; where
neighbouring residuals hang together, the scatter of block sums stands in for white noise.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import scipy

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, Estimate, Finding, FloatArray, Result
from crisp_compass.identify.cogging import find_cogging
from crisp_compass.identify.relaxation import relax, relax_back
from crisp_compass.identify.run_up import RunUp, prepare_run_up
from crisp_compass.identify.steps import run_covariance
from crisp_compass.quantities import grouped, show


@dataclass(frozen=True)
class MechanicsResult(Result):
    """Inertia and friction with what a plot needs.

    ``time`` (n,) s, ``speed`` and ``model`` (n,) rad/s (NaN where not used), ``residual`` (n,) rad/s, ``current`` (n,)
    A with its offset removed (zeros without a current), ``coasting`` (n,).
    """

    time: FloatArray
    speed: FloatArray
    model: FloatArray
    residual: FloatArray
    current: FloatArray
    coasting: BoolArray


@dataclass(frozen=True)
class _Fit:
    b: float
    coefficients: FloatArray
    design: FloatArray
    model: FloatArray
    cost: float


@without_gaps
def fit_mechanics(capture: Capture, *, kt: float | None = None, inertia: float | None = None) -> MechanicsResult:
    """Estimate inertia, viscous and Coulomb friction.

    Parameters
    ----------
    capture
        ``speed``, and ``i_q`` unless ``inertia`` is given: an acceleration followed by a coast.
    kt
        Torque constant in N·m per A of phase peak, taken as exact.
    inertia
        Known inertia, kg·m²; then only the coast is evaluated and no current is needed.

    Returns
    -------
    MechanicsResult
        ``inertia`` [kg·m²], ``viscous_friction`` [N·m·s/rad], ``coulomb_friction`` [N·m]; ``cogging_torque`` [N·m]
        where a position-locked ripple stands out.

    Raises
    ------
    Refusal
        Missing or constant channel, no acceleration, no coast, speed that rises against the current.
    """
    findings = list(capture.findings)
    data = prepare_run_up(capture, kt, inertia)
    fit = _search(data)
    for _ in range(2):  # how wide the jumps' terms may be follows from the fit
        slope = float(fit.coefficients[0])
        jumps = tuple(abs(slope * (data.i[e + 1] - data.i[e])) * data.dt / math.sqrt(12) for e in data.edges)
        data = replace(data, edge_width=jumps)
        fit = _search(data, fit.b)
    data, fit = _with_lag(data, fit, findings)
    if data.driven and fit.coefficients[0] <= 0:
        raise Refusal(
            "the speed falls while the current drives", "one channel is reversed; map it with a minus sign (i_q=-i_q)",
            where=capture.source,
        )  # fmt: skip
    residual = np.full(len(data.t), np.nan)
    model = np.full(len(data.t), np.nan)
    position = 0
    for stretch in data.stretches:
        length = stretch.stop - stretch.start
        model[stretch] = fit.model[position : position + length]
        position += length
    residual = data.w - model
    estimates = _estimates(data, fit, kt, inertia, source=capture.source, findings=findings)
    ripple = find_cogging(data.t, data.w, residual, estimates["inertia"].value)
    if ripple is not None:
        estimates["cogging_torque"] = ripple.torque
        text = f"A torque of {show(ripple.torque.value, 'N·m')} repeats {ripple.order} times a turn of the shaft: cogging, or a load that is not round."
        findings.append(Finding("info", "cogging", text))
    top = float(np.nanmax(np.abs(data.w))) * 60 / (2 * math.pi)
    kind = "run-up and coast" if data.driven else "coast with known inertia"
    method = f"{kind} up to {grouped(top)} rpm; speed driven by the measured current, friction and inertia fitted together"
    if not data.driven:
        method = f"{kind} from {grouped(top)} rpm; both frictions fitted together to the falling speed"
    return MechanicsResult(estimates, method, tuple(findings), data.t, speed=data.w, model=model, residual=residual, current=data.i, coasting=data.coasting)


# ---- fitting


def _basis(data: RunUp, b: float) -> FloatArray:
    """Columns: torque per ampere (if driven), Coulomb friction, one start speed per stretch, and the lag."""
    total = sum(s.stop - s.start for s in data.stretches)
    heads = 2 if data.driven else 1
    design = np.zeros((total, data.heads + len(data.edge_width)))
    position = 0
    for number, s in enumerate(data.stretches):
        rows = slice(position, position + s.stop - s.start)
        tau = data.t[s] - data.t[s.start]
        if data.driven:
            design[rows, 0] = relax(data.i[s], b, data.dt)
        sign = np.full(len(tau), float(data.sign[s.start]))
        design[rows, heads - 1] = -relax(sign, b, data.dt)
        design[rows, heads + number] = np.exp(-b * tau)
        for place, edge in enumerate(data.edges):
            if data.edge_width and s.start <= edge < s.stop - 1:
                first = edge + 1 - s.start
                design[position + first : rows.stop, data.heads + place] = np.exp(-b * (tau[first:] - tau[first]))
        position = rows.stop
    return design


def _measured(data: RunUp) -> FloatArray:
    return np.concatenate([data.w[s] for s in data.stretches])


def _solve(data: RunUp, b: float) -> _Fit:
    design = _basis(data, b)
    if data.lag:
        design = np.column_stack([design, _lag_column(data, design)])
    w = _measured(data)
    ties = _ties(data, design.shape[1])
    rows, right = np.vstack([design, ties]), np.concatenate([w, np.zeros(len(ties))])
    scale = np.linalg.norm(rows, axis=0)
    scale[scale == 0] = 1.0
    # the triangle of an orthogonal factoring holds all that the tall system says: many times faster to solve
    triangle = np.asarray(np.linalg.qr(np.column_stack([rows / scale, right]), mode="r"))
    solved, *_ = np.linalg.lstsq(triangle[:, :-1], triangle[:, -1], rcond=1e-12)
    coefficients = solved / scale
    rest = triangle[:, -1] - triangle[:, :-1] @ solved
    return _Fit(b, coefficients, design, design @ coefficients, cost=float(rest @ rest))


def _ties(data: RunUp, columns: int) -> FloatArray:
    """Extra rows (edges, columns) that hold each jump's term to its prior width, scaled to the speed's noise."""
    rows = np.zeros((len(data.edge_width), columns))
    sigma = max(noise(data.w), 1e-7 * float(np.max(np.abs(data.w))))
    for place, width in enumerate(data.edge_width):
        rows[place, data.heads + place] = sigma / max(width, 1e-12)
    return rows


def _lag_column(data: RunUp, design: FloatArray) -> FloatArray:
    """−dω/dt of the model without lag: what a late speed channel adds to first order."""
    w = _measured(data)
    ties = _ties(data, design.shape[1])
    rows, right = np.vstack([design, ties]), np.concatenate([w, np.zeros(len(ties))])
    solved, *_ = np.linalg.lstsq(rows, right, rcond=1e-12)
    model = design @ solved
    parts, position = [], 0
    for s in data.stretches:
        length = s.stop - s.start
        parts.append(-np.gradient(model[position : position + length], data.dt))
        position += length
    return np.concatenate(parts)


def _search(data: RunUp, near: float | None = None) -> _Fit:
    """Search the decay rate b, over all that a capture can tell or around one found before."""
    duration = float(data.t[-1] - data.t[0])
    grid = np.concatenate([[-0.3, -0.1, 0.0], np.geomspace(0.01, 60.0, 30)]) / duration
    if near is not None:
        at = int(np.searchsorted(grid, near))
        grid = grid[max(at - 2, 0) : at + 3]
    costs = np.array([_solve(data, float(b)).cost for b in grid])
    best = int(np.argmin(costs))
    left, right = float(grid[max(best - 1, 0)]), float(grid[min(best + 1, len(grid) - 1)])
    found = scipy.optimize.minimize_scalar(
        lambda b: _solve(data, float(b)).cost,
        bounds=(left, right),
        method="bounded",
        options={"xatol": 1e-7 * max(abs(left), abs(right), 0.01 / duration)},
    )
    return _solve(data, float(found.x))


def _with_lag(data: RunUp, fit: _Fit, findings: list[Finding]) -> tuple[RunUp, _Fit]:
    """Let the speed channel be late where that lowers the cost beyond chance and by more than a tenth."""
    if not data.driven:
        return data, fit
    late = replace(data, lag=True)
    candidate = _search(late, fit.b)
    lag = float(candidate.coefficients[-1])
    if not (candidate.cost < 0.95 * fit.cost and 0.5 * data.dt < lag < 0.2 * float(data.t[-1] - data.t[0])):
        return data, fit
    if fit.cost - candidate.cost < 20 * candidate.cost / len(candidate.model):
        return data, fit
    text = f"The speed channel comes {show(lag, 's', 2)} late (a filter or an averaging tachometer); that was fitted too."
    findings.append(Finding("info", "speed-lags", text))
    return late, candidate


def _estimates(
    data: RunUp, fit: _Fit, kt: float | None, inertia: float | None, source: str, findings: list[Finding]
) -> dict[str, Estimate]:
    residual = _measured(data) - fit.model
    step = 1e-3 * max(abs(fit.b), 0.01 / float(data.t[-1] - data.t[0]))
    plain = data.heads + len(data.edge_width)
    ahead, behind = (_basis(data, fit.b + d) @ fit.coefficients[:plain] for d in (step, -step))
    jacobian = np.column_stack([(ahead - behind) / (2 * step), fit.design])
    scale = np.linalg.norm(jacobian, axis=0)
    scale[scale == 0] = 1.0
    weighted = jacobian / scale
    ties = np.column_stack([np.zeros(len(data.edge_width)), _ties(data, fit.design.shape[1])]) / scale
    inverse = np.linalg.pinv(weighted.T @ weighted + ties.T @ ties, rcond=1e-14)
    dof = max(len(residual) - jacobian.shape[1], 1)
    sigma2 = max(float(residual @ residual) / dof, (1e-7 * float(np.max(np.abs(fit.model)))) ** 2)
    gain = (inverse @ weighted.T) / scale[:, None]
    covariance = sigma2 * inverse / np.outer(scale, scale)
    spread, blocks = _block_covariance(gain, residual)
    # where residuals hang together the block sums scatter more than white noise would
    ratio = np.sqrt(np.maximum(np.diag(spread) / np.maximum(np.diag(covariance), 1e-300), 1.0))
    ratio = np.where(ratio > 1.25, ratio, 1.0)
    covariance = covariance * np.outer(ratio, ratio)
    correlated = float(np.max(ratio[:3])) > 1.25
    if data.driven:
        covariance = covariance + _current_part(data, fit, gain)
    c_at = 2 if data.driven else 1
    b, c = fit.b, float(fit.coefficients[c_at - 1])
    _check_misfit(data, residual, findings)
    t_dof = blocks - 1 if correlated else math.inf
    if data.driven:
        k = float(fit.coefficients[0])
        assert kt is not None
        j = kt / k
        gradients = {
            "inertia": {1: -j / k},
            "viscous_friction": {0: j, 1: -b * j / k},
            "coulomb_friction": {2: j, 1: -c * j / k},
        }
    else:
        assert inertia is not None
        j = inertia
        gradients = {"viscous_friction": {0: j}, "coulomb_friction": {1: j}}
    estimates = {}
    for (name, parts), (value, unit) in zip(
        gradients.items(),
        ([(j, "kg·m²")] if data.driven else []) + [(b * j, "N·m·s/rad"), (c * j, "N·m")],
        strict=True,
    ):
        gradient = np.zeros(len(covariance))
        for place, part in parts.items():
            gradient[place] = part
        u = math.sqrt(max(float(gradient @ covariance @ gradient), 0.0))
        estimates[name] = Estimate.from_u(value, unit, u, dof=t_dof)
    if not data.driven:
        estimates["inertia"] = Estimate(j, "kg·m²", 0.0, j, high=j)
    for name in ("viscous_friction", "coulomb_friction"):
        estimates[name] = _not_negative(estimates[name], name, findings)
    if estimates["inertia"].u > 0.1 * estimates["inertia"].value:
        findings.append(
            Finding(
                "caution",
                "wide-error-bar",
                "The error bar is wide: accelerate harder or capture the speed more finely.",
            )
        )
    return estimates


def _not_negative(estimate: Estimate, name: str, findings: list[Finding]) -> Estimate:
    """Friction cannot drive; a value below zero inside its error bar means none was resolved."""
    if estimate.value >= 0:
        return estimate
    if estimate.high < 0:
        what = name.replace("_", " ")
        text = f"The {what} comes out below zero: the friction does not follow Coulomb plus viscous, or something drives the shaft."
        findings.append(Finding("caution", "friction-law", text))
    return Estimate(0.0, estimate.unit, estimate.u, min(estimate.low, 0.0), high=max(estimate.high, 0.0))


def _block_covariance(gain: FloatArray, residual: FloatArray) -> tuple[FloatArray, int]:
    blocks = int(min(max(len(residual) // 40, 8), 40))
    edges = np.linspace(0, len(residual), blocks + 1).astype(int)[:-1]
    sums = np.add.reduceat(gain * residual, edges, axis=1)
    return np.asarray(sums @ sums.T), blocks


def _current_part(data: RunUp, fit: _Fit, gain: FloatArray) -> FloatArray:
    """Covariance caused by noise and converter steps of the current while it drives, and by the doubt of its offset."""
    part = np.zeros((len(gain), len(gain)))
    sigma = data.i_noise
    active = data.i[~data.coasting]
    still = len(active) > 1 and float(np.mean(np.diff(active) != 0)) < 0.35  # too rare a flicker to dither
    slope = float(fit.coefficients[0])
    offset = np.zeros(len(gain))
    position = 0
    for s in data.stretches:
        length = s.stop - s.start
        sensitivity = slope * relax_back(gain[:, position : position + length], fit.b, data.dt)
        driving = ~data.coasting[s]
        part += sigma**2 * (sensitivity[:, driving] @ sensitivity[:, driving].T)
        if driving.any():
            # a code that flickers now and then hides the same offset before and after: only jumps part plateaus
            jumps = np.abs(np.diff(data.i[s][driving], prepend=0.0)) > 2.5 * data.i_step
            plateaus = np.asarray(2 * data.i_step * np.cumsum(jumps), dtype=np.float64)
            part += run_covariance(plateaus, sensitivity[:, driving], data.i_step, 0.0 if still else sigma)
        offset += sensitivity[:, driving].sum(axis=1)
        position += length
    level = sigma**2 / max(int(data.coasting.sum()), 1)
    # a coast that rests on one code hides up to half a step of offset
    step = data.i_step
    dither = 0.0 if still else max(sigma**2 - step**2 / 12, 0.0)
    level += step**2 / 12 * math.exp(-4 * math.pi**2 * dither / step**2) if step else 0.0
    return part + level * np.outer(offset, offset)


def _check_misfit(data: RunUp, residual: FloatArray, findings: list[Finding]) -> None:
    """Say where a slow remainder is left: the friction follows another law, or the load changed."""
    top = float(np.max(np.abs(data.w)))
    blocks = np.array([float(np.mean(part)) for part in np.array_split(residual, 24)])
    expected = noise(residual) / math.sqrt(len(residual) / 24)
    scatter = float(np.sqrt(np.mean(blocks**2)))
    if scatter > 3 * expected and scatter > 2e-3 * top:
        text = f"The speed strays by {100 * scatter / top:.2g} % of its top from inertia, viscous and Coulomb friction: a fan or propeller load, a changing load, or a current that is not all torque."
        findings.append(Finding("caution", "model-does-not-fit", text))
