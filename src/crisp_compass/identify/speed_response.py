"""Inertia, friction and the delay of the speed measurement from a closed speed loop's steps.

Model. J·dω/dt = Kt·i − B·ω − Tc·sign ω − T, with T piecewise constant: load steps at instants that are found. Integrated once,

    ω(t) = ω(0) + (Kt/J)·∫i − (B/J)·∫ω − (Tc/J)·∫sign ω − Σ (T_k/J)·(t − t_k)⁺,

so the noise of the speed stays white and that of the current is averaged away. The measured speed is the true one later by τ: it
may be dead time, a first-order filter or both; its whole and the filter's share are found by a search. For given τ and t_k everything is linear.
A first inertia comes from the speed around one step of the reference alone, so that unmarked loads cannot stand in for it while they are
looked for.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray, IntArray, Result
from crisp_compass.identify.guard import solvable
from crisp_compass.identify.relaxation import relax

_MOST = 20_000
#: Most load steps that are looked for.
_LOADS = 4
#: What the samples of a current leave open of its course between them, of its integral.
_BETWEEN_SAMPLES = 5e-4
#: Part of a jump of the current whose course between two samples is not known; and what the instants of the loads, chosen by the
#: same data, add to the bars.
_INSIDE, _WIDER = 0.15, 1.6
#: How far a change of slope must stand out of all others, in their spread.
_JUMP = 8.0
#: Part of the cost that a load step must leave at most to be believed.
_NEEDED = 0.6
#: Times the best cost up to which another course of the current between its samples stays possible.
_RIVAL = 4.0
#: Part of the whole friction torque by which the model of a constant and a proportional part may be wrong.
_FRICTION_DOUBT = 0.003
#: Part of the largest speed below which the direction of the friction is not relied on.
_SLOW = 0.02


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


@dataclass(frozen=True)
class _Data:
    t: FloatArray
    w: FloatArray
    charge: FloatArray  # ∫ i dt


@dataclass(frozen=True)
class _Lag:
    """How late the speed is measured, s, and which share of that is a first-order filter's."""

    total: float
    share: float


