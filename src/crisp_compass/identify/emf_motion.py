"""The motion of a turning machine and the waveforms it makes, fitted together by Gauss–Newton: the inner part of :mod:`crisp_compass.identify.emf`."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.estimates import FloatArray

_DEGREE = 4


@dataclass(frozen=True)
class State:
    """What a Gauss–Newton step starts from: the samples, and the motion's spline basis over them."""

    t: FloatArray
    v: FloatArray
    orders: tuple[int, ...]
    geometry: FloatArray
    basis: scipy.sparse.csr_array
    slope: scipy.sparse.csr_array


def motion_spline(t: FloatArray, pieces: int) -> tuple[scipy.sparse.csr_array, scipy.sparse.csr_array]:
    """Return the spline's basis over ``t`` (n,) and its derivative by time, each (n, pieces + 4)."""
    knots = np.concatenate([[0.0] * _DEGREE, np.linspace(0.0, 1.0, pieces + 1), [1.0] * _DEGREE])
    x = np.clip((t - t[0]) / (t[-1] - t[0]), 0.0, 1.0)
    basis = scipy.interpolate.BSpline.design_matrix(x, knots, _DEGREE).tocsr()
    lower = scipy.interpolate.BSpline.design_matrix(x, knots[1:-1], _DEGREE - 1).tocsr()
    count = basis.shape[1]
    gaps = knots[_DEGREE + 1 : _DEGREE + count] - knots[1:count]
    difference = scipy.sparse.diags_array([-_DEGREE / gaps, _DEGREE / gaps], offsets=[0, 1], shape=(count - 1, count))
    return basis, (lower @ difference).tocsr() / (t[-1] - t[0])


def orders_told_apart(t: FloatArray, theta: FloatArray) -> tuple[int, ...]:
    """Odd harmonics that the sampling can tell apart."""
    fastest = float(np.percentile(np.abs(np.gradient(theta, t)), 95))
    nyquist = math.pi / float(np.median(np.diff(t)))
    count = len(t)
    limit = 13 if count > 400 else 7 if count > 100 else 3
    orders = tuple(h for h in (1, 3, 5, 7, 9, 11, 13) if h <= limit and h * fastest < 0.95 * nyquist)
    return orders or (1,)


@dataclass(frozen=True)
class Waves:
    """cos hθ and sin hθ of every odd order, (m, orders): what the columns of all channels are made of."""

    cos: FloatArray
    sin: FloatArray
    orders: FloatArray

    @classmethod
    def of(cls, orders: tuple[int, ...], theta: FloatArray) -> Waves:
        """Return the waves at angles (m,); powers of one complex exponential cost a tenth of as many sines."""
        first = np.exp(1j * theta)
        twice, power = first * first, first
        cos, sin = np.empty((len(theta), len(orders)), order="F"), np.empty((len(theta), len(orders)), order="F")
        reached = 1
        for k, h in enumerate(orders):
            while reached < h:
                power, reached = power * twice, reached + 2
            cos[:, k], sin[:, k] = power.real, power.imag
        return cls(cos, sin, np.array(orders, dtype=np.float64))

    def design(self, row: FloatArray, *, first: bool) -> FloatArray:
        """Return the waveform columns (m, k) over ω of the channel that lies on a row of the geometry."""
        return self._columns(row, first, self.cos, self.sin)

    def slope(self, row: FloatArray, *, first: bool) -> FloatArray:
        """Return the derivative by θ of :meth:`design`."""
        return self._columns(row, first, -self.orders * self.sin, self.orders * self.cos)

    def _columns(self, row: FloatArray, first: bool, cos: FloatArray, sin: FloatArray) -> FloatArray:
        own = 1 if first else 2  # θ is counted from the first channel's fundamental, so that one has no second part
        out = np.empty((len(cos), own + 2 * (cos.shape[1] - 1)), order="F")
        out[:, 0] = row[1] * cos[:, 0] - row[0] * sin[:, 0]
        if not first:
            out[:, 1] = -row[0] * cos[:, 0] - row[1] * sin[:, 0]
        out[:, own::2], out[:, own + 1 :: 2] = cos[:, 1:], sin[:, 1:]
        return out


@dataclass(frozen=True)
class Trial:
    """A motion, and the waveforms that suit it best: ``designs`` holds each channel's linear columns (m, k + 1)."""

    spline: FloatArray
    omega: FloatArray
    waves: Waves
    designs: list[FloatArray]
    coefficients: list[FloatArray]
    model: FloatArray
    cost: float


