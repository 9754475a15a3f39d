"""The waypoints, in the order of the course. A new one is a module here, registered in this list."""

from __future__ import annotations

from crisp_compass.bench.registry import Rules
from crisp_compass.course.kind import CaptureKind
from crisp_compass.course.waypoint import Waypoint
from crisp_compass.course.waypoints import (
    commutation,
    current_loop,
    flux,
    hand_over,
    inductance,
    mechanics,
    plate,
    pwm,
    resistance,
    run,
    speed_loop,
)

WAYPOINTS: tuple[Waypoint, ...] = tuple(
    module.WAYPOINT
    for module in (
        plate, resistance, inductance, flux, mechanics, commutation, pwm, current_loop, speed_loop, run, hand_over,
    )
)  # fmt: skip
BY_KEY: dict[str, Waypoint] = {w.key: w for w in WAYPOINTS}
#: Kinds of capture by key.
KINDS: dict[str, CaptureKind] = {k.key: k for w in WAYPOINTS for k in w.captures}
#: What the models of the bench file ask before they accept it.
RULES = Rules(
    settles={w.key: w.settles for w in WAYPOINTS if w.settles is not None},
    kinds={k.key: (k.topic, *k.needs, k.halls is not None) for k in KINDS.values()},
)
