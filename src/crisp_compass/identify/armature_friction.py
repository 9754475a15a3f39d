"""Friction and inertia of a brushed motor from running data in which nothing but the shaft itself is driven.

Means over short blocks: Ke·ī = J·Δω/T + b·ω̄ + c·sign ω. The balance must close: where a load that is not recorded varied, it does not, and nothing
is said of friction.
"""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.estimates import Estimate, Finding, FloatArray

#: Blocks, least samples in one, and least steady part of the shaft's torque that its balance must explain.
_BLOCKS, _LEAST, _EXPLAINED = 160, 10, 0.98
#: Least change of speed [of the highest] that tells inertia from friction.
_CHANGES = 0.2


def friction(
    time: FloatArray, speed: FloatArray, current: FloatArray, ke: Estimate
) -> tuple[dict[str, Estimate], list[Finding]]:
    """Return ``viscous_friction`` [N·m·s/rad], ``coulomb_friction`` [N·m] and ``inertia`` [kg·m²] of a running motor (n samples), as far as told.

    Raises nothing: a finding says why there is none.
    """
    count = min(_BLOCKS, len(time) // _LEAST)
    if count < 12:
        return {}, []
    size = len(time) // count
    w, i = (x[: count * size].reshape(count, size) for x in (speed, current))
    # the speed at the blocks' borders, each the mean of a few samples on both sides
    near = max(size // 10, 1)
    edges = np.arange(count + 1) * size
    ends = np.array([float(np.mean(speed[max(k - near, 0) : k + near])) for k in edges])
    at = np.array([float(np.mean(time[max(k - near, 0) : min(k + near, len(time))])) for k in edges])
    slope = np.diff(ends) / np.diff(at)
    mean, torque = w.mean(axis=1), ke.value * i.mean(axis=1)
    top = float(np.max(np.abs(mean)))
    one_way = np.all(np.sign(w) == np.sign(mean)[:, None], axis=1) & (np.abs(mean) > 0.05 * top)
    if one_way.sum() < 12 or float(np.ptp(mean[one_way])) < _CHANGES * top:
        return {}, []
    x = np.column_stack([slope, mean, np.sign(mean)])[one_way]
    y = torque[one_way]
    norm = np.linalg.norm(x, axis=0)
    if norm.min() <= 0:
        return {}, []
    a = x / norm
    answer, _, rank, singular = np.linalg.lstsq(a, y, rcond=None)
    rest = y - a @ answer
    explained = 1 - float(np.sum(rest**2) / max(np.sum(y**2), 1e-300))
    if rank < 3 or singular[-1] < 0.02 * singular[0]:
        return {}, []
    if explained < _EXPLAINED:
        text = "The torque is not that of the shaft alone: a load varied, so friction and inertia are left out. Run it with nothing coupled for those."
        return {}, [Finding("info", "friction-not-told", text)]
    dof = max(len(y) - 3, 1)
    rho = float(np.clip(np.corrcoef(rest[1:], rest[:-1])[0, 1], 0, 0.95)) if float(np.std(rest)) > 0 else 0.0
    spread = (1 + rho) / (1 - rho)
    covariance = np.linalg.inv(a.T @ a) * float(rest @ rest) / dof * spread / np.outer(norm, norm)
    values = answer / norm
    relative = ke.u / ke.value
    names = (("inertia", "kg·m²"), ("viscous_friction", "N·m·s/rad"), ("coulomb_friction", "N·m"))
    found = {}
    for k, (name, unit) in enumerate(names):
        u = math.hypot(math.sqrt(max(float(covariance[k, k]), 0.0)), relative * abs(float(values[k])))
        if values[k] > 0 or name == "viscous_friction":
            found[name] = Estimate.from_u(float(values[k]), unit, u, dof=max(round(dof / spread), 1))
    return found, []