@dataclass(frozen=True)
class _Fit:
    lag: _Lag
    loads: tuple[int, ...]
    answer: FloatArray
    cost: float
    model: FloatArray
    used: IntArray
    names: tuple[str, ...]


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
        ``inertia`` [kg·m²], ``viscous_friction`` [N·m·s/rad], ``coulomb_friction`` [N·m], ``delay`` [s].

    Raises
    ------
    Refusal
        Missing or constant channels, no step in speed or current, a Kt that cannot be, reversed signs.
    """
    if not (kt > 0 and math.isfinite(kt)):
        raise Refusal(f"{kt:g} cannot be meant", "a torque constant above zero is needed", where="--kt")
    w, i = capture.require("speed", "i_q", samples=60)
    reference = capture["speed_ref"]
    data = _prepare(capture.time, w, i)
    findings = list(capture.findings)
    if float(np.ptp(w)) < 8 * noise(w):
        raise Refusal(
            "the speed hardly changes", "capture a step of the reference or of the load", where=capture.source
        )
    # a current that the firmware sets once a sample is no straight line between two of them: the course that fits best around a
    # step is taken, and how far the others would lead is part of the bars
    courses = [data, *(_prepare(capture.time, w, i, share) for share in (0.0, 1.0))]
    starts = [(c, f) for c in courses if (f := _around_a_step(c, capture.time, reference)) is not None]
    if starts:
        data, first = min(starts, key=lambda pair: pair[1].cost)
        gain = float(first.answer[0])
        steps = [float(capture.time[j] - capture.time[0]) for j in _jumps(reference)]
        start = _move_loads(data, _solve(data, first.lag, _torque_jumps(data, first.lag, gain, steps), gain), gain)
        fit = _needed(data, _search(data, start.loads, first.lag))
    else:
        # the loads first, at a small lag: without them a long one would stand in for them; then again at the lag that this finds
        fit = _search(data, _loads(data, _Lag(2 * float(np.median(np.diff(data.t))), 0.0)))
        again = _search(data, _loads(data, fit.lag))
        fit = _needed(data, again if again.cost < fit.cost else fit)
    tried = [(data, fit), *((c, _search(c, fit.loads, fit.lag)) for c in courses if c is not data)]
    data, fit = min(tried, key=lambda pair: pair[1].cost)
    rivals = [f for _, f in tried if f is not fit and f.cost < _RIVAL * fit.cost]
    gain = float(fit.answer[fit.names.index("gain")])
    if gain <= 0:
        raise Refusal(
            "the speed falls while the current drives it",
            "one channel is reversed; map it with a minus sign (i_q=-i_q)",
            where=capture.source,
        )
    estimates = _estimates(data, fit, rivals, kt, findings)
    overshoot, rise, settling = _step_figures(capture.time, reference, w, findings)
    loads = f", {len(fit.loads)} load step{'s' if len(fit.loads) != 1 else ''} found" if fit.loads else ""
    method = (
        f"speed over {data.t[-1]:.3g} s as driven by the measured current, integrated once{loads}; delay by search"
    )
    used = fit.used
    return SpeedResponse(
        estimates, method, tuple(findings), overshoot, rise, settling, data.t[used], data.w[used], fit.model,
        data.w[used] - fit.model,
    )  # fmt: skip


def _prepare(time: FloatArray, w: FloatArray, i: FloatArray, share: float = 0.5) -> _Data:
    """Return the samples, at most ``_MOST``; between two of them the current's mean is that ``share`` of the later one, the rest of
    the earlier one."""
    t = time - time[0]
    dt = np.diff(t)
    charge = np.concatenate([[0.0], np.cumsum((share * i[1:] + (1 - share) * i[:-1]) * dt)])
    if len(t) > _MOST:
        stride = -(-len(t) // _MOST)
        count = len(t) // stride
        t, w, charge = (x[: count * stride].reshape(count, stride).mean(axis=1) for x in (t, w, charge))
    return _Data(t, w, charge)


def _columns(
    data: _Data, lag: _Lag, loads: tuple[int, ...]
) -> tuple[FloatArray, FloatArray, tuple[str, ...], IntArray]:
    """Return columns (m, k), the measured speed (m,), the columns' names and which samples (m,) are used.

    What the current and the loads do reaches the measured speed later by the dead part of the lag and rounded by its filter; what
    friction does follows the measured speed itself, since the lag of an integral is the integral of what lags.
    """
    dead, filtered = lag.total * (1 - lag.share), lag.total * lag.share
    at = data.t - dead
    used = np.flatnonzero(at >= 0).astype(np.int64)
    at = at[used]
    w = data.w[used]
    step = np.diff(data.t[used], prepend=data.t[used[0]])
    sense = np.clip(w / (_SLOW * float(np.max(np.abs(data.w)))), -1, 1)
    turned, dragged = (np.cumsum(0.5 * (x + np.append(x[:1], x[:-1])) * step) for x in (w, sense))
    # a load steps between two samples: beside its ramp stands what a shift of its instant adds
    interval = float(np.median(np.diff(data.t)))
    driven = [np.interp(at, data.t, data.charge)]
    for k in loads:
        driven += [np.maximum(at - data.t[k], 0.0), np.clip((at - data.t[k]) / interval + 0.5, 0.0, 1.0)]
    if filtered > 0:
        driven = [relax(x - x[0], 1 / filtered, interval) / filtered + x[0] for x in driven]
    columns = [driven[0], -turned, np.ones(len(at)), -dragged, *(-x for x in driven[1:])]
    names = ("gain", "viscous", "start", "coulomb", *(f"{what} {k}" for k in loads for what in ("load", "instant")))
    return np.column_stack(columns), w, names, used


def _around_a_step(data: _Data, time: FloatArray, reference: FloatArray) -> _Fit | None:
    """Return the fit to the speed around the largest step of the reference, up to where it has settled; None without one."""
    jumps = _jumps(reference)
    if not len(jumps):
        return None
    at = [float(time[j] - time[0]) for j in jumps]
    rises = [abs(float(reference[min(j + 1, len(reference) - 1)] - reference[j])) for j in jumps]
    k = int(np.argmax(rises))
    end = at[k + 1] if k + 1 < len(at) else float(data.t[-1])
    target = float(reference[min(jumps[k] + 1, len(reference) - 1)])
    inside = np.flatnonzero((data.t >= at[k]) & (data.t <= end))
    near = inside[np.abs(data.w[inside] - target) < 0.1 * rises[k]]
    settled = float(data.t[near[0]]) if len(near) else end
    stop = min(at[k] + 2.5 * (settled - at[k]) + 4 * float(np.median(np.diff(data.t))), end)
    start = max(at[k] - 0.5 * (stop - at[k]), at[k - 1] if k else 0.0)
    part = np.flatnonzero((data.t >= start) & (data.t <= stop))
    if len(part) < 12:
        return None
    cut = _Data(data.t[part] - data.t[part[0]], data.w[part], data.charge[part])
    fit = _search(cut, (), friction=False)
    return fit if fit.answer[0] > 0 else None


def _solve(
    data: _Data, lag: _Lag, loads: tuple[int, ...], gain: float | None = None, *, friction: bool = True
) -> _Fit:
    """Solve what is linear; a ``gain`` that is known is not fitted, and without ``friction`` one constant torque stands for it."""
    whole, measured, names, used = _columns(data, lag, loads)
    if not friction:
        whole = np.column_stack([whole[:, :1], data.t[used], whole[:, 2:3], whole[:, 4:]])
        names = ("gain", "constant", "start", *names[4:])
    design, w = whole, measured
    if gain is not None:
        w = w - gain * design[:, 0]
        design = design[:, 1:]
    norm = np.linalg.norm(design, axis=0)
    norm[norm == 0] = 1.0
    scaled = design / norm
    gram = scaled.T @ scaled + 1e-12 * np.eye(len(norm))
    answer = np.linalg.solve(gram, scaled.T @ w)
    rest = w - scaled @ answer
    found = answer / norm if gain is None else np.concatenate([[gain], answer / norm])
    return _Fit(lag, loads, found, float(rest @ rest) / len(w) * len(data.t), whole @ found, used, names)


def _search(data: _Data, loads: tuple[int, ...], about: _Lag | None = None, *, friction: bool = True) -> _Fit:
    """Find the lag of least residual: its whole, and which share of it is a filter's."""
    interval = float(np.median(np.diff(data.t)))
    best: _Fit | None = None
    for share in (0.0, 0.35, 0.7, 1.0):
        if about is None:
            grid = np.concatenate([[0.0], np.geomspace(0.3 * interval, 0.04 * data.t[-1], 18)])
        else:
            grid = np.linspace(0.5, 1.6, 7) * max(about.total, interval)
        costs = [_solve(data, _Lag(float(d), share), loads, friction=friction).cost for d in grid]
        k = int(np.argmin(costs))
        low, high = grid[max(k - 1, 0)], grid[min(k + 1, len(grid) - 1)]
        found = scipy.optimize.minimize_scalar(
            lambda d, s=share: _solve(data, _Lag(float(d), s), loads, friction=friction).cost,
            bounds=(low, high),
            method="bounded",
            options={"xatol": 1e-3 * interval},
        )
        fit = _solve(data, _Lag(float(found.x), share), loads, friction=friction)
        if best is None or fit.cost < best.cost:
            best = fit
    assert best is not None
    return best


