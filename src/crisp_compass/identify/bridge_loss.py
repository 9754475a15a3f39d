"""A line of voltage over current through a bridge whose dead time takes a voltage that grows with the current and then stays.

Model, current held along phase A: v = R·i + s·(h(i/k) + h(i/2k))/2 + c. Each leg loses against its own current, A with all of it,
B and C with half of it each (theory.md, “Dead time”); h is odd and goes to one, its shape is the ripple's and not known: straight
to a corner, hyperbolic tangent, or exponential, of both currents or of the whole one. Shape and knee k are nuisances: for each
shape and each knee of a grid (log-uniform prior) R, s and c follow by weighted least squares, and all are averaged with their
marginal likelihoods (A. Gelman et al., Bayesian Data Analysis, 3rd ed. 2013, 7.4 and 14.2). Where the loss is still growing the
true shape may be another one: what is still missing there counts as known to a seventh.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import scipy

from crisp_compass.estimates import Estimate, FloatArray

_SHAPES: dict[str, Callable[[FloatArray], FloatArray]] = {
    "corner": lambda x: np.asarray(np.minimum(x, 1.0)),
    "tanh": lambda x: np.asarray(np.tanh(x)),
    "exponential": lambda x: np.asarray(-np.expm1(-x)),
}
_KNEES = np.geomspace(1 / 200, 1 / 3, 72)
#: Share of the largest voltage within which two levels count as the same.
_SAME = 2e-4
#: Standard deviation of the loss's shape over what is still missing of it, and of a constant over the largest voltage where all
#: currents have one sign.
_SHAPE_DOUBT, _OFFSET_DOUBT = 0.15, 0.01


@dataclass(frozen=True)
class LossLine:
    """Averaged fit: ``slope`` [Ω], ``loss`` [V] fully developed, ``constant`` [V]; ``knee`` [A] and ``shape`` of the likeliest."""

    slope: Estimate
    loss: Estimate
    constant: float
    knee: float
    shape: str
    legs: bool
    probability: float

    def at(self, current: FloatArray) -> FloatArray:
        """Return the likeliest curve's voltage (n,) at currents (n,) [A]."""
        h = _grown(np.asarray(current), self.knee, self.shape, self.legs)
        return np.asarray(self.slope.value * current + self.loss.value * h + self.constant)

    def grown(self, current: FloatArray) -> FloatArray:
        """Return which part of the loss is there at currents (n,) [A], 0 to 1."""
        return np.abs(_grown(np.asarray(current), self.knee, self.shape, self.legs))


def _grown(current: FloatArray, knee: float, shape: str, legs: bool) -> FloatArray:
    x, h = np.abs(current) / knee, _SHAPES[shape]
    return np.asarray(np.sign(current) * (0.5 * (h(x) + h(0.5 * x)) if legs else h(x)))


def fit_loss_line(current: FloatArray, voltage: FloatArray, u_voltage: FloatArray, u_current: FloatArray) -> LossLine:
    """Fit levels (n,) with standard uncertainties (n,), A and V."""
    largest, reach = float(np.max(np.abs(current))), float(np.max(np.abs(voltage)))
    both = min((current > 0).sum(), (current < 0).sum()) >= 2
    floor = 1e-6 * reach
    slope, loss = float(np.polyfit(current, voltage, 1)[0]), 0.0
    u_current = np.maximum(u_current, _apart(current, voltage, reach))
    models = [(shape, legs, float(knee)) for shape in _SHAPES for legs in (True, False) for knee in _KNEES * largest]
    grown = np.array([_grown(current, knee, shape, legs) for shape, legs, knee in models])
    corner = np.array([shape == "corner" for shape, _, _ in models])
    for turn in range(2):
        base = u_voltage**2 + (slope * u_current) ** 2 + floor**2
        own = np.full(len(models), 0.3 * reach)
        for _ in range(3):  # each model doubts the shape of its own loss: that of another one would hold on to it
            sigma = np.sqrt(base + (_SHAPE_DOUBT * own[:, None] * (1 - np.abs(grown))) ** 2)
            logs, means, sds, chi2 = _solved(current, voltage, grown, sigma, both=both, corner=corner)
            own = np.abs(means[:, 1])
        best = int(np.argmax(logs))
        slope, loss = float(means[best, 0]), abs(float(means[best, 1]))
        if turn and loss < 1e-9 * reach:
            break
    weights = np.exp(logs - logs.max())
    weights /= weights.sum()
    shape, legs, knee = models[best]
    dof, chance = len(current) - 4, np.ones(len(models))
    if dof > 0:
        chance = scipy.special.chdtrc(dof, chi2)
    wide = np.where(chance < 1e-3, np.sqrt(np.maximum(chi2 / max(dof, 1), 1.0)), 1.0)
    estimates = [_mixture(weights, means[:, k], sds[:, k] * wide, unit) for k, unit in ((0, "Ω"), (1, "V"))]
    return LossLine(estimates[0], estimates[1], float(means[best, 2]), knee, shape=shape, legs=legs, probability=float(chance[best]))


