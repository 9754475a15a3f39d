"""What acts on any shaft; compiled."""

from __future__ import annotations

from crisp_compass.compiled import inlined


@inlined
def friction(drive_torque: float, w: float, coulomb: float, breakaway: float) -> float:
    """Return the accelerating torque; at rest Coulomb friction, or more of it, holds until it is exceeded."""
    if w == 0.0 and abs(drive_torque) <= max(coulomb, breakaway):
        return 0.0
    if w > 0 or (w == 0 and drive_torque > 0):
        return drive_torque - coulomb
    return drive_torque + coulomb


@inlined
def drag(viscous: float, quadratic: float, w: float) -> float:
    """Return the torque [N·m] that grows with the speed."""
    return (viscous + quadratic * abs(w)) * w
