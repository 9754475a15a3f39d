"""Pages of Plate, the main one first."""

from __future__ import annotations

from crisp_compass.app.waypoints.plate.checks import ChecksPage
from crisp_compass.app.waypoints.plate.interference import InterferencePage
from crisp_compass.app.waypoints.plate.motor import PlatePage
from crisp_compass.app.waypoints.plate.sensor_cable import CablePage
from crisp_compass.app.waypoints.plate.supply import SupplyPage
from crisp_compass.app.waypoints.plate.wiring import WiringPage

PAGES = (
    PlatePage,
    SupplyPage,
    WiringPage,
    CablePage,
    ChecksPage,
    InterferencePage,
)