def _apart(current: FloatArray, voltage: FloatArray, reach: float) -> float:
    """Return by how much [A, rms of one] levels of one voltage differ in current: what had not settled counts as much as noise."""
    order = np.argsort(voltage)
    close = np.diff(voltage[order]) < _SAME * reach
    if close.sum() < 3:
        return 0.0
    return float(np.sqrt(np.mean(np.diff(current[order])[close] ** 2) / 2.0))


def _solved(
    current: FloatArray, voltage: FloatArray, grown: FloatArray, sigma: FloatArray, *, both: bool, corner: npt.NDArray[np.bool_]
) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """Return log marginal likelihoods (m,), coefficients and their u (m, 3) and χ² (m,) of all models at once, from what is
    ``grown`` of each one's loss and each one's ``sigma`` [V] (m, n); columns scaled to volts."""
    largest, reach, n = float(np.max(np.abs(current))), float(np.max(np.abs(voltage))), len(current)
    columns = np.stack(np.broadcast_arrays(current / largest * reach, grown * reach, np.full(n, reach)), axis=-1)
    # weak priors, relative to the largest voltage: on the loss none that matters, on the constant where only one sign is there
    prior = np.diag([1e-3, 0.3, 0.3 if both else 1 / _OFFSET_DOUBT])
    stacked = np.concatenate([columns / sigma[:, :, None], np.broadcast_to(prior, (len(grown), 3, 3))], axis=1)
    right = np.concatenate([voltage / sigma, np.zeros((len(grown), 3))], axis=1)[:, :, None]
    q, r = np.linalg.qr(stacked)
    answer = np.linalg.solve(r, q.transpose(0, 2, 1) @ right)
    chi2 = np.sum((right - stacked @ answer) ** 2, axis=(1, 2))
    answer = answer[:, :, 0]
    u = np.sqrt(np.sum(np.linalg.inv(r) ** 2, axis=2))
    # a misfit that no noise explains is taken for noise of that size: or whatever doubts its own shape most would be the likeliest
    size = np.maximum(chi2 / max(n - 4, 1), 1.0)
    diagonal = np.abs(np.diagonal(r, axis1=1, axis2=2))
    log = -0.5 * chi2 / size - 0.5 * n * np.log(size) - np.sum(np.log(diagonal), axis=1) - np.sum(np.log(sigma), axis=1)
    # averaged over a ripple that is no triangle, corners come out round; dead time never drives the current
    log = log - np.where(corner, math.log(3), 0.0) - np.where(answer[:, 1] < 0, 0.5 * (answer[:, 1] / u[:, 1]) ** 2, 0.0)
    volts = reach * np.array([1 / largest, 1.0, 1.0])
    return log, answer * volts, u * volts, chi2


def _mixture(weights: FloatArray, means: FloatArray, sds: FloatArray, unit: str) -> Estimate:
    """Return mean, u and 95 % interval of a mixture of normal distributions."""
    mean = float(weights @ means)
    u = math.sqrt(float(weights @ (sds**2 + (means - mean) ** 2)))

    def quantile(p: float) -> float:
        low, high = mean - 12 * u, mean + 12 * u
        for _ in range(60):
            middle = 0.5 * (low + high)
            below = float(weights @ scipy.special.ndtr((middle - means) / np.maximum(sds, 1e-300)))
            low, high = (middle, high) if below < p else (low, middle)
        return 0.5 * (low + high)

    return Estimate(mean, unit, u, quantile(0.025), high=quantile(0.975))
