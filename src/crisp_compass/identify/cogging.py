"""Torque that repeats with the shaft's position, from what a fit of the speed leaves over."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.quality import running_mean
from crisp_compass.estimates import Estimate, FloatArray

_MOST = 200


@dataclass(frozen=True)
class Ripple:
    """Amplitude of the torque [N·m] and how often it repeats a turn."""

    torque: Estimate
    order: int


def find_cogging(time: FloatArray, speed: FloatArray, residual: FloatArray, inertia: float) -> Ripple | None:
    """Look for a position-locked torque.

    A torque T·cos(nθ) makes a speed ripple T/(J·n·ω)·sin(nθ), so the residual times ω is searched for lines over the
    shaft angle θ = ∫ω dt.

    Parameters
    ----------
    time, speed, residual
        (n,) s, rad/s, rad/s; NaN residuals are left out.
    inertia
        kg·m².

    Returns
    -------
    Ripple or None
        None where no line stands out from the rest (chance below 1 in 10 000 over all orders).
    """
    good = np.isfinite(residual) & (np.abs(speed) > 0.05 * float(np.nanmax(np.abs(speed))))
    if int(good.sum()) < 200:
        return None
    dt = float(np.median(np.diff(time)))
    theta = np.concatenate([[0.0], np.cumsum(0.5 * (speed[1:] + speed[:-1]) * np.diff(time))])[good]
    w, y = speed[good], residual[good]
    slow = running_mean(y, max(3, len(y) // 20))
    y = y - slow
    turns = float(np.ptp(theta)) / (2 * math.pi)
    # each order needs several samples a period at least in half of the record
    most = int(min(_MOST, 2 * math.pi / (4 * dt * float(np.median(np.abs(w))) + 1e-12)))
    if turns < 4 or most < 2:
        return None
    orders = np.arange(1, most + 1)
    weight = 1 / w
    total = float(y @ y)
    gains = np.empty(len(orders))
    amplitudes = np.empty(len(orders))
    for k, order in enumerate(orders):
        n = float(order)
        design = np.column_stack([np.cos(n * theta), np.sin(n * theta)]) * (weight / n)[:, None]
        solved, *_ = np.linalg.lstsq(design, y, rcond=None)
        gains[k] = float(solved @ (design.T @ y))
        amplitudes[k] = math.hypot(*solved) * inertia
    best = int(np.argmax(gains))
    count = len(y)
    rest = max(total - gains[best], 1e-30) / (count - 2)
    ratio = gains[best] / 2 / rest
    chance = len(orders) * float(scipy.special.fdtrc(2, count - 2, ratio))
    others = float(np.median(gains))
    if chance > 1e-4 or gains[best] < 12 * others or gains[best] < 0.02 * total:
        return None
    found = int(orders[best])
    norm = float(np.sum((weight / found) ** 2)) / 2
    u = math.sqrt(rest / norm) * inertia
    return Ripple(Estimate.from_u(float(amplitudes[best]), "N·m", u, dof=count - 2), found)
