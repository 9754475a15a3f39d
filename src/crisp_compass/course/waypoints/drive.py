"""Drive: the drive itself, on a wire."""

from __future__ import annotations

from crisp_compass.course.waypoint import Section, Waypoint

WAYPOINT = Waypoint("drive", 115, "Drive", "Is the drive there, and does it do what it is told?", sections=(Section("Connect"), Section("Terminals"), Section("Live"), Section("Scope"), Section("Identify"), Section("Auto-tune"), Section("Parameters"), Section("Commissioning"), Section("Command"), Section("Display"), Section("Faults")))
