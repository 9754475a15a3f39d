"""Pages of Mechanics, the main one first."""

from __future__ import annotations

from crisp_compass.app.page.agreement import MechanicsAgreement
from crisp_compass.app.waypoints.mechanics.capture import MechanicsPage

PAGES = (
    MechanicsPage,
    MechanicsAgreement,
)
