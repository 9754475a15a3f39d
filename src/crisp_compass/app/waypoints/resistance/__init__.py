"""Pages of Resistance, the main one first."""

from __future__ import annotations

from crisp_compass.app.page.agreement import ResistanceAgreement
from crisp_compass.app.waypoints.resistance.capture import ResistancePage
from crisp_compass.app.waypoints.resistance.meter import MeterPage

PAGES = (
    ResistancePage,
    MeterPage,
    ResistanceAgreement,
)
