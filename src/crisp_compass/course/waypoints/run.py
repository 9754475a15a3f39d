"""Run: the drive as settled."""

from __future__ import annotations

from crisp_compass.bench.models import Bench
from crisp_compass.course.waypoint import Section, Waypoint
from crisp_compass.course.waypoints.commutation import hall_edges, uses_halls


def _hall_table(bench: Bench) -> tuple[str, ...]:
    """Return commutation where halls are used and no table is settled: an encoder's zero is no hall table."""
    return ("commutation",) if uses_halls(bench) and hall_edges(bench) is None else ()


WAYPOINT = Waypoint(
    "run",
    120,
    "Run",
    "Does it run the way it should?",
    needs=("plate", "resistance", "inductance", "flux", "circuit", "pwm", "current_loop", "start_up", "speed_loop"),
    also_needs=_hall_table,
    sections=(Section("Drive"), Section("Limits"), Section("Braking")),
)
