"""The table of points of this bench: its rows, and how what is typed into it is read."""

from __future__ import annotations

from collections.abc import Callable

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Point
from crisp_compass.course.bridge import typed_motor
from crisp_compass.errors import Refusal
from crisp_compass.motion.points import Row
from crisp_compass.quantities import parse
from crisp_compass.typed import read


def rows_of(bench: Bench) -> list[Row]:
    """Return the bench's table."""
    return [Row(p.target, p.way, p.speed, p.accel, dwell=p.dwell, follows=p.follows, torque=p.torque, branch=p.branch) for p in bench.points]


def with_rows(bench: Bench, rows: list[Row]) -> Bench:
    """Return the bench with another table; raises Refusal for a figure that cannot be."""
    points = []
    for number, r in enumerate(rows, 1):
        try:
            points.append(Point(target=r.target, way=r.way, speed=r.speed, accel=r.accel, dwell=r.dwell, follows=r.follows, torque=r.torque, branch=r.branch))  # type: ignore[arg-type]
        except ValueError:
            raise Refusal(f"row {number} has a figure that no motor bench has", "check its target, speed and acceleration") from None
    return bench.model_copy(update={"points": tuple(points)})


def reader(bench: Bench) -> Callable[[str, str], float]:
    """Return what turns a cell of the table into SI: also ways at the load, and ramps as the time to top speed."""
    motor = typed_motor(bench)
    return lambda text, unit: read(text, unit, motor=motor) if unit else parse(text, "")
