"""Pages of Speed loop, the main one first."""

from __future__ import annotations

from crisp_compass.app.waypoints.speed_loop.design import SpeedLoopPage

PAGES = (SpeedLoopPage,)
