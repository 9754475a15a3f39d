"""The rotor time constant from the decay of the open stator's voltage after cut-off, the rotor turning.

The flux that the rotor keeps is Λ0·e^(−t/Tr)·e^(jθ(t)), and the voltage its derivative, so a falling speed biases nothing. Beside it
there may be a part that fades slower or stays (the remanence of the iron) or one that is soon gone (eddy currents, deep bars): a
second exponential on the same shaft, taken in where the voltage shows it.
The decay by the rotor's own resistance and inductance is common practice; the second part is a description, no circuit.
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
from crisp_compass.estimates import Estimate, Finding, FloatArray, Result
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.identify.guard import solvable

#: Widens the bar for the speed's pieces having been chosen by the same data.
_CHOSEN = 1.1
#: What the samples and a spline leave of the speed's course, relative.
_BETWEEN = 2e-4
#: Samples a period that are enough, once averaged.
_ENOUGH = 32
#: Share of what a second part that does not stand out would move, as a standard deviation.
_UNSEEN = 0.4
#: Where a second part is looked for, its rate over the first one's, and its share from which it is said.
_SECOND, _SAID = (0.02, 0.3, 6.0), 0.005
#: The main rate over its uncertainty from which a second part is told apart, and the share from which it may as well be the rotor's own.
_TOLD, _LIKE = 8.0, 0.35


@dataclass(frozen=True)
class DecayResult(Result):
    """Tr with what a plot needs: ``time`` (m,) s, ``voltage``, ``model``, ``residual`` (m, c) V of the ``channels``."""

    channels: tuple[str, ...]
    time: FloatArray
    voltage: FloatArray
    model: FloatArray
    residual: FloatArray


@solvable
@without_gaps
def fit_decay(capture: Capture) -> DecayResult:
    """Estimate the rotor time constant from the open stator's voltages after cut-off, the rotor turning.

    Parameters
    ----------
    capture
        One to three of ``v_ab v_bc v_ca``; what lies before the cut-off is left out.

    Returns
    -------
    DecayResult
        ``rotor_time_constant`` [s].

    Raises
    ------
    Refusal
        Missing or constant channels, no decay, less than three periods of it.
    """
    family_of_capture(capture, "induction")
    names = tuple(n for n in ("v_ab", "v_bc", "v_ca") if n in capture)
    if not names:
        capture["v_ab"]  # writes the refusal for the missing column
    v = np.column_stack(capture.require(*names, samples=60))
    t = capture.time - capture.time[0]
    start = _cut_off(t, v)
    if len(t) - start < 40:
        raise Refusal(
            "less than three periods stand out after the cut-off",
            "capture it from the cut-off on",
            where=capture.source,
        )
    t, v = t[start:] - t[start], v[start:]
    omega = _start_frequency(t, v, capture.source)
    size = np.sqrt(np.mean(v[: max(int(2 * math.pi / omega / float(np.median(np.diff(t)))), 4)] ** 2))
    floor = _floor(v)
    envelope = _envelope(t, v, omega)
    beyond = np.flatnonzero(envelope < max(3 * floor, 0.02 * size))
    stop = int(beyond[0]) if len(beyond) else len(t)
    t, v = t[: max(stop, 2)], v[: max(stop, 2)]
    if omega * t[-1] / (2 * math.pi) < 3:
        raise Refusal(
            "less than three periods stand out after the cut-off",
            "capture it from the cut-off on",
            where=capture.source,
        )
    t, v, width = _thinned(t, v, omega)
    fit, pieces = _fit_decay(t, v, omega, width, pieces=1), 1
    for count in (2, 4, 8):
        trial = _fit_decay(t, v, omega, width, pieces=count, before=fit)
        gain = len(t) * v.shape[1] * math.log(max(fit.cost, 1e-300) / max(trial.cost, 1e-300))
        if gain > (len(trial.x) - len(fit.x)) * math.log(len(t)) + 4:
            fit, pieces = trial, count
    fit = _second_part(t, v, omega, width, one=fit, pieces=pieces)
    findings = list(capture.findings)
    rate, u = fit.main
    if rate <= 3 * u:
        raise Refusal("the voltage does not decay", "capture the open terminals after cut-off", where=capture.source)
    excess = max(
        float(np.std(fit.residual[:, c])) / max(noise(fit.residual[:, c]), 1e-6 * float(np.ptp(v)))
        for c in range(v.shape[1])
    )
    if excess > 1.4:
        text = "The voltage is not that of a flux that fades in a turning rotor: current still flowed, or the speed jerked; the bar is widened."
        findings.append(Finding("caution", "model-does-not-fit", text))
        u = math.hypot(u * excess, 0.02 * rate)
    if fit.parts == 1:  # a second part that does not stand out may still be there
        u = math.hypot(u, _UNSEEN * _hint(t, v, omega, width, one=fit)[2])
    u = math.hypot(u, _BETWEEN * rate)
    early, late = _halves(t, v, fit, rate)
    if fit.parts > 1:
        findings += _told_apart(fit)
    if abs(early - late) > max(0.05 * rate, 4 * u):
        text = f"The early part decays at {early:.3g} 1/s, the late one at {late:.3g} 1/s: the iron saturates at full voltage, or current still flowed; the bar is widened."
        findings.append(Finding("caution", "decay-bends", text))
        u = math.hypot(u, 0.5 * abs(early - late))
    value = 1 / rate
    estimates = {"rotor_time_constant": Estimate.from_u(value, "s", u / rate**2, dof=max(len(t) - 10, 1))}
    method = f"voltage of the open stator over {omega * t[-1] / (2 * math.pi):.0f} periods after cut-off; decay of its flux, speed fitted beside it"
    model = v - fit.residual
    return DecayResult(estimates, method, tuple(findings), names, time=t, voltage=v, model=model, residual=fit.residual)


def _thinned(t: FloatArray, v: FloatArray, omega: float) -> tuple[FloatArray, FloatArray, float]:
    """Return means over blocks where there are many samples a period, and how long a block is [s], 0 for none."""
    interval = float(np.median(np.diff(t)))
    size = int(2 * math.pi / omega / interval / _ENOUGH)
    if size < 2:
        return t, v, 0.0
    count = len(t) // size
    blocks = v[: count * size].reshape(count, size, -1).mean(axis=1)
    # a mean of ``size`` samples passes a sine as sin(size·x)/(size·sin x), nearly the sinc of this width
    return t[: count * size].reshape(count, size).mean(axis=1), blocks, interval * math.sqrt(size**2 - 1)


#: Rate, cosine and sine of a part's flux, and the voltages they make.
_Part = tuple[float, FloatArray, FloatArray, FloatArray, FloatArray]


@dataclass(frozen=True)
class _Decay:
    x: FloatArray
    cost: float
    covariance: FloatArray
    residual: FloatArray
    parts: int
    shares: FloatArray

    @property
    def main(self) -> tuple[float, float]:
        """Rate of the larger part and its standard uncertainty [1/s]."""
        k = int(self.shares.argmax())
        return float(self.x[k]), _CHOSEN * math.sqrt(max(float(self.covariance[k, k]), 0.0))


def _envelope(t: FloatArray, v: FloatArray, omega: float) -> FloatArray:
    """Return the running size (n,) of the voltages over one period."""
    width = max(int(2 * math.pi / omega / float(np.median(np.diff(t)))), 4)
    power = scipy.ndimage.uniform_filter1d(np.mean(v**2, axis=1), width)
    return np.asarray(np.sqrt(np.maximum(power, 0)))


def _floor(v: FloatArray) -> float:
    return float(np.sqrt(np.mean(np.diff(v, 2, axis=0)[-max(len(v) // 10, 8) :] ** 2) / 6))


def _cut_off(t: FloatArray, v: FloatArray) -> int:
    """Return the sample from which the supply is off: the last at which the envelope still has its plateau, and a moment more."""
    crossings = np.flatnonzero(np.diff(np.sign(v[:, 0] - np.mean(v[:, 0]))))
    if len(crossings) < 6:
        return 0
    period = 2 * float(np.median(np.diff(t[crossings[:8]])))
    envelope = _envelope(t, v, 2 * math.pi / period)
    width = max(int(period / float(np.median(np.diff(t)))), 4)
    if len(envelope) < 6 * width:
        return 0
    first = float(np.mean(envelope[width : 2 * width]))
    second = float(np.mean(envelope[3 * width : 4 * width]))
    if abs(second / first - 1) > 0.01:  # it decays from the start
        return 0
    fallen = np.flatnonzero(envelope[width:] < 0.97 * first)
    return int(fallen[0]) + width + width if len(fallen) else 0


def _start_frequency(t: FloatArray, v: FloatArray, source: str) -> float:
    head = slice(0, max(len(t) // 3, 20))
    x = v[head, 0] - np.mean(v[head, 0])
    spectrum = np.abs(np.fft.rfft(x * np.hanning(len(x)), 8 * len(x)))
    peak = int(np.argmax(spectrum[4:])) + 4
    interval = float(np.median(np.diff(t)))
    omega = 2 * math.pi * peak / (8 * len(x) * interval)
    if omega * interval > 0.6:
        raise Refusal("there are fewer than 10 samples a period", "sample faster", where=source)
    return float(omega)


def _fit_decay(
    t: FloatArray, v: FloatArray, omega: float, width: float, pieces: int, before: _Decay | None = None, second: float | None = None
) -> _Decay:
    """Fit decay rates, speed (a spline of few pieces) and per channel amplitude and phase of each part, and an offset.

    ``before`` gives the start; ``second`` adds a part, starting at this rate over the first one's.
    """
    angle_of, basis = _course(t, pieces + 3)
    parts = (before.parts if before else 1) + (second is not None)

    def columns(x: FloatArray) -> tuple[list[_Part], FloatArray, FloatArray, FloatArray]:
        """Return of each part rate, cosine, sine and the voltages they make; speed, all that is linear, and its orthonormal base."""
        speed = omega * (1 + x[parts:])
        theta, w = angle_of @ speed, basis @ speed
        seen = np.sinc(w * width / (2 * math.pi))
        found: list[_Part] = []
        for rate in map(float, x[:parts]):
            fades = np.exp(-rate * t)
            c, s = fades * np.cos(theta), fades * np.sin(theta)
            # v = d/dt [Λ·e^(−rate·t)·cos(θ + φ)], for cosine and sine
            found.append((rate, c, s, seen * (-rate * c - w * s), seen * (-rate * s + w * c)))
        design = np.column_stack([x for part in found for x in part[3:]] + [np.ones_like(t)])
        design /= np.linalg.norm(design, axis=0)
        q, _ = np.linalg.qr(design)
        return found, w, design, q

    def residual(x: FloatArray) -> FloatArray:
        q = columns(x)[-1]
        return np.asarray((v - q @ (q.T @ v)).ravel())

    def slope(x: FloatArray) -> FloatArray:
        """Return the residual's slopes with what is linear solved anew (L. Kaufman, BIT 15, 1975, 49–57)."""
        found, w, _, q = columns(x)
        design = np.column_stack([x for part in found for x in part[3:]] + [np.ones_like(t)])
        norm = np.linalg.norm(design, axis=0)
        solved = np.linalg.lstsq(design / norm, v, rcond=None)[0] / norm[:, None]
        moved = []
        for k in range(len(x)):
            change = np.zeros_like(v)
            for m, (rate, c, s, big_c, big_s) in enumerate(found):
                if k < parts:
                    if k != m:
                        continue
                    dc, ds = -t * big_c - c, -t * big_s - s
                else:
                    turn, fast = omega * angle_of[:, k - parts], omega * basis[:, k - parts]
                    dc = (rate * s - w * c) * turn - fast * s
                    ds = (-rate * c - w * s) * turn + fast * c
                change += dc[:, None] * solved[2 * m] + ds[:, None] * solved[2 * m + 1]
            moved.append(-(change - q @ (q.T @ change)).ravel())
        return np.column_stack(moved)

    if before is None:
        envelope = np.log(np.maximum(_envelope(t, v, omega), 1e-300))
        rate = max(-float(np.polyfit(t, envelope, 1)[0]), 0.1 / t[-1])
        starts = [np.concatenate([[rate], np.full(basis.shape[1], s)]) for s in (0.0, -0.02, 0.02)]
        starts += [np.concatenate([[rate], np.linspace(0.0, -s, basis.shape[1])]) for s in (0.05, 0.15)]
        starts.append(np.concatenate([[rate], _by_crossings(t, v, omega, angle_of)]))
        costs = [float(np.sum(residual(s) ** 2)) for s in starts]
        start = starts[int(np.argmin(costs))]
    else:
        old = before.x[before.parts :]
        speed = np.interp(np.linspace(0, 1, basis.shape[1]), np.linspace(0, 1, len(old)), old)
        rates = before.x[: before.parts]
        start = np.concatenate([rates, [] if second is None else [second * rates[0]], speed])
    scale = np.concatenate([np.maximum(start[:parts], 1e-3), np.full(basis.shape[1], 0.02)])
    low = np.concatenate([[-2.0 / t[-1]], np.full(parts - 1, 0.0), np.full(basis.shape[1], -0.95)])
    high = np.concatenate([np.full(parts, 500.0 / t[-1]), np.full(basis.shape[1], 1.0)])
    start = np.clip(start, low + 1e-9 * (high - low), high - 1e-9 * (high - low))
    found = scipy.optimize.least_squares(
        residual, start, jac=slope, bounds=(low, high), x_scale=scale, method="trf", max_nfev=60
    )
    rest: FloatArray = np.reshape(residual(found.x), v.shape)
    jacobian: FloatArray = slope(found.x)
    dof = max(rest.size - len(found.x) - (2 * parts + 1) * v.shape[1], 1)
    variance = float(np.sum(rest**2)) / dof
    gram = jacobian.T @ jacobian
    norm = np.sqrt(np.diag(gram))
    norm[norm == 0] = 1.0
    covariance = np.linalg.pinv(gram / np.outer(norm, norm)) / np.outer(norm, norm) * variance
    correlated = max(_lag_one(rest[:, k]) for k in range(rest.shape[1]))
    return _Decay(found.x, float(np.sum(rest**2)), covariance * correlated, rest, parts=parts, shares=_shares(columns(found.x)[0], v))


