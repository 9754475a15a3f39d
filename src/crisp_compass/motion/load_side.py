"""Torque, inertia and speed at a motor's shaft of what moves behind gear, drum, wheel or screw.

Travel for each radian of the shaft: r = d/2 over ratio and falls of rope, or lead/2π over the ratio. Driving takes F·r/η; a load that drives back gives F·r·(2 − 1/η), nothing from η = 1/2 down, where a gear or screw
holds by itself (F·r/η is what the friction of driving was; the same friction is taken back: common practice of screws and worms). Reflected inertia: m·r².
"""

from __future__ import annotations

import math
from dataclasses import dataclass

#: Standard gravity, m/s² (3rd CGPM, 1901).
GRAVITY = 9.80665


@dataclass(frozen=True)
class LoadSide:
    """``travel`` [m for each radian of the motor's shaft] and ``efficiency`` (0 to 1]."""

    travel: float
    efficiency: float = 1.0

    def driving(self, force: float) -> float:
        """Return the torque [N·m] that moves the load against a force [N]."""
        return force * self.travel / self.efficiency

    def driven(self, force: float) -> float:
        """Return the torque [N·m] that a force [N] along the motion puts on the shaft; none where the mechanism holds by itself."""
        return force * self.travel * max(2.0 - 1.0 / self.efficiency, 0.0)

    def reflected(self, mass: float) -> float:
        """Return the inertia [kg·m²] of a mass [kg] at the shaft."""
        return mass * self.travel**2

    def shaft_speed(self, velocity: float) -> float:
        """Return the speed of the shaft [rad/s] at a velocity [m/s]."""
        return velocity / self.travel


def wheel(diameter: float, ratio: float = 1.0, falls: int = 1) -> float:
    """Return the travel [m/rad] of a drum, wheel or pulley of a diameter [m]."""
    return 0.5 * diameter / ratio / falls


def screw(lead: float, ratio: float = 1.0) -> float:
    """Return the travel [m/rad] of a screw of a lead [m a turn]."""
    return lead / (2 * math.pi) / ratio