def solve_waveforms(state: State, spline: FloatArray, weights: FloatArray) -> Trial:
    """Solve waveforms and offsets for a given motion."""
    theta, omega = state.basis @ spline, state.slope @ spline
    waves = Waves.of(state.orders, theta)
    designs, coefficients, model = [], [], np.empty_like(state.v)
    for channel, row in enumerate(state.geometry):
        shape = waves.design(row, first=channel == 0)
        design = np.ones((len(theta), shape.shape[1] + 1), order="F")
        np.multiply(shape, omega[:, None], out=design[:, :-1])
        norm = np.linalg.norm(design, axis=0)
        norm[norm == 0] = 1.0
        gram = (design.T @ design) / np.outer(norm, norm) + 1e-12 * np.eye(len(norm))
        solved = np.linalg.solve(gram, (design.T @ state.v[:, channel]) / norm) / norm
        designs.append(design)
        coefficients.append(solved)
        model[:, channel] = design @ solved
    return Trial(
        spline, omega, waves, designs, coefficients=coefficients, model=model, cost=float(np.sum(((state.v - model) * weights) ** 2))
    )


def normal_equations(state: State, trial: Trial, weights: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return the normal matrix and the right side of all parameters (spline first, then each channel's)."""
    k = state.basis.shape[1]
    total = k + sum(len(c) for c in trial.coefficients)
    gram, right = np.zeros((total, total)), np.zeros(total)
    position = k
    for channel, (row, design, solved) in enumerate(
        zip(state.geometry, trial.designs, trial.coefficients, strict=True)
    ):
        weight = weights[channel]
        wave = trial.waves.design(row, first=channel == 0) @ solved[:-1]
        wave_slope = trial.waves.slope(row, first=channel == 0) @ solved[:-1]
        motion = (
            scipy.sparse.diags_array(weight * trial.omega * wave_slope) @ state.basis
            + scipy.sparse.diags_array(weight * wave) @ state.slope
        )
        residual = (state.v[:, channel] - trial.model[:, channel]) * weight
        own = slice(position, position + len(solved))
        gram[:k, :k] += (motion.T @ motion).toarray()
        cross = motion.T @ (design * weight)
        gram[:k, own], gram[own, :k] = cross, cross.T
        gram[own, own] = weight**2 * (design.T @ design)
        right[:k] += motion.T @ residual
        right[own] = weight * (design.T @ residual)
        position += len(solved)
    return gram, right


def solve_motion(state: State, spline: FloatArray, weights: FloatArray) -> Trial:
    """Iterate from a motion to the least weighted squares."""
    k = state.basis.shape[1]
    damping = 1e-3
    best = solve_waveforms(state, spline, weights)
    for _ in range(25):
        reduced, target = _eliminate(*normal_equations(state, best, weights), k)
        for _ in range(6):
            lifted = reduced + damping * np.diag(np.diag(reduced)) + 1e-12 * np.trace(reduced) / k * np.eye(k)
            trial = solve_waveforms(state, best.spline + np.linalg.solve(lifted, target), weights)
            if trial.cost <= best.cost:
                break
            damping *= 8
        else:
            break
        gain = (best.cost - trial.cost) / max(best.cost, 1e-300)
        best = trial
        damping = max(damping / 10, 1e-9)
        if gain < 1e-7:
            break
    return best


def _eliminate(gram: FloatArray, right: FloatArray, k: int) -> tuple[FloatArray, FloatArray]:
    """Eliminate the linear parameters from the normal equations (Schur complement)."""
    lower = gram[k:, k:]
    scale = 1 / np.sqrt(np.maximum(np.diag(lower), 1e-300))
    inverse = np.linalg.pinv(lower * np.outer(scale, scale), rcond=1e-12) * np.outer(scale, scale)
    cross = gram[:k, k:]
    return gram[:k, :k] - cross @ inverse @ cross.T, right[:k] - cross @ inverse @ right[k:]


def project(basis: scipy.sparse.csr_array, theta: FloatArray) -> FloatArray:
    """Return the coefficients whose spline follows ``theta`` (n,) best."""
    gram = (basis.T @ basis).toarray()
    return np.asarray(np.linalg.solve(gram + 1e-9 * np.trace(gram) / len(gram) * np.eye(len(gram)), basis.T @ theta))
