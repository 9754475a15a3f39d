"""Pages of this waypoint."""
