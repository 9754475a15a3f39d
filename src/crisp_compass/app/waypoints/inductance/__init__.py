"""Pages of Inductance, the main one first."""

from __future__ import annotations

from crisp_compass.app.page.agreement import InductanceAgreement
from crisp_compass.app.waypoints.inductance.capture import InductancePage

PAGES = (
    InductancePage,
    InductanceAgreement,
)
