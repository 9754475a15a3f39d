"""Torque of a two-phase stepper over its speed, in closed form: what current and supply allow, where that begins to fall and where it ends, and the resonance of the rotor in its field.

Steady state of a round machine in dq, per winding (nothing halved): v_q = R·i_q + ωL·i_d + ωψ, v_d = R·i_d − ωL·i_q, torque p·ψ·i_q, ω electrical. The swing of a rotor held in its field is that of a spring of p·T: √(p·T/J) (linearised
torque T·sin(p·θ)).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray


@dataclass(frozen=True)
class StepMotor:
    """A stepper by its winding: ``resistance`` [Ω], ``inductance`` [H], ``flux_linkage`` [Wb, peak], ``pole_pairs`` (full steps of a turn over four)."""

    resistance: float
    inductance: float
    flux_linkage: float
    pole_pairs: float

    def __post_init__(self) -> None:
        """Refuse what is no motor."""
        for name in ("resistance", "inductance", "flux_linkage", "pole_pairs"):
            value = getattr(self, name)
            if not 0 < value < math.inf:
                raise Refusal(f"{'an' if name == 'inductance' else 'a'} {name.replace('_', ' ')} of {value:g} is none", "a figure above 0", field=name)

    @property
    def full_steps(self) -> float:
        """Full steps of a turn."""
        return 4 * self.pole_pairs

    def holding(self, current: float) -> float:
        """Return the torque [N·m] that a current vector [A] holds."""
        return self.pole_pairs * self.flux_linkage * current

    def most_torque(self, current: float, volts: float, speed: FloatArray) -> FloatArray:
        """Return the most torque (n,) [N·m] that a current vector [A] or a voltage vector [V] allows at speeds (n,) [rad/s].

        i_q = (R·(v_q − ωψ) − ωL·v_d)/Z² with Z² = R² + (ωL)²; over all directions of a voltage of length V the most is
        (V·Z − ωψR)/Z² (Cauchy–Schwarz on R·v_q − ωL·v_d).
        """
        we = self.pole_pairs * np.asarray(speed)
        z2 = self.resistance**2 + (we * self.inductance) ** 2
        by_voltage = self.pole_pairs * self.flux_linkage * (volts * np.sqrt(z2) - self.flux_linkage * we * self.resistance) / z2
        return np.asarray(np.maximum(np.minimum(self.holding(current), by_voltage), 0.0))

    def falls_from(self, current: float, volts: float) -> float:
        """Return the speed [rad/s] up to which the whole current can make torque; 0 where the supply does not drive it at rest."""
        from scipy.optimize import brentq

        if volts <= self.resistance * current:
            return 0.0
        # with i_d = 0 the back-EMF and R·i alone use the voltage up before this
        end = (volts - self.resistance * current) / self.flux_linkage + volts / (self.inductance * current)

        def spare(we: float) -> float:
            z2 = self.resistance**2 + (we * self.inductance) ** 2
            return (volts * math.sqrt(z2) - self.flux_linkage * we * self.resistance) / z2 - current

        while spare(end) > 0:
            end *= 2
        return float(brentq(spare, 0.0, end, xtol=1e-12, rtol=1e-12)) / self.pole_pairs

    def ends_at(self, volts: float) -> float:
        """Return the speed [rad/s] beyond which the supply makes no torque; infinite where it always makes some (ψR below V·L)."""
        root = (self.flux_linkage * self.resistance) ** 2 - (volts * self.inductance) ** 2  # of V²·(R² + ω²L²) = ω²ψ²R²
        return math.inf if root <= 0 else volts * self.resistance / math.sqrt(root) / self.pole_pairs

    def resonance(self, current: float, inertia: float) -> float:
        """Return the frequency [rad/s] at which a rotor with an ``inertia`` [kg·m²] swings in a field of a current [A]."""
        if not 0 < inertia < math.inf:
            raise Refusal(f"an inertia of {inertia:g} is none", "a figure above 0", field="inertia")
        return math.sqrt(self.pole_pairs * self.holding(current) / inertia)
