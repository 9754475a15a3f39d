"""Current ripple of a switched bridge, exact for the scheme: between two switchings every winding current is a straight line.

Within a carrier period the wanted voltage is held; the machine sees the leg voltages less their mean. What exceeds the
average over the period drives the ripple through the winding's inductance (resistance neglected: the period is short
against L/R): di/dt = L⁻¹·(v − v̄) with Ld along the rotor, Lq across it. The corners lie at the switchings, so extremes
and mean square of the polygon are exact (Holmes and Lipo 2003, ch. 6: harmonic flux trajectories).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.modulation.vectors import Scheme, duties

_ANGLES = 180
_TO_ALPHA = np.array([2 / 3, -1 / 3, -1 / 3])
_TO_BETA = np.array([0.0, 1 / math.sqrt(3), -1 / math.sqrt(3)])


@dataclass(frozen=True)
class Period:
    """One carrier period, in units of the period: ``time`` (m,) of corners, leg states (m − 1, 3) between them, ripple
    currents (m, 3) [A] at the corners, mean over the period nought."""

    time: FloatArray
    legs: FloatArray
    current: FloatArray


def switchings(duty: FloatArray, *, centred: bool = True) -> tuple[FloatArray, FloatArray]:
    """Return corner times (n, m) as parts of the period and leg states (n, m − 1, 3) for duties (n, 3).

    Centre aligned, a leg is high for its duty around the period's middle; edge aligned, from its beginning.
    """
    d = np.asarray(duty)
    n = len(d)
    rises = 0.5 * (1 - d) if centred else np.zeros_like(d)
    falls = 0.5 * (1 + d) if centred else d
    inner = np.concatenate([rises, falls], axis=1) if centred else falls
    time = np.concatenate([np.zeros((n, 1)), np.sort(inner, axis=1), np.ones((n, 1))], axis=1)
    middle = 0.5 * (time[:, :-1] + time[:, 1:])
    legs = (middle[:, :, None] > rises[:, None, :]) & (middle[:, :, None] < falls[:, None, :])
    return time, legs.astype(np.float64)


def inverse_inductance(ld: float, lq: float, rotor: FloatArray) -> FloatArray:
    """Return L⁻¹ (n, 2, 2) [1/H] in the stationary frame for rotor angles (n,) [rad]."""
    mean, swing = 0.5 * (1 / ld + 1 / lq), 0.5 * (1 / ld - 1 / lq)
    c, s = np.cos(2 * rotor), np.sin(2 * rotor)
    return np.stack([np.stack([mean + swing * c, swing * s], -1), np.stack([swing * s, mean - swing * c], -1)], -2)


def ripple_periods(
    duty: FloatArray,
    v_bus: float,
    carrier_hz: float,
    ld: float,
    lq: float,
    rotor: FloatArray,
    *,
    centred: bool = True,
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return corner times (n, m), leg states (n, m − 1, 3) and ripple currents (n, m, 3) [A] for duties (n, 3)."""
    time, legs = switchings(duty, centred=centred)
    span = np.diff(time, axis=1) / carrier_hz
    excess = (legs - duty[:, None, :]) * v_bus
    alpha, beta = excess @ _TO_ALPHA, excess @ _TO_BETA
    slope = np.einsum("nij,njk->nik", np.stack([alpha, beta], -1), inverse_inductance(ld, lq, rotor))
    steps = slope * span[:, :, None]
    i = np.concatenate([np.zeros((len(time), 1, 2)), np.cumsum(steps, axis=1)], axis=1)
    mean = np.sum(0.5 * (i[:, 1:] + i[:, :-1]) * span[:, :, None], axis=1) * carrier_hz
    i = i - mean[:, None, :]
    a, b = i[:, :, 0], i[:, :, 1]
    phases = np.stack([a, -0.5 * a + math.sqrt(3) / 2 * b, -0.5 * a - math.sqrt(3) / 2 * b], -1)
    return time, legs, phases


@dataclass(frozen=True)
class Ripple:
    """Ripple of phase A over one electrical turn at one voltage: largest peak to peak and rms [A], and of torque [A of iq]."""

    peak_to_peak: float
    rms: float
    torque_peak_to_peak: float


def ripple(
    scheme: Scheme, phase_peak: float, v_bus: float, carrier_hz: float, ld: float, lq: float, *, centred: bool = True, rotor_lag: float = math.pi / 2
) -> Ripple:  # fmt: skip
    """Return the ripple at a voltage of ``phase_peak`` [V], the rotor ``rotor_lag`` [rad] behind the voltage vector.

    Raises Refusal for figures that are not above zero, or six-step, whose ripple is no matter of a carrier.
    """
    if not (v_bus > 0 and carrier_hz > 0 and ld > 0 and lq > 0):
        raise Refusal("the ripple cannot be computed", "bus, carrier and inductance must be above zero")
    if scheme == "six-step":
        raise Refusal("six-step has no carrier of its own", "choose a modulated scheme for ripple")
    theta = (np.arange(_ANGLES) + 0.5) * 2 * math.pi / _ANGLES
    duty = duties(scheme, phase_peak, v_bus, theta)
    time, _, current = ripple_periods(duty, v_bus, carrier_hz, ld, lq=lq, rotor=theta - rotor_lag, centred=centred)
    a = current[:, :, 0]
    swing = a.max(axis=1) - a.min(axis=1)
    # mean square of a straight line from x to y is (x² + xy + y²)/3
    square = (a[:, 1:] ** 2 + a[:, 1:] * a[:, :-1] + a[:, :-1] ** 2) / 3 * np.diff(time, axis=1)
    rotor = (theta - rotor_lag)[:, None]
    beta = (current[:, :, 1] - current[:, :, 2]) / math.sqrt(3)
    q = -a * np.sin(rotor) + beta * np.cos(rotor)
    return Ripple(
        float(swing.max()), float(np.sqrt(np.mean(square.sum(axis=1)))), float(np.max(q.max(axis=1) - q.min(axis=1)))
    )


def one_period(
    scheme: Scheme, phase_peak: float, v_bus: float, carrier_hz: float, ld: float, lq: float, theta: float, *, centred: bool = True
) -> Period:  # fmt: skip
    """Return one carrier period at the voltage angle ``theta`` [rad] for a picture."""
    at = np.array([theta])
    duty = duties(scheme, phase_peak, v_bus, at)
    time, legs, current = ripple_periods(duty, v_bus, carrier_hz, ld, lq=lq, rotor=at - math.pi / 2, centred=centred)
    return Period(time[0], legs[0], current[0])
