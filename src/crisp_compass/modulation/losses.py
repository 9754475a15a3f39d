"""Losses of the bridge and what dead time does, in figures.

Conduction: each phase current always flows through one switch, P = 3/2·Î²·R. Switching: every commutation of a leg costs
½·Vdc·|i|·(t_on + t_off); averaged over a turn |i| is 2/π·Î where the leg switches all the time (N. Mohan, T. Undeland,
W. Robbins, Power Electronics, 3rd ed. 2003, ch. 2); a clamped scheme is averaged over what it does not clamp.
Dead time: each leg that switches loses ΔV against its current's sign. Seen from the current, the three legs' square waves
are a vector ΔV·4/π·(1 + e^(−j6θ)/5 − e^(j6θ)/7 …) where every leg switches all the time (Fourier series of a square wave;
derived here); a leg that is clamped loses nothing meanwhile, so clamped schemes are integrated over what they leave, the
current in phase with the voltage. Six-step switches a leg twice a turn: per carrier period it loses nothing.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.modulation.vectors import VOLTAGE_PER_BUS, Scheme, duties

_ANGLES = 720


@dataclass(frozen=True)
class Losses:
    """W: conduction and switching of all three legs."""

    conduction: float
    switching: float

    @property
    def total(self) -> float:
        """Both together, W."""
        return self.conduction + self.switching


def switching_share(scheme: Scheme, phase_peak: float, v_bus: float, *, current_lag: float = 0.0) -> float:
    """Return switching loss relative to a scheme that switches every leg in every period.

    ``current_lag`` [rad] of the current behind the voltage; weighs the clamped part by |i|.
    """
    theta = (np.arange(_ANGLES) + 0.5) * 2 * math.pi / _ANGLES
    duty = duties(scheme, phase_peak, v_bus, theta)[:, 0]
    size = np.abs(np.cos(theta - current_lag))
    moving = (duty > 1e-9) & (duty < 1 - 1e-9)
    return float(np.sum(size[moving]) / np.sum(size))


def losses(
    scheme: Scheme, phase_peak: float, v_bus: float, carrier_hz: float, current: float, r_switch: float, t_on: float, t_off: float,
    *, current_lag: float = 0.0,
) -> Losses:  # fmt: skip
    """Return the bridge's losses at a phase current of ``current`` [A peak]; ``r_switch`` [Ω], times [s]."""
    share = switching_share(scheme, phase_peak, v_bus, current_lag=current_lag)
    one = 0.5 * v_bus * 2 / math.pi * current * (t_on + t_off) * carrier_hz
    return Losses(1.5 * current**2 * r_switch, 3 * one * share)


def _moving(scheme: Scheme, theta: FloatArray, current_lag: float) -> FloatArray:
    """Return 1 where leg A switches, 0 where it is clamped, for the current's angle ``theta`` (n,) [rad]."""
    if scheme == "six-step":
        return np.zeros(len(theta))
    duty = duties(scheme, 0.5 * VOLTAGE_PER_BUS[scheme], 1.0, theta + current_lag)[:, 0]
    return np.where((duty > 1e-9) & (duty < 1 - 1e-9), 1.0, 0.0)


@lru_cache(maxsize=64)
def leg_loss_vector(scheme: Scheme, current_lag: float = 0.0) -> tuple[complex, complex, complex]:
    """Return the error vector of a leg loss of 1 V in the current's frame: mean, and its parts at +6 and −6 times θ.

    ``current_lag`` [rad] of the current behind the voltage. Along the current is real.
    """
    n = 24 * _ANGLES
    theta = (np.arange(n) + 0.5) * 2 * math.pi / n
    shifts = 2 * math.pi / 3 * np.arange(3)
    legs = np.stack([np.sign(np.cos(theta - s)) * _moving(scheme, theta - s, current_lag) for s in shifts])
    vector = 2 / 3 * np.sum(legs * np.exp(1j * shifts)[:, None], axis=0) * np.exp(-1j * theta)
    mean, plus, minus = (complex(np.mean(vector * np.exp(-1j * k * theta))) for k in (0, 6, -6))
    return mean, plus, minus


def fundamental_share(scheme: Scheme, current_lag: float = 0.0) -> float:
    """Return how much of the leg loss ΔV is taken from the fundamental along the current (4/π where every leg switches)."""
    return leg_loss_vector(scheme, current_lag)[0].real


@dataclass(frozen=True)
class DeadTimeEffect:
    """What an uncompensated leg loss ΔV [V] does.

    ``fundamental`` [V] is taken from the phase voltage; ``sixth_q`` and ``sixth_d`` [V] amplitudes at six times the
    electrical frequency along and across the current; ``resistance_error`` [Ω] is added to R = v_cmd/i at ``current`` with
    the vector held along phase A; ``swallowed`` [A] is the current below which the command is all lost.
    """

    fundamental: float
    sixth_q: float
    sixth_d: float
    resistance_error: float
    swallowed: float


def dead_time_effect(leg_loss: float, r: float, current: float, scheme: Scheme = "space-vector") -> DeadTimeEffect:
    """Return the effects of a leg loss of ``leg_loss`` [V] on a winding of ``r`` [Ω] at ``current`` [A] under a scheme.

    Held along phase A (the lock test) the legs that switch lose: all three, or two where the scheme clamps the third.
    """
    mean, plus, minus = leg_loss_vector(scheme)
    # v(t) = plus·e^(j6θ) + minus·e^(−j6θ): what is symmetric lies along the current, what is not across it
    along, across = abs(plus + minus.conjugate()), abs(plus - minus.conjugate())
    held = _held_share(scheme) * leg_loss
    return DeadTimeEffect(
        mean.real * leg_loss, along * leg_loss, across * leg_loss, held / current if current > 0 else math.inf,
        swallowed=held / r if r > 0 else math.inf,
    )  # fmt: skip


def _held_share(scheme: Scheme) -> float:
    """Return the voltage vector along phase A that a leg loss of 1 V takes from a vector held there, at small depth."""
    if scheme == "six-step":
        return 0.0
    duty = duties(scheme, 0.05 * VOLTAGE_PER_BUS[scheme], 1.0, np.zeros(1))[0]
    a, b, c = np.where((duty > 1e-9) & (duty < 1 - 1e-9), [1.0, -1.0, -1.0], 0.0)
    return float((2 * a - b - c) / 3)
