"""The search for what the model of a speed response is not linear in: its lag, its load steps, the filter that whitens its noise.

It is started from plain least squares and, where the reference has no jump, from a free autoregression of the speed on itself and the current, which needs no lag and no load.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import scipy

from crisp_compass.estimates import BoolArray, FloatArray, IntArray
from crisp_compass.identify.speed_model import Data, Fit, Lag, Model

#: Most samples that are fitted where nothing quick drives the loop, and the highest order of the whitening filter.
_SOFT_MOST, ORDER = 1_500, 32
#: Most load steps, and how much smaller the squares must get for one: in variances of the noise (the best of some hundred places makes
#: 25 by chance), and as a share of them, which what is no load at all does not reach; more while nothing is whitened.
_LOADS, _BELIEVED, _SHARE, _FIRST_SHARE = 4, 45.0, 0.2, 0.4
#: Corners of the torque that stands for unknown loads while the noise is told.
_CORNERS = 24
#: Longest lag looked for, of the capture and in seconds.
_LONGEST, _LATEST = 0.03, 0.1
#: Share of the later sample where the current follows so quickly that its next step tells no more.
_FAST = 0.9
#: Rows after a jump of the reference in which the current begins to follow.
_FOLLOWS = 16
#: Around a corner of the reference, as a part of the capture, no load is looked for.
_CORNER = 0.04


def free_whitening(data: Data) -> FloatArray:
    """Return the filter (order + 1,) of a free autoregression of the speed on itself, on the charge and on a torque of many corners.

    The charge, not the current: with an integrator of its own the filter could not be short. The corners take what loads do.
    """
    order, n = _order(len(data.t)), len(data.t)
    size = float(np.std(data.w)) or 1.0
    t, w = data.t / data.t[-1], data.w / size
    span = np.cumsum(np.sign(data.w)) / n
    turned = np.cumsum(data.w) / n / size
    charge = (data.charge - t * data.charge[-1]) / (float(np.ptp(data.charge)) or 1.0)
    rows = slice(order, n)
    columns = [w[order - k : n - k] for k in range(1, order + 1)]
    columns += [charge[order - k : n - k] for k in range(order + 1)]
    columns += [np.maximum(t[rows] - knot, 0.0) for knot in np.linspace(0.0, 1.0, _CORNERS, endpoint=False)]
    columns += [np.ones(n - order), span[rows], turned[rows]]
    design = np.column_stack(columns)
    norm = np.linalg.norm(design, axis=0)
    design = design / np.where(norm > 0, norm, 1.0)
    answer = np.linalg.lstsq(design, w[rows], rcond=1e-10)[0] / np.where(norm > 0, norm, 1.0)
    return np.concatenate([[1.0], -answer[:order]])


def whitening_of(rest: FloatArray) -> FloatArray:
    """Return the autoregressive filter (order + 1,) that whitens a rest (n,): Yule and Walker's equations."""
    order = _order(len(rest))
    x = rest - np.mean(rest)
    n = len(x)
    spectrum = np.abs(np.fft.rfft(x, 2 * n)) ** 2
    auto = np.fft.irfft(spectrum)[: order + 1] / n
    auto[0] *= 1 + 1e-9
    return np.concatenate([[1.0], -scipy.linalg.solve_toeplitz(auto[:-1], auto[1:])])


