"""Hand over: what goes into the firmware and into the file."""

from __future__ import annotations

from crisp_compass.course.waypoint import Waypoint

WAYPOINT = Waypoint("hand_over", 130, "Hand over", "What goes into the firmware and into the file?")