def _torque_jumps(data: _Data, lag: _Lag, gain: float, steps: list[float]) -> tuple[int, ...]:
    """Return the samples at which the torque that is not the current's jumps: where the slope of ω − (Kt/J)·∫i changes.

    Slopes are taken over windows on both sides; around the ``steps`` [s] of the reference the friction changes by itself.
    """
    rest = data.w - gain * np.interp(data.t - lag.total, data.t, data.charge)
    n, interval = len(rest), float(np.median(np.diff(data.t)))
    size = max(n // 50, 8)
    if n < 6 * size:
        return ()
    # slope of a straight line through ``size`` points, by correlation with a centred ramp
    ramp = np.arange(size) - 0.5 * (size - 1)
    slope = np.correlate(rest, ramp, "valid") / float(ramp @ ramp) / interval
    change = np.zeros(n)
    change[size : n - size + 1] = slope[size:][: n - 2 * size + 1] - slope[: n - 2 * size + 1]
    for step in steps:
        change[np.abs(data.t - lag.total - step) < 2 * size * interval] = 0.0
    spread = 1.4826 * float(np.median(np.abs(change[size : n - size])))
    found: list[int] = []
    while len(found) < _LOADS:
        k = int(np.argmax(np.abs(change)))
        if not abs(change[k]) > _JUMP * max(spread, 1e-300):
            break
        found.append(min(max(k - round(lag.total / interval), 1), n - 2))
        change[max(k - size, 0) : k + size] = 0.0
    return tuple(sorted(set(found)))


def _loads(data: _Data, lag: _Lag) -> tuple[int, ...]:
    """Return the samples at which the load steps, one after the other, for a known lag."""
    fit = _solve(data, lag, ())
    for _ in range(_LOADS):
        candidate = _another_load(data, fit)
        if candidate is None:
            break
        trial = _move_loads(data, _solve(data, lag, tuple(sorted((*fit.loads, candidate)))))
        if trial.cost > _NEEDED * fit.cost:
            break
        fit = trial
    return fit.loads


def _needed(data: _Data, fit: _Fit) -> _Fit:
    """Leave out the load steps that a right lag makes needless, and move the others to their instants."""
    n = 0
    while n < len(fit.loads):
        without = _search(data, fit.loads[:n] + fit.loads[n + 1 :])
        if fit.cost > _NEEDED * without.cost:
            fit, n = without, 0
        else:
            n += 1
    if fit.loads:
        fit = _move_loads(data, fit)
        fit = _search(data, fit.loads, fit.lag)
    return fit


def _another_load(data: _Data, fit: _Fit) -> int | None:
    """Return the sample at which one more load step would help most."""
    rest = data.w[fit.used] - fit.model
    design, _, _, used = _columns(data, fit.lag, fit.loads)
    norm = np.linalg.norm(design, axis=0)
    q, _ = np.linalg.qr(design / np.where(norm > 0, norm, 1.0))
    at = data.t[used] - fit.lag.total
    best, where = 0.0, None
    for k in np.unique(np.linspace(0.02 * len(data.t), 0.98 * len(data.t), 150).astype(int)):
        ramp = np.maximum(at - data.t[k], 0.0)
        ramp = ramp - q @ (q.T @ ramp)
        size = float(ramp @ ramp)
        if size > 0 and (gain := float(ramp @ rest) ** 2 / size) > best:
            best, where = gain, int(k)
    return where


def _move_loads(data: _Data, fit: _Fit, gain: float | None = None) -> _Fit:
    """Move the instants of the load steps to where they leave least."""
    step = max(len(data.t) // 150, 1)
    while step >= 1:
        for n in range(len(fit.loads)):
            for move in (-step, step):
                loads = list(fit.loads)
                loads[n] = min(max(loads[n] + move, 1), len(data.t) - 2)
                if len(set(loads)) == len(loads):
                    trial = _solve(data, fit.lag, tuple(loads), gain)
                    if trial.cost < fit.cost:
                        fit = trial
        step = step // 2 if step > 1 else 0
    return fit


def _apart(fit: _Fit, rivals: list[_Fit], name: str) -> float:
    """Return the relative (of the gain) or absolute standard uncertainty that rival courses of the current leave of one unknown."""
    k = fit.names.index(name)
    values = [float(f.answer[k]) for f in rivals]
    most = max((abs(v - float(fit.answer[k])) for v in values), default=0.0)
    return most / math.sqrt(3)


def _estimates(data: _Data, fit: _Fit, rivals: list[_Fit], kt: float, findings: list[Finding]) -> dict[str, Estimate]:
    rest = data.w[fit.used] - fit.model
    dof = max(len(rest) - len(fit.answer) - 1, 1)
    rho = float(np.corrcoef(rest[1:], rest[:-1])[0, 1])
    rho = min(max(rho, 0.0), 0.97)
    variance = float(rest @ rest) / dof * (1 + rho) / (1 - rho)
    names = fit.names
    gain, viscous, coulomb = (float(fit.answer[names.index(n)]) for n in ("gain", "viscous", "coulomb"))
    # the slope of the model by the delay joins the covariance
    interval = float(np.median(np.diff(data.t)))
    design, _, _, _ = _columns(data, fit.lag, fit.loads)
    at = data.t[fit.used]
    extra = [-np.interp(at - fit.lag.total, data.t, np.gradient(data.charge, data.t)) * gain]
    whole = np.column_stack([design, *extra])
    norm = np.linalg.norm(whole, axis=0)
    norm[norm == 0] = 1.0
    covariance = np.linalg.pinv((whole / norm).T @ (whole / norm), rcond=1e-13) / np.outer(norm, norm) * variance
    inertia = kt / gain
    k = len(fit.names)
    g, b, c = (names.index(n) for n in ("gain", "viscous", "coulomb"))
    # what one sample's jump of the current is of the whole rise of speed: the part of it that is not known comes in full
    jump = float(np.max(np.abs(np.diff(data.charge, 2)))) * gain / float(np.ptp(data.w))
    between = math.hypot(_BETWEEN_SAMPLES, _INSIDE * jump)
    u_inertia = inertia * math.hypot(
        _WIDER * math.sqrt(covariance[g, g]) / gain, between, _apart(fit, rivals, "gain") / gain
    )

    def friction(value: float, at_: int) -> tuple[float, float]:
        slope = np.zeros(len(covariance))
        slope[at_], slope[g] = inertia, -value * inertia / gain
        return value * inertia, _WIDER * math.sqrt(max(float(slope @ covariance @ slope), 0.0))

    viscous_value, viscous_u = friction(viscous, b)
    coulomb_value, coulomb_u = friction(coulomb, c)
    # what a rounded start or a tooth's ripple takes for friction: a third of a per cent of what friction there is
    top = float(np.max(np.abs(data.w)))
    doubt = math.hypot(_FRICTION_DOUBT, between) * (abs(coulomb_value) + abs(viscous_value) * top)
    coulomb_u = math.hypot(coulomb_u, doubt, inertia * _apart(fit, rivals, "coulomb"))
    viscous_u = math.hypot(viscous_u, doubt / top, inertia * _apart(fit, rivals, "viscous"))
    u_delay = math.hypot(math.sqrt(covariance[k, k]), 0.3 * interval)
    if coulomb_u > 0.5 * abs(coulomb_value) or viscous_u > 0.5 * abs(viscous_value):
        text = "The speeds of this capture hardly tell the two frictions apart; take steps to several speeds."
        findings.append(Finding("info", "friction-not-resolved", text))
    return {
        "inertia": Estimate.from_u(inertia, "kg·m²", u_inertia, dof=dof),
        "viscous_friction": Estimate.from_u(viscous_value, "N·m·s/rad", viscous_u, dof=dof),
        "coulomb_friction": Estimate.from_u(coulomb_value, "N·m", coulomb_u, dof=dof),
        "delay": Estimate.from_u(fit.lag.total, "s", u_delay, dof=dof),
    }


def _jumps(reference: FloatArray) -> IntArray:
    """Return the samples after which the reference steps."""
    span = float(np.ptp(reference))
    return (
        np.flatnonzero(np.abs(np.diff(reference)) > 0.1 * span).astype(np.int64)
        if span > 0
        else np.empty(0, dtype=np.int64)
    )


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
    """Return overshoot [%], rise 10–90 % [s] and settling ±2 % [s] of the first reference step."""
    jumps = _jumps(reference)
    if not len(jumps):
        findings.append(
            Finding("info", "no-reference-step", "The reference does not step, so there are no step figures.")
        )
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
