"""Back-EMF of a turning machine at changing speed: rotor angle over time, flux linkage and harmonics together.

Model. The open-circuit voltage of channel c is the time derivative of a flux that depends on the angle only:

    v_c(t) = ω(t)·Σ_h [ a_ch·cos hθ(t) + b_ch·sin hθ(t) ] + o_c,     ω = dθ/dt

so amplitude and frequency are tied and a falling speed biases nothing. θ(t) is a spline of degree 4 (ω a cubic
spline); offsets o_c and odd harmonics are free. All are fitted together by Gauss–Newton (Levenberg–Marquardt damping)
to the samples themselves, where the noise is white; integrating the voltage first would turn it into a random walk.
The number of spline pieces grows until the Bayesian information criterion stops improving (G. Schwarz, Ann. Statist.
6, 1978, 461–464).

Start values: with two or more channels the integrated voltages describe a circle apart from an offset and a drift,
which are found linearly; with one channel the zero crossings give the angle.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.quality import noise
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray, IntArray
from crisp_compass.identify.emf_motion import (
    State,
    Trial,
    Waves,
    motion_spline,
    normal_equations,
    orders_told_apart,
    project,
    solve_motion,
)

#: Each channel as a row on the (α, β) voltage vector.
GEOMETRY: dict[str, tuple[float, float]] = {
    "v_a": (1.0, 0.0),
    "v_b": (-0.5, math.sqrt(3) / 2),
    "v_c": (-0.5, -math.sqrt(3) / 2),
    "v_ab": (1.5, -math.sqrt(3) / 2),
    "v_bc": (0.0, math.sqrt(3)),
    "v_ca": (-1.5, -math.sqrt(3) / 2),
}
#: The two windings of a stepper.
TWO_PHASE: dict[str, tuple[float, float]] = {"v_a": (1.0, 0.0), "v_b": (0.0, 1.0)}
_MAX_SAMPLES = 50_000
_START_MISFIT = 0.12  # rad


@dataclass(frozen=True)
class EmfFit:
    """The fitted motion and waveforms.

    Attributes
    ----------
    index
        Samples of the capture that were used, shape (m,).
    time, theta, omega
        Shape (m,): s, electrical rad (θ = 0 where the rotor's flux lies along A; sign only known with two
        channels), electrical rad/s.
    channels
        Channel names in the order of ``psi``.
    psi, psi_u
        Flux linkage [Wb, phase peak] seen by each channel and its standard uncertainty.
    psi_covariance
        Covariance of ``psi``, shape (c, c).
    phase_error
        Deviation of each channel's fundamental from its place in the three-phase system, rad.
    harmonics
        Order → complex voltage ratio per channel (c,), fundamental-aligned; ``harmonics_u`` its standard uncertainty
        per component.
    offsets
        Channel offsets [V].
    crest
        Peak of each channel's waveform over the peak of its fundamental, at constant speed.
    model, residual
        Shape (m, c), V.
    """

    index: IntArray
    time: FloatArray
    theta: FloatArray
    omega: FloatArray
    channels: tuple[str, ...]
    psi: FloatArray
    psi_u: FloatArray
    psi_covariance: FloatArray
    phase_error: FloatArray
    harmonics: Mapping[int, np.ndarray]
    harmonics_u: Mapping[int, FloatArray]
    offsets: FloatArray
    crest: FloatArray
    model: FloatArray
    residual: FloatArray
    vectorial: bool

    @property
    def excess(self) -> float:
        """Residual over the noise of the samples: about 1 where the model explains everything."""
        ratios = [
            float(np.std(self.residual[:, c])) / max(noise(self.residual[:, c]), 1e-12)
            for c in range(len(self.channels))
        ]
        return max(ratios)


def fit_emf(
    time: FloatArray,
    voltages: Mapping[str, FloatArray],
    source: str = "",
    *,
    rows: Mapping[str, tuple[float, float]] = GEOMETRY,
    ratios: tuple[int, ...] = (5, 7),
    pieces_per_turn: float = 12.0,
) -> EmfFit:
    """Fit rotor motion and back-EMF.

    Parameters
    ----------
    time
        Shape (n,), s.
    voltages
        One to three of ``v_ab v_bc v_ca v_a v_b v_c``, each (n,), V, windings open.
    rows
        Each channel as a row on the (α, β) voltage vector.
    ratios
        Harmonics to report.
    pieces_per_turn
        Most pieces of the motion's spline per electrical turn: many follow a jerking shaft, few leave its ripple in the waveform.

    Raises
    ------
    Refusal
        No voltage above the noise, or less than one electrical turn.
    """
    names = tuple(voltages)
    values = np.column_stack([voltages[n] for n in names])
    geometry = np.array([rows[n] for n in names])
    vectorial = len(names) > 1 and np.linalg.matrix_rank(geometry, tol=1e-6) == 2
    size = _first_block(time, values, geometry) if vectorial and len(time) > 2 * _LONG and _even(time) else 1
    index, t, v = np.arange(len(time)), time, values
    if size > 1:  # a long record is averaged before it is integrated
        index, t, v = index[size // 2 : len(t) // size * size : size], _averaged(t, size), _averaged(v, size)
    start = _circle_start(t, v, geometry) if vectorial else None
    if start is not None:
        theta = start
    else:
        vectorial = False
        index, theta = _crossing_start(time, values[:, int(np.argmax(np.ptp(values, axis=0)))], source)
        t, v = time[index], values[index]
    turns = float(np.ptp(theta)) / (2 * math.pi)
    if turns < 1.0:
        raise Refusal(
            "the shaft turned less than one electrical turn",
            "turn it further, or start the capture at higher speed",
            where=source,
        )
    again = _block(t, theta)
    if again > 1:
        index = index[again // 2 : len(t) // again * again : again]
        t, theta, v = _averaged(t, again), _averaged(theta, again), _averaged(v, again)
    attenuation = _attenuation(t, theta) if size * again > 1 else 1.0
    if len(t) > _MAX_SAMPLES:
        stride = -(-len(t) // _MAX_SAMPLES)
        index, t, v, theta = index[::stride], t[::stride], v[::stride], theta[::stride]
    fit = _refine(t, v, index, theta, names=names, geometry=geometry, vectorial=vectorial, attenuation=attenuation, ratios=ratios, pieces_per_turn=pieces_per_turn)
    explained = float(np.sum(np.var(fit.model, axis=0)) / np.sum(np.var(fit.residual, axis=0) + 1e-300))
    if explained < 4 or (not vectorial and explained < 100 and fit.excess > 3):
        if explained >= 4:
            raise Refusal(
                "one voltage does not tell how the shaft turned",
                "it stopped or turned back; capture two voltages, or one long coast",
                where=source,
            )
        raise Refusal(
            "the voltage does not look like that of a turning rotor",
            "check that the windings are open, the probes sit on the leads and the shaft turns steadily",
            where=source,
        )
    return fit


#: Samples that a record is averaged down to before its angle is sought, where its turns allow it.
_LONG = 250_000


def _first_block(time: FloatArray, values: FloatArray, geometry: FloatArray) -> int:
    """Samples that a long record can be averaged over, from a coarse look at its angle; 1 where that shows no circle."""
    coarse = len(time) // _LONG
    t = _averaged(time, coarse)
    theta = _circle_start(t, _averaged(values, coarse), geometry)
    if theta is None or float(np.percentile(np.abs(np.diff(theta)), 99)) > 2 * math.pi / 8:
        return 1  # so few samples a turn tell no speed
    return _block(t, theta, float(np.median(np.diff(time))))


def _even(t: FloatArray) -> bool:
    steps = np.diff(t)
    return float(np.max(steps)) < 1.5 * float(np.median(steps))


def _averaged(values: FloatArray, size: int) -> FloatArray:
    """Return the means of whole blocks of samples, along the first axis."""
    count = len(values) // size
    columns = values[: count * size].reshape(count, size, -1)
    share = np.full(size, 1.0 / size)  # a product is several times faster than a mean over short rows
    return np.stack([columns[:, :, c] @ share for c in range(columns.shape[2])], axis=1).reshape(
        count, *values.shape[1:]
    )


def _attenuation(t: FloatArray, theta: FloatArray) -> float:
    """Return what averaging over blocks of the spacing of ``t`` leaves of a sine: sin(x)/x of half the block's angle."""
    omega = np.gradient(theta, t)
    loss = np.sinc(omega * float(np.median(np.diff(t))) / (2 * math.pi))
    return float(np.sum(omega**2 * loss) / np.sum(omega**2))


