"""A shaft that twists, from speed and torque current under a noise or a sweep: resonance, antiresonance, damping, how the inertia is parted.

The frequency response from current to speed is taken over the whole record by local polynomials: around each frequency the response and the leakage of the record's ends are quadratics in
the frequency, which their neighbours determine together with the noise (R. Pintelon, J. Schoukens, System Identification, 2nd ed. 2012, 7.2). Where the reference is recorded and moves over
the band it is the input for both, and their quotient knows no bias by what the loop feeds back (2.7). Two inertias on a spring answer with Kt/(J·(jω + b)) · (1 + 2ζ_a·jω/ω_a − ω²/ω_a²)/(1 + 2ζ_r·jω/ω_r − ω²/ω_r²), late by a lag and a delay; J_L/J_M = (ω_r/ω_a)² − 1 (L. Meirovitch, Fundamentals of Vibrations, 2001, 5.1).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import ComplexArray, Estimate, Finding, FloatArray, Result, coverage_factor
from crisp_compass.identify.guard import solvable

#: Least rows, most relative deviation of a frequency that counts, and least frequencies.
_ROWS, _SURE, _BINS = 2000, 0.35, 24
#: Frequencies on either side of one that make its local polynomial, the polynomial's order, and how many frequencies there are between two that are kept.
_SIDE, _ORDER, _EVERY = 8, 2, 3
#: What kept frequencies have in common widens the bars: each polynomial holds so many of them.
_SHARED = (2 * _SIDE + 1) / (_ORDER + 1) / _EVERY
#: What is not known of the course between two samples, relative, at the sampling rate; it grows with the square of the frequency.
_UNKNOWN = 0.3
#: How far the logarithm of the response may be off the model, in the middle of neighbours, where frequencies still count.
_HOLDS = 0.4
#: Frequencies that a first fit takes, octaves alike, and at most the last one.
_FEW, _MANY = 400, 2500
#: Passages of the current through its mean that a noise or a sweep makes at least.
_SWINGS = 100
#: Most frequencies that are looked at; a resonance beyond is none that a speed loop knows.
_MOST_BINS = 24_000
#: Largest standard uncertainty of a resonance's logarithm, and of its damping's, that counts as told; how many times better than a rigid shaft it must fit; the misfit beyond which neither does.
_TOLD, _TOLD_DAMPING, _BETTER, _NEITHER = 0.08, 1.0, 1.6, 4.0
#: Misfit from which it is said, and from which a capture without its reference is refused; the damping beyond which it is a lag and no resonance.
_CAUTION, _A_LAG = 2.5, 0.4
#: What a choice of frequencies adds to every bar; relative floors of the resonance, where all inertia stands behind the coupling, and of the inertia, by fine and by coarse rows.
_WIDER, _RESONANCE_FLOOR, _INERTIA_FLOOR, _INERTIA_COARSE = 1.3, 0.003, 0.002, 0.011


@dataclass(frozen=True)
class Resonance(Result):
    """Estimates (``resonance_hz``, ``antiresonance_hz``, ``damping``, ``load_share``; ``inertia`` where Kt is known), none where the shaft is rigid as far as it is told;
    ``frequency`` (n,) Hz, measured ``response`` and ``model`` (n,) rad/s per A, ``coherence`` (n,), and up to which frequency it is told (``reach``, Hz)."""

    frequency: FloatArray
    response: ComplexArray
    model: ComplexArray
    coherence: FloatArray
    reach: float


@dataclass(frozen=True)
class _Told:
    """Frequencies that count: ``f`` (n,) Hz, ``h`` (n,) rad/s per A, relative standard deviation of either part ``s`` (n,)."""

    f: FloatArray
    h: ComplexArray
    s: FloatArray


def broadband(capture: Capture) -> bool:
    """Tell whether a capture shakes the shaft over a band of frequencies: its current swings around its mean many times, all the while, and not with one frequency."""
    if "speed" not in capture or len(capture.time) < _ROWS or not {"i_q", "i_m"} & set(capture.columns):
        return False
    u = np.asarray(capture["i_q"] if "i_q" in capture else capture["i_m"], dtype=np.float64)
    u = u - float(np.mean(u))
    if "speed_ref" in capture:
        changes = int(np.count_nonzero(np.abs(np.diff(capture["speed_ref"])) > 0))
        if 0 < changes < _SWINGS:  # steps of the reference, and what noise there is between them
            return False
    swings = np.sign(u) * (np.abs(u) > 0.3 * float(np.std(u)))
    swings = swings[swings != 0]
    parts = np.array([float(np.mean(np.diff(p) ** 2)) for p in np.array_split(u, 16)])
    if np.count_nonzero(np.diff(swings)) < _SWINGS or np.count_nonzero(parts > 0.05 * parts.mean()) < 12:
        return False  # steps: a few, and rest between them
    power = np.abs(np.fft.rfft(u * np.hanning(len(u)))) ** 2
    power[:3] = 0.0
    if power.sum() <= 0:
        return False
    # as many bins as share the power evenly, and the octaves between its quarters
    spread = float(power.sum() ** 2 / np.sum(power**2))
    cumulated = np.cumsum(power) / power.sum()
    low, high = (int(np.searchsorted(cumulated, q)) for q in (0.1, 0.9))
    return spread > 40 and high > 4 * max(low, 1)


@solvable
@without_gaps
def fit_resonance(capture: Capture, *, kt: float | None = None) -> Resonance:
    """Find how the shaft twists.

    Parameters
    ----------
    capture
        ``speed`` and ``i_q`` (or ``i_m``) under a noise or a sweep of some seconds, best around a speed that keeps its sign; ``speed_ref`` where the loop was closed.
    kt
        Torque constant, N·m per A; without it no inertia is told.

    Raises
    ------
    Refusal
        Too few rows, a current that shakes nothing, or speed and current that have nothing to do with each other.
    """
    where = capture.source
    current = "i_m" if "i_m" in capture and "i_q" not in capture else "i_q"
    for name in ("speed", current):
        if name not in capture:
            raise Refusal(f"the capture has no {name}", "record speed and torque current", where=where)
    if len(capture.time) < _ROWS:
        raise Refusal(f"{len(capture.time)} rows are too few for a spectrum", f"at least {_ROWS}, better some seconds at the rate of the speed loop", where=where)
    u, y, r, fs = _even(capture, current)
    # a row a step of the loop: what the current does between them is seen nowhere
    floor = _INERTIA_FLOOR if r is not None and float(np.mean(np.abs(np.diff(r)) > 1e-3 * np.std(r))) < 0.3 else _INERTIA_COARSE
    if not broadband(capture):
        raise Refusal("the current does not shake the shaft over a band of frequencies", "add a noise or a sweep to the reference of the speed, or to the current", where=where)
    f, h, spread = _response(u, y, r, fs)
    coherence = 1 / (1 + 2 * spread**2)
    counts = (spread < _SURE) & (f < 0.45 * fs)
    if int(counts.sum()) < _BINS:
        raise Refusal(
            f"speed and current have too little in common: {int(counts.sum())} frequencies tell something, {_BINS} are needed",
            "shake harder, record longer, or stay clear of standstill, where friction takes it", where=where,
        )  # fmt: skip
    told = _Told(f[counts], h[counts], np.hypot(spread[counts], _UNKNOWN * (f[counts] / fs) ** 2))
    told, rigid, rigid_cost, best, cost, covariance = _settled(told)
    reach = float(told.f[-1])
    method = f"local polynomials of the spectra, {'from the reference to both' if r is not None else 'from current to speed'}, {int(counts.sum())} frequencies up to {reach:.3g} Hz"
    findings: list[Finding] = []
    n = 2 * len(told.f)
    sure = cost * _BETTER < rigid_cost and math.sqrt(covariance[3, 3]) < _TOLD and math.sqrt(covariance[4, 4]) < _TOLD and math.sqrt(covariance[6, 6]) < _TOLD_DAMPING
    share, doubt = _share(best, covariance)
    sure = sure and share > 6.0 * doubt and math.exp(best[6]) < _A_LAG
    resonant = math.exp(best[4])
    if not sure or not told.f[0] < resonant < reach * 1.02:
        if math.sqrt(2 * rigid_cost / n) > _NEITHER and cost * _BETTER < rigid_cost:
            raise _neither(where)
        text = f"No resonance shows up to {reach:.3g} Hz, as far as speed and current hang together: the shaft is rigid there."
        found = {"inertia": _inertia(rigid, _covariance_of(told, rigid, swings=False), kt, n, floor=floor)} if kt else {}
        return Resonance(found, method, (Finding("info", "rigid", text),), f, response=h, model=_model(rigid, f, swings=False), coherence=coherence, reach=reach)
    found = _estimates(best, covariance, kt, n - len(best), fs=fs, floor=floor)
    misfit = math.sqrt(2 * cost / max(n - len(best), 1))
    if misfit > (_NEITHER if r is not None else _CAUTION):
        raise _neither(where)
    if misfit > _CAUTION:
        text = f"Two inertias on one spring leave {misfit:.1f} times what the noise explains: more than one resonance, play or friction is in it, and the bars are widened accordingly."
        findings.append(Finding("caution", "more-than-two-masses", text))
    return Resonance(found, method, tuple(findings), f, response=h, model=_model(best, f, swings=True), coherence=coherence, reach=reach)


def _neither(where: str) -> Refusal:
    return Refusal(
        "speed and current answer neither like a rigid shaft nor like two inertias on a spring",
        "record speed_ref as well, shake with a noise around a steady speed, and keep loads away", where=where,
    )  # fmt: skip


def _even(capture: Capture, current: str) -> tuple[FloatArray, FloatArray, FloatArray | None, float]:
    """Return current, speed and reference without mean and trend on an even grid, and its rate [Hz]; the reference None where it does not move over a band."""
    t = np.asarray(capture.time, dtype=np.float64)
    step = float(np.median(np.diff(t)))
    grid = t[0] + np.arange(math.floor((t[-1] - t[0]) / step) + 1) * step
    names = (current, "speed", *(("speed_ref",) if "speed_ref" in capture else ()))
    found = [scipy.signal.detrend(np.interp(grid, t, np.asarray(capture[name], dtype=np.float64))) for name in names]
    moves = len(found) == 3 and float(np.std(found[2])) > 0.05 * float(np.std(found[1]))
    return found[0], found[1], found[2] if moves else None, 1 / step


def _response(u: FloatArray, y: FloatArray, r: FloatArray | None, fs: float) -> tuple[FloatArray, ComplexArray, FloatArray]:
    """Return frequencies (n,) Hz, response from u to y, and its relative standard deviation in either part (n,)."""
    n = len(u)
    last = min(n // 2 - _SIDE - 1, _MOST_BINS)
    by, us, ys = (np.fft.rfft(x)[: last + _SIDE + 1] for x in (u if r is None else r, u, y))
    offset = np.arange(-_SIDE, _SIDE + 1)
    powers = (offset[:, None] / _SIDE) ** np.arange(_ORDER + 1)[None, :]
    middle = np.arange(_SIDE + 1, last, _EVERY)
    rows = middle[:, None] + offset[None, :]
    scale = np.sqrt(np.mean(np.abs(by[rows]) ** 2, axis=1)) + 1e-300
    design = np.concatenate([by[rows][:, :, None] / scale[:, None, None] * powers[None], np.broadcast_to(powers, (len(middle), *powers.shape))], axis=2)
    wanted = np.stack([us[rows], ys[rows]], axis=2)
    normal = np.einsum("kri,krj->kij", design.conj(), design)
    normal += 1e-9 * np.eye(normal.shape[1])[None] * np.trace(normal, axis1=1, axis2=2).real[:, None, None] / normal.shape[1]
    inverse = np.linalg.inv(normal)
    solved = inverse @ np.einsum("kri,kro->kio", design.conj(), wanted)
    rest = wanted - design @ solved
    free = len(offset) - design.shape[2]
    noise = np.einsum("kro,krp->kop", rest, rest.conj()) / free
    gu, gy = solved[:, 0, 0], solved[:, 0, 1]
    gu = np.where(np.abs(gu) > 0, gu, 1e-300)
    h = gy / gu
    # the quotient's deviation, to first order; the noises of both hang together through the loop
    left = noise[:, 1, 1].real + np.abs(h) ** 2 * noise[:, 0, 0].real - 2 * (h.conj() * noise[:, 1, 0]).real
    spread = np.sqrt(np.maximum(left, 0.0) * inverse[:, 0, 0].real / 2) / np.maximum(np.abs(gy), 1e-300)
    return middle * fs / n, np.asarray(h), np.maximum(spread, 1e-3)


def _model(p: FloatArray, f: FloatArray, *, swings: bool) -> ComplexArray:
    """Return the response (n,) at f (n,) Hz of a rigid shaft (log gain, log of the rate at which friction stops it [1/s], delay and lag [ms]) or one that ``swings``
    (log gain, log rate, delay, log antiresonance and resonance [Hz], logs of their damping, lag)."""
    s = 2j * math.pi * f
    h = math.exp(p[0]) / (s + math.exp(min(p[1], 12.0))) * np.exp(-1e-3 * p[2] * s) / (1 + s * abs(1e-3 * p[-1]))
    if swings:
        for log_w, log_z, over in ((p[3], p[5], 1), (p[4], p[6], -1)):
            w = 2 * math.pi * math.exp(log_w)
            h = h * (1 + 2 * math.exp(log_z) * s / w + (s / w) ** 2) ** over
    return np.asarray(h)


def _rigid_start(told: _Told) -> FloatArray:
    """Return gain and the delay at which most of the phases agree; a fit from anywhere else may end a whole turn of the highest frequency away."""
    gain = float(np.median(np.abs(told.h) * 2 * math.pi * told.f))
    return np.array([math.log(gain), math.log(0.1 * told.f[0] + 1e-3), _delay(told, np.full(len(told.f), -1j)), 0.1])


def _delay(told: _Told, shape: ComplexArray) -> float:
    """Return the delay [ms] at which most of the phases agree with those of a ``shape`` (n,)."""
    turned = told.h / np.abs(told.h) * np.conj(shape) / np.abs(shape) / told.s
    late = np.arange(-2.0, 40.0, 0.25) / told.f[-1]
    agree = np.exp(2j * math.pi * late[:, None] * told.f[None, :]) @ turned
    return 1e3 * float(late[int(np.argmax(agree.real))])


def _residual(p: FloatArray, told: _Told, *, swings: bool) -> FloatArray:
    with np.errstate(all="ignore"):
        quotient = np.log(told.h / _model(p, told.f, swings=swings))
    r = np.concatenate([quotient.real, quotient.imag]) / np.concatenate([told.s, told.s])
    return np.nan_to_num(np.asarray(r, dtype=np.float64), nan=1e3, posinf=1e3, neginf=-1e3)


def _fitted(told: _Told, start: FloatArray, *, swings: bool) -> tuple[FloatArray, float, FloatArray]:
    """Return parameters, robust cost and covariance of a fit from ``start``."""
    low, high = np.full(len(start), -math.inf), np.full(len(start), math.inf)
    low[1], high[1] = -9.0, math.log(10 * told.f[0])  # what fades faster is no friction but another shape of the whole
    low[2], high[2] = (start[2] + way * 0.8e3 / told.f[-1] for way in (-1, 1))
    if swings:
        low[3:5], high[3:5] = math.log(0.3 * told.f[0]), math.log(2 * told.f[-1])
        low[5:7], high[5:7] = math.log(3e-4), 0.2
    start = np.clip(start, low + 1e-6, high - 1e-6)
    found = scipy.optimize.least_squares(_residual, start, bounds=(low, high), kwargs={"told": told, "swings": swings}, loss="soft_l1", f_scale=3.0, max_nfev=80)
    return found.x, float(found.cost), _covariance_of(told, found.x, swings=swings)


def _covariance_of(told: _Told, p: FloatArray, *, swings: bool) -> FloatArray:
    """Return the covariance of the parameters, widened by what the fit leaves and what neighbours share."""
    base, columns = _residual(p, told, swings=swings), []
    for k in range(len(p)):
        step = np.zeros(len(p))
        step[k] = 1e-5 * max(abs(p[k]), 1.0)
        columns.append((_residual(p + step, told, swings=swings) - base) / step[k])
    jacobian = np.array(columns).T
    weight = 1 / np.maximum(1.0, np.abs(base) / 3.0)  # as the robust loss weighs them
    normal = (jacobian * weight[:, None]).T @ jacobian
    left = max(float(np.sum(weight * base**2)) / max(len(base) - len(p), 1), 1.0)
    return np.asarray(np.linalg.pinv(normal) * left * _SHARED)


def _best(told: _Told, rigid: FloatArray) -> tuple[FloatArray, float, FloatArray]:
    """Return the best of fits begun with pairs of antiresonance and resonance over the band."""
    flat = np.log(np.abs(told.h / _model(rigid, told.f, swings=False)))
    weight = 1 / told.s**2
    starts = []
    for ratio in (1.05, 1.15, 1.4, 2.0, 3.0, 4.5):
        for resonant in np.geomspace(1.1 * told.f[0] * ratio, told.f[-1], 48):
            s = 1j * told.f
            a, r = resonant / ratio, resonant
            shape = np.log(np.abs((1 + 0.06 * s / a + (s / a) ** 2) / (1 + 0.06 * s / r + (s / r) ** 2)))
            gap = flat - shape
            gap = gap - np.average(gap, weights=weight)
            starts.append((float(np.sum(weight * np.minimum(gap**2, 1.0))), ratio, float(resonant)))
    starts.sort()
    tried: list[tuple[float, FloatArray, FloatArray]] = []
    taken: list[tuple[float, float]] = []
    for _, ratio, resonant in starts:
        if any(abs(math.log(resonant / at)) < 0.25 and abs(math.log(ratio / by)) < 0.3 for at, by in taken):
            continue
        taken.append((resonant, ratio))
        s = 1j * told.f
        shape = (1 + 0.06 * s * ratio / resonant + (s * ratio / resonant) ** 2) / (1 + 0.06 * s / resonant + (s / resonant) ** 2) / s
        start = np.array([rigid[0], rigid[1], _delay(told, shape), math.log(resonant / ratio), math.log(resonant), math.log(0.03), math.log(0.03), rigid[3]])
        found, cost, covariance = _fitted(told, start, swings=True)
        tried.append((cost, found, covariance))
        if len(tried) == 4:
            break
    cost, found, covariance = min(tried, key=lambda x: x[0])
    return found, cost, covariance


def _settled(told: _Told) -> tuple[_Told, FloatArray, float, FloatArray, float, FloatArray]:
    """Fit with every octave alike, then again without the ends that are far off: frequencies that nothing shook show the controller that answers its sensor's
    noise, and show it without a doubt. Return what counted, and rigid and swinging shaft."""
    few = np.unique(np.round(np.geomspace(1, len(told.f), _FEW)).astype(int)) - 1
    even = _Told(told.f[few], told.h[few], np.maximum(told.s[few], 0.01))
    rigid, rigid_cost, _ = _fitted(even, _rigid_start(even), swings=False)
    best, cost, covariance = _best(even, rigid)
    swings = cost * _BETTER < rigid_cost
    part = _held(told, best if swings else rigid, swings=swings)
    if len(part.f) > _MANY:  # neighbours say little more
        every = np.linspace(0, len(part.f) - 1, _MANY).astype(int)
        part = _Told(part.f[every], part.h[every], part.s[every] * math.sqrt(_MANY / len(part.f)))
    rigid, rigid_cost, _ = _fitted(part, _rigid_start(part), swings=False)
    again, cost, covariance = _fitted(part, best, swings=True)
    if not swings or 2 * cost > 9.0 * len(part.f):
        other, other_cost, other_covariance = _best(part, rigid)
        if other_cost < cost:
            again, cost, covariance = other, other_cost, other_covariance
    return part, rigid, rigid_cost, again, cost, covariance


def _held(told: _Told, p: FloatArray, *, swings: bool) -> _Told:
    """Return the frequencies without the ends where the response is off the model in the middle of neighbours."""
    with np.errstate(all="ignore"):
        off = np.abs(np.log(told.h / _model(p, told.f, swings=swings)))
    near = scipy.ndimage.median_filter(np.nan_to_num(off, nan=9.0), 9, mode="nearest") < _HOLDS
    runs = np.flatnonzero(np.convolve(near, np.ones(12), "valid") >= 11)
    if not len(runs) or runs[-1] + 12 - runs[0] < _BINS:
        return told
    kept = slice(int(runs[0]), int(runs[-1]) + 12)
    return _Told(told.f[kept], told.h[kept], told.s[kept])


def _logarithmic(log: float, u: float, unit: str, factor: float = 1.0, *, k: float) -> Estimate:
    """Return an estimate whose logarithm is told with ``u``."""
    value = factor * math.exp(log)
    return Estimate(value, unit, value * u, value * math.exp(-k * u), high=value * math.exp(k * u))


def _inertia(p: FloatArray, covariance: FloatArray, kt: float, dof: int, floor: float) -> Estimate:
    return _logarithmic(-p[0], math.hypot(math.sqrt(covariance[0, 0]), floor), "kg·m²", kt, k=coverage_factor(dof))


def _share(p: FloatArray, covariance: FloatArray) -> tuple[float, float]:
    """Return the load's share of the inertia and its standard uncertainty, of the noise alone."""
    quotient = math.exp(2 * (p[3] - p[4]))
    return 1 - quotient, 2 * quotient * math.sqrt(max(covariance[3, 3] + covariance[4, 4] - 2 * covariance[3, 4], 0.0))