def _order(count: int) -> int:
    return int(min(ORDER, max(count // 25, 2)))


def search(model: Model, loads: tuple[int, ...], about: Lag | None = None) -> Fit:
    """Find the lag of least whitened squares, near one that is known or anywhere."""
    interval = model.data.interval
    most = max(min(_LONGEST * model.data.t[-1], _LATEST), 3 * interval)
    if about is None:
        totals = [0.0, *np.geomspace(0.3 * interval, most, 12)]
        places = [Lag((1 - share) * float(x), share * float(x)) for x in totals for share in ((0.0, 0.5, 1.0) if x else (0.0,))]
        about = min((model.solve(lag, loads) for lag in places), key=lambda f: f.cost).lag
    scale = max(about.total, interval)

    early = 0.5 * interval

    def place(x: FloatArray) -> Lag:
        filtered = abs(float(x[1])) * scale
        least = min(early, filtered)
        return Lag(abs(float(x[0]) * scale + least) - least, filtered)

    def cost(x: FloatArray) -> float:
        lag = place(x)
        return model.solve(lag, loads).cost if lag.total <= 2 * most else math.inf

    start = np.array([about.dead, about.filtered]) / scale
    simplex = start + np.array([[0.0, 0.0], [0.3, 0.0], [0.0, 0.3]])
    found = scipy.optimize.minimize(
        cost, start, method="Nelder-Mead", options={"initial_simplex": simplex, "xatol": 3e-3, "fatol": 1e-9, "maxfev": 40}
    )
    return model.solve(place(found.x), loads)


def find_loads(
    model: Model, fit: Fit, barred: BoolArray, share: float = _SHARE, gain: float | None = None
) -> Fit:
    """Add load steps, one after the other, as long as each explains far more than chance; the lag is found anew with each.

    ``barred`` (n,) are the samples around corners of the reference, where a load would stand in for the inertia. Where the ``gain`` is
    known, neither it nor the lag moves.
    """
    while len(fit.loads) < _LOADS:
        place = _another(model, fit, barred)
        if place is None:
            break
        trial = _moved(model, model.solve(fit.lag, tuple(sorted((*fit.loads, place))), gain), barred, gain)
        if gain is None:
            trial = _moved(model, search(model, trial.loads, trial.lag), barred, gain)
        if fit.cost - trial.cost < max(_BELIEVED * trial.variance, share * fit.cost):
            break
        fit = trial
    return fit


def _another(model: Model, fit: Fit, barred: BoolArray) -> int | None:
    """Return the sample at which one more load step would explain most."""
    design, _ = model.design(fit.lag, fit.loads)
    norm = np.linalg.norm(design, axis=0)
    q, _ = np.linalg.qr(design / np.where(norm > 0, norm, 1.0))
    n, m = len(model.data.t), len(fit.rest)
    ramp = model.ramp(fit.lag)
    best, where = 0.0, None
    for k in np.unique(np.linspace(0.01 * n, 0.985 * n, 120).astype(int)):
        if barred[k] or int(k) in fit.loads or k >= m:
            continue
        late = ramp[: m - k]
        size = float(late @ late) - float(np.sum((q[k:].T @ late) ** 2))
        if size > 1e-9 * float(late @ late) and (gain := float(late @ fit.rest[k:]) ** 2 / size) > best:
            best, where = gain, int(k)
    return where


def _moved(model: Model, fit: Fit, barred: BoolArray, gain: float | None = None) -> Fit:
    """Move the instants of the load steps to where they leave least."""
    n = len(model.data.t)
    step = max(n // 200, 1)
    while step >= 1:
        for place in range(len(fit.loads)):
            for move in (-step, step):
                loads = list(fit.loads)
                loads[place] = min(max(loads[place] + move, 1), n - 2)
                if len(set(loads)) == len(loads) and not barred[loads[place]]:
                    trial = model.solve(fit.lag, tuple(loads), gain)
                    if trial.cost < fit.cost:
                        fit = trial
        step = step // 2 if step > 1 else 0
    return fit


def respond(data: Data, corners: FloatArray, reference: FloatArray) -> tuple[bool, list[tuple[Model, Fit]]]:
    """Fit the whole, from plain least squares and, where the reference has no jump that drives the loop hard, from a free autoregression too.

    Whitening, lag and loads are found in turn, each by what the last one left. ``corners`` (k,) [s] are the reference's. Returns whether a jump was there, and the best one first.
    """
    barred = np.zeros(len(data.t), dtype=np.bool_)
    for corner in corners:
        barred |= np.abs(data.t - corner) < _CORNER * data.t[-1]
    model = Model(data)
    hard = _around_a_step(data, corners, reference)
    if hard is not None and hard["gain"] <= 0:  # a reversed channel, most likely: the whole says it, or tells the gain itself
        whole = search(model, ())
        if whole["gain"] <= 0:
            return True, [(model, whole)]
        return True, [(model, _refined(model, find_loads(model, whole, barred, _FIRST_SHARE), barred))]
    if hard is not None:
        at_rest = model.solve(hard.lag, (), hard["gain"])
        fit = find_loads(model, at_rest, barred, _FIRST_SHARE, gain=hard["gain"])
        return True, [(model, _refined(model, search(model, fit.loads, hard.lag), barred))]
    found = []
    data, barred = _thinned(data, barred)
    for first, share in ((np.ones(1), _FIRST_SHARE), (free_whitening(data), _SHARE)):
        model = Model(data, first)
        found.append((model, _refined(model, find_loads(model, search(model, ()), barred, share), barred)))
        if found[0][1].loads:
            break  # a load that nothing marks, beside a reference that drives softly: nobody can tell it from inertia
    return False, sorted(found, key=lambda pair: pair[1].variance)


def _thinned(data: Data, barred: BoolArray) -> tuple[Data, BoolArray]:
    """Return fewer samples, each the mean of some: without a jump the whole is found twice, and nothing quick is in it."""
    stride = -(-len(data.t) // _SOFT_MOST)
    if stride == 1:
        return data, barred
    count = len(data.t) // stride
    t, w, charge = (x[: count * stride].reshape(count, stride).mean(axis=1) for x in (data.t, data.w, data.charge))
    touched: BoolArray = np.any(barred[: count * stride].reshape(count, stride), axis=1)
    return replace(data, t=t - t[0], w=w, charge=charge), touched


def _refined(model: Model, fit: Fit, barred: BoolArray) -> Fit:
    for _ in range(2):
        model.follow(fit)
        model.whiten(whitening_of(model.data.w - model.unwhitened(fit)))
        fit = find_loads(model, _fewer(model, search(model, fit.loads, fit.lag)), barred)
    return fit


def _fewer(model: Model, fit: Fit) -> Fit:
    """Leave out the load steps that a better whitening and lag make needless."""
    n = 0
    while n < len(fit.loads):
        without = model.solve(fit.lag, fit.loads[:n] + fit.loads[n + 1 :])
        if without.cost - fit.cost < max(_BELIEVED * fit.variance, 0.5 * _SHARE * fit.cost):
            fit, n = search(model, without.loads, fit.lag), 0
        else:
            n += 1
    return fit


def _around_a_step(data: Data, corners: FloatArray, reference: FloatArray) -> Fit | None:
    """Return the fit to the speed around the largest jump of the reference, up to where it has settled; None without one.

    So short a piece holds no other load, which would stand in for the inertia while loads are looked for.
    """
    jumps = jumps_of(reference)
    if not len(jumps) or not len(corners):
        return None
    time = np.linspace(0.0, data.t[-1], len(reference))
    at = time[jumps]
    rises = np.abs(reference[jumps + 1] - reference[jumps])
    k = int(np.argmax(rises))
    end = float(at[k + 1]) if k + 1 < len(at) else float(data.t[-1])
    target = float(reference[jumps[k] + 1])
    inside = np.flatnonzero((data.t >= at[k]) & (data.t <= end))
    near = inside[np.abs(data.w[inside] - target) < 0.1 * rises[k]]
    settled = float(data.t[near[0]]) if len(near) else end
    stop = min(at[k] + 2.5 * (settled - at[k]) + 4 * data.interval, end)
    start = max(at[k] - 0.5 * (stop - at[k]), float(at[k - 1]) if k else 0.0)
    part = np.flatnonzero((data.t >= start) & (data.t <= stop))
    if len(part) < 12:
        return None
    w = data.w[part]
    turns = float(np.min(w)) * float(np.max(w)) < 0  # no constant stands for a friction that turns round
    return search(Model(Data(data.t[part] - data.t[part[0]], w, data.charge[part]), friction=turns), ())


def jumps_of(reference: FloatArray) -> IntArray:
    """Return the samples (k,) after which the reference steps."""
    span = float(np.ptp(reference))
    found = np.flatnonzero(np.abs(np.diff(reference)) > 0.1 * span) if span > 0 else np.empty(0)
    return found.astype(np.int64)


def corners_of(time: FloatArray, reference: FloatArray) -> FloatArray:
    """Return the times (k,) [s, from the first sample] at which the reference jumps, or its slope changes."""
    span = float(np.ptp(reference))
    if span == 0 or len(reference) < 20:
        return np.empty(0)
    width = max(len(reference) // 200, 2)
    slope = (reference[width:] - reference[:-width]) / width
    change = np.abs(slope[width:] - slope[:-width])
    high = np.flatnonzero(change > 0.2 * float(np.max(change)))
    groups = np.split(high, np.flatnonzero(np.diff(high) > width) + 1)
    return np.array([float(time[int(np.mean(g)) + width] - time[0]) for g in groups if len(g)])


def course_of(i: FloatArray, reference: FloatArray) -> float | None:
    """Return which share of a change between two samples the current's mean holds, told at jumps of the reference; None without one.

    A current that jumps in the reference's own row stands until the next (0); one that follows rows later (a loop may be slower than the
    recorder) did so at once (1) or as an exponential, whose next step tells its time constant.
    """
    jumps = jumps_of(reference) + 1
    jumps = jumps[(jumps >= 1) & (jumps + 3 < len(i))]
    if not len(jumps) or len(jumps) > 0.02 * len(i):
        return None
    k = max(jumps, key=lambda at: float(np.max(np.abs(np.diff(i[at - 1 : at + 1 + _FOLLOWS])))))
    moves = np.diff(i[k - 1 : k + 2 + _FOLLOWS])
    first = int(np.flatnonzero(np.abs(moves) > 0.5 * np.max(np.abs(moves[:-1])))[0])
    if first == 0:
        return 0.0
    rest = min(max(float(moves[first + 1] / moves[first]) if first + 1 < len(moves) and moves[first] else 0.0, 0.0), 0.95)
    if rest < 0.02:
        return _FAST
    return (1 + (1 - rest) / math.log(rest)) / (1 - rest)