def _by_crossings(t: FloatArray, v: FloatArray, omega: float, angle_of: FloatArray) -> FloatArray:
    """Return the speed's spline from where the first voltage crosses its middle: half a turn each."""
    width = max(int(2 * math.pi / omega / float(np.median(np.diff(t))) / 8), 1)
    calm = scipy.ndimage.uniform_filter1d(v[:, 0] / np.maximum(_envelope(t, v, omega), 1e-300), width)
    at = np.flatnonzero(np.diff(np.sign(calm)))
    if len(at) < angle_of.shape[1] + 2:
        return np.zeros(angle_of.shape[1])
    turned = math.pi * np.arange(len(at)) / omega - t[at]
    found = np.linalg.lstsq(np.column_stack([angle_of[at], np.ones(len(at))]), turned, rcond=1e-6)[0]
    return np.asarray(found[:-1])


def _shares(parts: list[_Part], v: FloatArray) -> FloatArray:
    """Return each part's flux at the cut-off over the sum of all."""
    design = np.column_stack([x for part in parts for x in part[3:]] + [np.ones(len(v))])
    norm = np.linalg.norm(design, axis=0)
    solved = np.linalg.lstsq(design / norm, v, rcond=None)[0] / norm[:, None]
    flux = np.array([float(np.linalg.norm(solved[2 * m : 2 * m + 2])) for m in range(len(parts))])
    return np.asarray(flux / flux.sum())