def _estimates(p: FloatArray, covariance: FloatArray, kt: float | None, dof: int, fs: float, floor: float) -> dict[str, Estimate]:
    """Return the estimates, their bars with what is not known of the course between two samples: the drive holds its voltage, the shaft goes on, and the current is a little of both."""
    k, wide = coverage_factor(dof), _WIDER**2 * covariance
    quotient = math.exp(2 * (p[3] - p[4]))
    share = 1 - quotient
    course_a, course_r = 1.0 * (math.exp(p[3]) / fs) ** 2 + 8e-4, _RESONANCE_FLOOR * (0.3 + share)
    found = {
        "resonance_hz": _logarithmic(p[4], math.hypot(math.sqrt(wide[4, 4]), course_r), "Hz", k=k),
        "antiresonance_hz": _logarithmic(p[3], math.hypot(math.sqrt(wide[3, 3]), course_a), "Hz", k=k),
        "damping": _logarithmic(p[6], math.hypot(math.sqrt(wide[6, 6]), 0.02 + 0.003 * share**3 / math.exp(p[6])), "", k=k),
    }
    # share = 1 − (f_a/f_r)²: its doubt is that of the quotient, which is far smaller than that of either
    told = _share(p, wide)[1]
    found["load_share"] = Estimate.from_u(share, "", math.hypot(told, 2 * quotient * math.hypot(course_a, course_r)), dof=dof)
    if kt:
        found["inertia"] = _inertia(p, wide, kt, dof, floor=floor)
    return found
