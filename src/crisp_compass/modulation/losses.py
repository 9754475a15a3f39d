"""Losses of the bridge and what dead time does, in figures.

Conduction: each phase current always flows through one switch, P = 3/2·Î²·R. Switching: every commutation of a leg costs
½·Vdc·|i|·(t_on + t_off); averaged over a turn |i| is 2/π·Î where the leg switches all the time (N. Mohan, T. Undeland,
W. Robbins, Power Electronics, 3rd ed. 2003, ch. 2); a clamped scheme is averaged over what it does not clamp.
Dead time: the error vector of the three legs' square waves seen from the current is ΔV·4/π·(1 + e^(−j6θ)/5 − e^(j6θ)/7 …)
(Fourier series of a square wave; derived here).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.modulation.vectors import Scheme, duties

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


def dead_time_effect(leg_loss: float, r: float, current: float) -> DeadTimeEffect:
    """Return the effects of a leg loss of ``leg_loss`` [V] on a winding of ``r`` [Ω] at ``current`` [A]."""
    base = 4 / math.pi * leg_loss
    return DeadTimeEffect(
        base, base * (1 / 5 - 1 / 7), base * (1 / 5 + 1 / 7), 4 / 3 * leg_loss / current if current > 0 else math.inf,
        4 / 3 * leg_loss / r if r > 0 else math.inf,
    )  # fmt: skip
