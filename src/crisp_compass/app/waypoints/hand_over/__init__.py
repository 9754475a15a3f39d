"""Pages of Hand over, the main one first."""

from __future__ import annotations

from crisp_compass.app.waypoints.hand_over.files import HandOverPage

PAGES = (HandOverPage,)