def _second_part(t: FloatArray, v: FloatArray, omega: float, width: float, one: _Decay, pieces: int) -> _Decay:
    """Return the fit with a second part beside the first where the voltage shows one, else ``one``."""
    samples, free = len(t) * v.shape[1], 1 + 2 * v.shape[1]
    ratio, cost, _ = _hint(t, v, omega, width, one=one)
    if samples * math.log(max(one.cost, 1e-300) / max(cost, 1e-300)) < free * math.log(len(t)):
        return one
    best, gained = one, 0.0
    for count in dict.fromkeys((1, pieces)):
        trial = _fit_decay(t, v, omega, width, pieces=count, before=one, second=ratio)
        fewer = len(one.x) - one.parts - (len(trial.x) - trial.parts)
        gain = samples * math.log(max(one.cost, 1e-300) / max(trial.cost, 1e-300)) - (free - fewer) * math.log(len(t)) - 4
        rate, u = trial.main
        if gain > gained and rate > _TOLD * u:  # a part that takes the other's place tells nothing
            best, gained = trial, gain
    return best


def _hint(t: FloatArray, v: FloatArray, omega: float, width: float, one: _Decay) -> tuple[float, float, float]:
    """Return at which rate over the first one's a second part would take most of what is left, the squares that then remain, and by
    how much the first rate gives way [1/s]; the speed stays."""
    angle_of, basis = _course(t, len(one.x) - one.parts)
    w = omega * (1 + basis @ one.x[one.parts :])
    seen = np.sinc(w * width / (2 * math.pi))
    theta = omega * (t + angle_of @ one.x[one.parts :])
    rate = float(one.x[0])
    found: list[tuple[float, float, float]] = []

    def voltages(r: float) -> list[FloatArray]:
        c, s = np.exp(-r * t) * np.cos(theta), np.exp(-r * t) * np.sin(theta)
        return [seen * (-r * c - w * s), seen * (-r * s + w * c)]

    own = voltages(rate)
    own += [t * x for x in own]
    for ratio in _SECOND:
        design = np.column_stack([*own, *voltages(ratio * rate), np.ones_like(t)])
        norm = np.linalg.norm(design, axis=0)
        solved = np.linalg.lstsq(design / norm, v, rcond=None)[0]
        rest = float(np.sum((v - design / norm @ solved) ** 2))
        solved /= norm[:, None]
        moved = float(np.sum(solved[2:4] * solved[:2]) / np.sum(solved[:2] ** 2))
        found.append((rest, ratio, abs(moved)))
    cost, ratio, moved = min(found)
    return ratio, cost, moved


