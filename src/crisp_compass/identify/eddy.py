"""A winding whose iron carries eddy currents: two time constants instead of one.

Model. The eddy path is a shorted turn: part L2 of the inductance lies in parallel with a resistance Re, so that

    Z(s) = R + s·L1 + s·L2·Re/(Re + s·L2),     1/Z(s) = g1/(s + a1) + g2/(s + a2),   g1, g2 > 0

(Foster form of a passive R–L network; see docs/theory.md, “Eddy currents”). Slowly the winding shows L1 + L2, at
once only L1:

    R = 1/(g1/a1 + g2/a2),   L_slow = R²·(g1/a1² + g2/a2²),   L_fast = 1/(g1 + g2)

Both poles are searched, everything else is linear (variable projection). The second pole is accepted only where it
lowers the misfit far beyond chance.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.quality import noise, quantum
from crisp_compass.estimates import FloatArray
from crisp_compass.identify.relaxation import relax_back
from crisp_compass.identify.steps import Steps, driven, run_covariance, ties

_HEADS = 5
_MOST = 12_000_000

#: The same samples choose the second pole and fit it; the calibration (docs/accuracy.md) asks for this much more.
_CHOSEN = 1.1


@dataclass(frozen=True)
class EddyFit:
    """Values between the terminals: R [Ω], slow and fast L [H], standard uncertainties of R and L_slow; model (n,) A."""

    resistance: float
    resistance_u: float
    slow: float
    slow_u: float
    fast: float
    model: FloatArray
    excess: float


def fit_eddy(data: Steps, a: float, g: float, cost: float) -> EddyFit | None:
    """Fit two poles, starting from the single one (``a`` [1/s], ``g`` [1/H], its ``cost`` [A²]); None where one is enough."""
    if len(data.t) * (_HEADS + len(data.edges)) > _MOST:
        return None
    used = int(np.sum(data.weight > 0))
    sigma = max(noise(data.i), 1e-7 * float(np.ptp(data.i)))
    fastest = 2.5 / data.dt
    steep = g  # 1/L right after an edge, which both poles carry together

    def evaluate(x: FloatArray, share: float) -> tuple[float, FloatArray, FloatArray]:
        return _solve(data, math.exp(x[0]), math.exp(x[0]) + math.exp(x[1]), share, g=steep, sigma=sigma)

    share, best, start = 0.3, math.inf, np.zeros(2)
    for ratio in (2.0, 5.0, 12.0, 30.0, 80.0):
        if a * ratio > fastest:
            break
        x = np.array([math.log(a * 0.97), math.log(a * ratio)])
        value = evaluate(x, share)[0]
        if value < best:
            best, start = value, x
    if not math.isfinite(best):
        return None
    x = start
    for _ in range(3):  # the edges' shape follows from the poles' shares

        def at(y: FloatArray, known: float = share) -> float:
            return evaluate(y, known)[0]

        options: dict[str, float] = {"xatol": 1e-5, "fatol": 1e-9 * max(cost, 1e-300), "maxiter": 160}
        found = scipy.optimize.minimize(at, x, method="Nelder-Mead", options=options)  # type: ignore[call-overload]
        x = np.asarray(found.x)
        final, coefficients, _ = evaluate(x, share)
        g1, g2 = float(coefficients[0]), float(coefficients[1])
        if g1 <= 0 or g2 <= 0:
            return None
        share, steep = g2 / (g1 + g2), g1 + g2
    final, coefficients, basis = evaluate(x, share)
    g1, g2 = float(coefficients[0]), float(coefficients[1])
    a1, a2 = math.exp(x[0]), math.exp(x[0]) + math.exp(x[1])
    variance = final / max(used - _HEADS - 2, 1)
    if min(g1, g2) <= 0 or a2 > fastest or a2 < 1.5 * a1 or cost - final < 18 * variance:
        return None
    resistance = 1 / (g1 / a1 + g2 / a2)
    slow, fast = resistance**2 * (g1 / a1**2 + g2 / a2**2), 1 / (g1 + g2)
    if fast > 0.985 * slow:
        return None
    covariance = _covariance(data, a1, a2, coefficients, basis=basis, share=share, g=steep, sigma=sigma)
    # gradients by (a1, a2, g1, g2)
    d_r = -(resistance**2) * np.array([-g1 / a1**2, -g2 / a2**2, 1 / a1, 1 / a2])
    d_moment = np.array([-2 * g1 / a1**3, -2 * g2 / a2**3, 1 / a1**2, 1 / a2**2])
    d_l = 2 * slow / resistance * d_r + resistance**2 * d_moment
    model = np.asarray(basis @ coefficients)
    residual = data.i - model
    # white voltage noise reaches the model current through both poles; counted as through the slow one
    through = (g1 + g2) * noise(data.v) * math.sqrt(data.dt / (2 * a1))
    rms = math.sqrt(float(np.sum((residual * data.weight) ** 2)) / max(used, 1))
    floor = math.hypot(max(noise(residual[data.weight > 0]), 1e-7 * float(np.ptp(data.i))), through)
    covariance = _CHOSEN**2 * covariance
    if math.sqrt(max(float(d_l @ covariance @ d_l), 0.0)) > 0.05 * slow:
        return None  # the data do not tell two time constants apart: one frequency, for instance
    return EddyFit(
        resistance, math.sqrt(max(float(d_r @ covariance @ d_r), 0.0)),
        slow, math.sqrt(max(float(d_l @ covariance @ d_l), 0.0)), fast=fast, model=model, excess=rms / floor,
    )  # fmt: skip


def _basis(data: Steps, a1: float, a2: float, share: float) -> FloatArray:
    t = data.t
    columns = [driven(data, a1), driven(data, a2), np.ones_like(t), np.exp(-a1 * t), np.exp(-a2 * t)]
    for edge in data.edges:
        after = np.zeros_like(t)
        tau = t[edge + 1 :] - t[edge + 1]
        after[edge + 1 :] = (1 - share) * np.exp(-a1 * tau) + share * np.exp(-a2 * tau)
        columns.append(after)
    return np.column_stack(columns)


def _solve(
    data: Steps, a1: float, a2: float, share: float, g: float, sigma: float
) -> tuple[float, FloatArray, FloatArray]:
    basis = _basis(data, a1, a2, share)
    scale = np.linalg.norm(basis, axis=0)
    scale[scale == 0] = 1.0
    weighted = basis * data.weight[:, None] / scale
    gram = weighted.T @ weighted
    tie = ties(data.edge_widths(g), sigma)
    gram[_HEADS:, _HEADS:] += np.diag((tie / scale[_HEADS:]) ** 2)
    right = weighted.T @ (data.i * data.weight)
    coefficients = np.linalg.solve(gram + 1e-14 * np.eye(len(gram)), right) / scale
    rest = (data.i - basis @ coefficients) * data.weight
    cost = float(rest @ rest) + float(np.sum((coefficients[_HEADS:] * tie) ** 2))
    return cost, coefficients, basis


def _covariance(
    data: Steps,
    a1: float,
    a2: float,
    coefficients: FloatArray,
    basis: FloatArray,
    share: float,
    g: float,
    sigma: float,
) -> FloatArray:
    """Covariance of (a1, a2, g1, g2): current noise, voltage noise through both poles, undithered converter steps."""
    slopes = []
    for first, second in ((1e-4 * a1, 0.0), (0.0, 1e-4 * a2)):
        ahead = _basis(data, a1 + first, a2 + second, share) @ coefficients
        behind = _basis(data, a1 - first, a2 - second, share) @ coefficients
        slopes.append((ahead - behind) / (2 * (first + second)))
    jacobian = np.column_stack([*slopes, basis])
    scale = np.linalg.norm(jacobian, axis=0)
    scale[scale == 0] = 1.0
    weighted = jacobian * data.weight[:, None] / scale
    gram = weighted.T @ weighted
    gram[_HEADS + 2 :, _HEADS + 2 :] += np.diag((ties(data.edge_widths(g), sigma) / scale[_HEADS + 2 :]) ** 2)
    inverse = np.linalg.pinv(gram, rcond=1e-15)
    residual = data.i - basis @ coefficients
    level = max(noise(residual[data.weight > 0]), 1e-7 * float(np.ptp(data.i)))
    posterior = level**2 * inverse / np.outer(scale, scale)
    gain = ((inverse @ weighted.T) * data.weight / scale[:, None])[:4]
    back = coefficients[0] * relax_back(gain, a1, data.dt) + coefficients[1] * relax_back(gain, a2, data.dt)
    total: FloatArray = posterior[:4, :4] + noise(data.v) ** 2 * (back @ back.T)
    total = total + run_covariance(data.v, back, quantum(data.v), noise(data.v))
    return total + run_covariance(data.i, gain, quantum(data.i), level)
