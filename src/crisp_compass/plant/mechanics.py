"""What acts on any shaft; compiled."""

from __future__ import annotations

from numba import njit

from crisp_compass.compiled import FAST


@njit(cache=True, inline="always", error_model="numpy", fastmath=FAST)
def friction(drive_torque: float, w: float, coulomb: float) -> float:
    """Return the accelerating torque; at rest Coulomb friction holds until it is exceeded."""
    if w > 0 or (w == 0 and drive_torque > coulomb):
        return drive_torque - coulomb
    if w < 0 or (w == 0 and drive_torque < -coulomb):
        return drive_torque + coulomb
    return 0.0