def _block(t: FloatArray, theta: FloatArray, interval: float | None = None) -> int:
    """Samples (``interval`` s apart, else those of ``t``) to average: at least 250 blocks an electrical turn are left."""
    fastest = float(np.percentile(np.abs(np.gradient(theta, t)), 99))
    interval = float(np.median(np.diff(t))) if interval is None else interval
    return max(1, int(2 * math.pi / fastest / interval / 250)) if fastest > 0 and _even(t) else 1


#: Samples that the circle of the flux is fitted to, at most.
_CIRCLE_SAMPLES = 100_000


def _circle_start(time: FloatArray, values: FloatArray, geometry: FloatArray) -> FloatArray | None:
    """Return θ (n,) from the integrated voltage vector, or None if it describes no circle."""
    vector = values @ np.linalg.pinv(geometry).T
    vector = vector - vector.mean(axis=0)
    dt = np.diff(time)
    steps = 0.5 * (vector[1:] + vector[:-1]) * dt[:, None]
    flux = np.vstack([np.zeros(2), np.cumsum(steps, axis=0)])
    tau = (time - time[0]) / (time[-1] - time[0]) - 0.5
    scale = float(np.max(np.abs(flux - flux.mean(axis=0))))
    if scale == 0:
        return None
    flux = (flux - flux.mean(axis=0)) / scale
    # the integral is smooth, so a part of a very long record's samples tells the circle as well as all of them
    thin = slice(None, None, max(1, len(tau) // _CIRCLE_SAMPLES))
    some, at = flux[thin], tau[thin]
    # |λ − c − o·τ|² = ψ² is linear in products of the unknowns
    design = np.column_stack([2 * some, 2 * at[:, None] * some, np.ones_like(at), at, at**2])
    solution, *_ = np.linalg.lstsq(design, np.sum(some**2, axis=1), rcond=None)
    centre, drift = solution[:2], solution[2:4]
    for _ in range(8):
        arm = some - centre - at[:, None] * drift
        radius = np.hypot(arm[:, 0], arm[:, 1])
        unit = arm / np.maximum(radius, 1e-9)[:, None]
        jacobian = np.column_stack([np.ones_like(at), unit, unit * at[:, None]])
        step, *_ = np.linalg.lstsq(jacobian, radius, rcond=None)
        centre, drift = centre + step[1:3], drift + step[3:5]
    arm = flux - centre - tau[:, None] * drift
    radius = np.hypot(arm[:, 0], arm[:, 1])
    if float(np.std(radius)) > 0.25 * float(np.mean(radius)):
        return None
    return np.asarray(np.unwrap(np.arctan2(arm[:, 1], arm[:, 0])), dtype=np.float64)


def _crossing_start(time: FloatArray, v: FloatArray, source: str) -> tuple[IntArray, FloatArray]:
    """Return samples and θ between the first and last zero crossing of one channel."""
    n = len(v)
    sigma = noise(v)
    centre = 0.5 * float(np.percentile(v, 2) + np.percentile(v, 98))
    amplitude = 0.5 * float(np.percentile(v, 98) - np.percentile(v, 2))
    smooth = v - centre
    band = max(min(4 * sigma, 0.3 * amplitude), 0.04 * amplitude)
    state = np.where(smooth > band, 1, np.where(smooth < -band, -1, 0))
    nonzero = np.flatnonzero(state)
    if len(nonzero) < 4:
        raise Refusal(
            "no voltage stands out from the noise", "turn the shaft faster or use a smaller range", where=source
        )
    signs = state[nonzero]
    change = np.flatnonzero(np.diff(signs))
    if len(change) < 3:
        raise Refusal(
            "the shaft turned less than one electrical turn",
            "turn it further, or start the capture at higher speed",
            where=source,
        )
    crossings = np.array([_crossing_time(time, smooth, nonzero[k], nonzero[k + 1]) for k in change])
    angles = math.pi * np.arange(len(crossings)) + (0.0 if signs[change[0]] < 0 else math.pi)
    # an offset moves neighbouring crossings in opposite directions: average them
    if len(crossings) > 4:
        middle = (crossings[:-2] + 2 * crossings[1:-1] + crossings[2:]) / 4
        crossings = np.concatenate([crossings[:1], middle, crossings[-1:]])
    crossings, keep = np.unique(crossings, return_index=True)
    index = np.flatnonzero((time >= crossings[0]) & (time <= crossings[-1]))
    if len(index) < 20 or n < 20:
        raise Refusal(f"{len(index)} samples within whole turns are too few", "sample faster", where=source)
    return index, np.asarray(scipy.interpolate.PchipInterpolator(crossings, angles[keep])(time[index]))


def _crossing_time(time: FloatArray, v: FloatArray, a: int, b: int) -> float:
    """Return when the line through the samples around a crossing meets zero."""
    if b - a < 3:
        return float(time[a] + (time[b] - time[a]) * v[a] / (v[a] - v[b]))
    slope, base = np.polyfit(time[a : b + 1] - time[a], v[a : b + 1], 1)
    inside = -base / slope if slope else 0.5 * (time[b] - time[a])
    return float(time[a] + np.clip(inside, 0.0, time[b] - time[a]))


#: Bins of one turn into which the rest of a waveform is folded.
_BINS = 120


def _rest_of_wave(at: FloatArray, theta: FloatArray, omega: FloatArray, residual: FloatArray) -> FloatArray:
    """Return what the fitted harmonics leave of the waveform per rad/s at angles (m,): the residual folded into one turn.

    Zero where a bin's mean is no better known than the rest is large: noise must not raise a peak.
    """
    fast = np.abs(omega) > 0.3 * float(np.max(np.abs(omega)))
    place = (theta[fast] % (2 * math.pi) / (2 * math.pi) * _BINS).astype(int) % _BINS
    shape = residual[fast] / omega[fast]
    count = np.bincount(place, minlength=_BINS)
    if count.min() < 4:
        return np.zeros(len(at))
    mean = np.bincount(place, shape, _BINS) / count
    noise_of_mean = float(np.sqrt(np.mean((shape - mean[place]) ** 2) / count.mean()))
    share = max(1 - (noise_of_mean / max(float(np.std(mean)), 1e-300)) ** 2, 0.0)
    return np.asarray(share * np.interp(at, (np.arange(_BINS) + 0.5) * 2 * math.pi / _BINS, mean, period=2 * math.pi))


def _refine(
    t: FloatArray, v: FloatArray, index: IntArray, theta: FloatArray, names: tuple[str, ...],
    geometry: FloatArray, vectorial: bool,
    attenuation: float, ratios: tuple[int, ...], pieces_per_turn: float,
) -> EmfFit:  # fmt: skip
    turns = float(np.ptp(theta)) / (2 * math.pi)
    weights = 1 / np.array([max(noise(v[:, c]), 1e-4 * float(np.ptp(v[:, c])), 1e-12) for c in range(v.shape[1])])
    orders = orders_told_apart(t, theta)
    best: tuple[float, State, Trial] | None = None
    pieces = max(3, min(12, int(turns / 3)))
    most = int(min(max(pieces_per_turn * turns, 64 if pieces_per_turn > 1 else 3), len(t) / 10, 600))
    worse = 0
    while pieces <= max(most, 3):
        basis, slope = motion_spline(t, pieces)
        spline = project(basis, theta)
        # too stiff a spline slips by whole turns and would not find back: more pieces first
        if float(np.std(theta - basis @ spline)) > _START_MISFIT and 2 * pieces <= most:
            pieces *= 2
            continue
        state = State(t, v, orders, geometry, basis=basis, slope=slope)
        trial = solve_motion(state, spline, weights)
        count = v.size
        criterion = count * math.log(max(trial.cost, 1e-300) / count) + basis.shape[1] * math.log(count)
        if best is None or criterion < best[0] - 2:
            best, worse = (criterion, state, trial), 0
        else:
            worse += 1
            if worse == 2:
                break
        pieces *= 2
    assert best is not None
    return _result(best[1], best[2], names, index, weights=weights, vectorial=vectorial, attenuation=attenuation, wanted=ratios)


def _result(
    state: State, trial: Trial, names: tuple[str, ...], index: IntArray,
    weights: FloatArray, vectorial: bool, attenuation: float, wanted: tuple[int, ...],
) -> EmfFit:  # fmt: skip
    theta, omega = state.basis @ trial.spline, trial.omega
    gram, _ = normal_equations(state, trial, weights)
    residual = state.v - trial.model
    dof = max(residual.size - len(gram), 1)
    scale = 1 / np.sqrt(np.maximum(np.diag(gram), 1e-300))
    covariance = np.linalg.pinv(gram * np.outer(scale, scale), rcond=1e-13) * np.outer(scale, scale)
    covariance *= float(np.sum((residual * weights) ** 2)) / dof
    position = state.basis.shape[1]
    reach = np.hypot(state.geometry[:, 0], state.geometry[:, 1])
    c = len(names)
    crest = np.empty(c)
    round_turn = np.linspace(0.0, 2 * math.pi, 720, endpoint=False)
    psi, phase, gradients = np.empty(c), np.zeros(c), np.zeros((c, len(gram)))
    ratios: dict[int, list[complex]] = {h: [] for h in wanted if h in state.orders}
    ratio_u: dict[int, list[float]] = {h: [] for h in ratios}
    for channel, solved in enumerate(trial.coefficients):
        own = 1 if channel == 0 else 2
        first = solved[:own]
        psi[channel] = float(np.linalg.norm(first)) / attenuation
        gradients[channel, position : position + own] = first / (psi[channel] * attenuation**2)
        phase[channel] = 0.0 if own == 1 else math.atan2(first[1], first[0])
        fundamental = psi[channel] * attenuation * reach[channel]
        wave = Waves.of(state.orders, round_turn).design(state.geometry[channel], first=channel == 0)
        peak = np.abs(wave @ solved[:-1] + _rest_of_wave(round_turn, theta, omega, residual[:, channel]))
        crest[channel] = float(np.max(peak)) / fundamental
        # angle of the channel's fundamental cosine, so that harmonics of all channels can be compared
        base = math.atan2(-state.geometry[channel, 0], state.geometry[channel, 1]) - phase[channel]
        if first[0] < 0 and own == 1:
            base += math.pi
        for h, found in ratios.items():
            k = own + 2 * (state.orders.index(h) - 1)
            value = complex(solved[k], -solved[k + 1]) / fundamental
            found.append(value * complex(math.cos(h * base), math.sin(h * base)))
            block = covariance[position + k : position + k + 2, position + k : position + k + 2]
            ratio_u[h].append(math.sqrt(max(float(np.trace(block)) / 2, 0.0)) / fundamental)
        position += len(solved)
    psi_covariance = gradients @ covariance @ gradients.T
    if vectorial:  # centre the angle on all channels instead of the first
        shift = float(np.mean(phase))
        theta, phase = theta - shift, phase - shift
    return EmfFit(
        index, state.t, theta, omega, channels=names, psi=psi, psi_u=np.sqrt(np.maximum(np.diag(psi_covariance), 0.0)), psi_covariance=psi_covariance, phase_error=phase,
        harmonics={h: np.array(x) for h, x in ratios.items()}, harmonics_u={h: np.array(x) for h, x in ratio_u.items()},
        offsets=np.array([solved[-1] for solved in trial.coefficients]), crest=crest, model=trial.model, residual=residual, vectorial=vectorial,
    )  # fmt: skip
