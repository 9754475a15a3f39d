"""Pages of Flux, the main one first."""

from __future__ import annotations

from crisp_compass.app.page.agreement import FluxAgreement
from crisp_compass.app.waypoints.flux.capture import FluxPage

PAGES = (
    FluxPage,
    FluxAgreement,
)