def _course(t: FloatArray, size: int) -> tuple[FloatArray, FloatArray]:
    """Return what ``size`` numbers of a spline make of the angle (n, size) and the speed (n, size), both over the first speed."""
    knots = np.concatenate([[0.0] * 3, np.linspace(0, 1, size - 2), [1.0] * 3])
    u = np.clip(t / t[-1], 0, 1 - 1e-12)
    basis = scipy.interpolate.BSpline.design_matrix(u, knots, 3).toarray()
    turned = [scipy.interpolate.BSpline(knots, row, 3).antiderivative()(u) for row in np.eye(size)]
    return np.array(turned).T * t[-1], basis


def _lag_one(rest: FloatArray) -> float:
    rho = float(np.corrcoef(rest[1:], rest[:-1])[0, 1]) if float(np.std(rest)) > 0 else 0.0
    rho = min(max(rho, 0.0), 0.9)
    return (1 + rho) / (1 - rho)


def _told_apart(fit: _Decay) -> list[Finding]:
    """Say what fades beside the rotor's flux."""
    other = int(fit.shares.argmin())
    share, rate, second = float(fit.shares[other]), fit.main[0], float(fit.x[other])
    if share < _SAID:
        return []
    what = "stays, as remanence does" if second < 0.05 * rate else f"fades with {1e3 / second:.3g} ms"
    text = f"Beside the rotor's flux a part of {100 * share:.2g} % at the cut-off {what}; it is taken out."
    if share > _LIKE:
        text = f"Two parts of the flux are alike, {100 * (1 - share):.0f} and {100 * share:.0f} %: the larger is taken for the rotor's; compare with the tests."
        return [Finding("caution", "two-parts", text)]
    return [Finding("info", "second-part", text)]


def _halves(t: FloatArray, v: FloatArray, fit: _Decay, rate: float) -> tuple[float, float]:
    """Return the decay rates of the early and the late half, by the size of the flux in each."""
    model = v - fit.residual
    rates = []
    for part in (slice(0, len(t) // 2), slice(len(t) // 2, None)):
        # what is left of the flux is the projection of the voltage on its model, in pieces of the half
        count = 6
        blocks = np.array_split(np.arange(len(t))[part], count)
        gains = [float(np.sum(v[b] * model[b]) / np.sum(model[b] ** 2)) for b in blocks]
        middles = [float(np.mean(t[b])) for b in blocks]
        slope = float(np.polyfit(middles, np.log(np.maximum(gains, 1e-9)), 1)[0])
        rates.append(rate - slope)
    return rates[0], rates[1]
