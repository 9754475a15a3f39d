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
    table: list[tuple[float, FloatArray, FloatArray, float, str, bool, float]] = []
    for turn in range(2):
        table = []
        base = u_voltage**2 + (slope * u_current) ** 2 + floor**2
        for shape in _SHAPES:
            for legs in (True, False):
                for knee in _KNEES * largest:
                    h, own = _grown(current, knee, shape, legs), 0.3 * reach
                    for _ in range(3):  # each model doubts the shape of its own loss: that of another one would hold on to it
                        sigma = np.sqrt(base + (_SHAPE_DOUBT * own * (1 - np.abs(h))) ** 2)
                        row = _one(current, voltage, h, sigma, largest, reach, both, knee, shape, legs)
                        own = abs(float(row[1][1]))
                    table.append(row)
        best = max(table, key=lambda row: row[0])
        slope, loss = float(best[1][0]), abs(float(best[1][1]))
        if turn and loss < 1e-9 * reach:
            break
    logs = np.array([row[0] for row in table])
    weights = np.exp(logs - logs.max())
    weights /= weights.sum()
    best = table[int(np.argmax(logs))]
    dof = len(current) - 4
    probability = float(scipy.special.chdtrc(dof, best[6])) if dof > 0 else 1.0
    wide = np.array([math.sqrt(max(row[6] / dof, 1.0)) if dof > 0 and scipy.special.chdtrc(dof, row[6]) < 1e-3 else 1.0 for row in table])
    estimates = [
        _mixture(weights, np.array([row[1][k] for row in table]), np.array([row[2][k] for row in table]) * wide, unit)
        for k, unit in ((0, "Ω"), (1, "V"))
    ]
    return LossLine(estimates[0], estimates[1], float(best[1][2]), best[3], best[4], best[5], probability)


def _apart(current: FloatArray, voltage: FloatArray, reach: float) -> float:
    """Return by how much [A, rms of one] levels of one voltage differ in current: what had not settled counts as much as noise."""
    order = np.argsort(voltage)
    close = np.diff(voltage[order]) < _SAME * reach
    if close.sum() < 3:
        return 0.0
    return float(np.sqrt(np.mean(np.diff(current[order])[close] ** 2) / 2.0))


def _one(
    current: FloatArray, voltage: FloatArray, h: FloatArray, sigma: FloatArray, largest: float, reach: float, both: bool, knee: float, shape: str,
    legs: bool,
) -> tuple[float, FloatArray, FloatArray, float, str, bool, float]:  # fmt: skip
    """Return log marginal likelihood, coefficients, their u, knee, shape, legs and χ² of one model; columns scaled to volts."""
    scale = np.array([1 / largest, 1.0, 1.0])
    design = np.column_stack([current / largest * reach, h * reach, np.full(len(h), reach)]) / sigma[:, None]
    right = voltage / sigma
    # weak priors, relative to the largest voltage: on the loss none that matters, on the constant where only one sign is there
    prior = np.diag([1e-3, 0.3, 0.3 if both else 1 / _OFFSET_DOUBT])
    stacked = np.vstack([design, prior])
    q, r = np.linalg.qr(stacked)
    answer = np.linalg.solve(r, q.T @ np.append(right, np.zeros(3)))
    rest = np.append(right, np.zeros(3)) - stacked @ answer
    chi2 = float(rest @ rest)
    inverse = np.linalg.inv(r)
    u = np.sqrt(np.sum(inverse**2, axis=1))
    # a misfit that no noise explains is taken for noise of that size: or whatever doubts its own shape most would be the likeliest
    dof = max(len(current) - 4, 1)
    size = max(chi2 / dof, 1.0)
    log = -0.5 * chi2 / size - 0.5 * len(current) * math.log(size) - float(np.sum(np.log(np.abs(np.diag(r))))) - float(np.sum(np.log(sigma)))
    if shape == "corner":  # averaged over a ripple that is no triangle, corners come out round
        log -= math.log(3)
    if answer[1] < 0:  # dead time never drives the current
        log -= 0.5 * (answer[1] / u[1]) ** 2
    return log, answer * reach * scale, u * reach * scale, knee, shape, legs, chi2


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

    return Estimate(mean, unit, u, quantile(0.025), quantile(0.975))
