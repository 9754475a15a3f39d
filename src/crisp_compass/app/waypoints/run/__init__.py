"""Pages of Run, the main one first."""

from __future__ import annotations

from crisp_compass.app.waypoints.run.drive import RunPage

PAGES = (RunPage,)
