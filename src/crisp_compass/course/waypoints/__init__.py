"""The waypoints, in the order of the course. A new one is a module here with its ``WAYPOINT``: nobody else lists them."""

from __future__ import annotations

import importlib
import pkgutil

from crisp_compass.bench.registry import Rules
from crisp_compass.course.kind import CaptureKind
from crisp_compass.course.waypoint import Waypoint

_MODULES = [importlib.import_module(f"{__name__}.{m.name}") for m in pkgutil.iter_modules(__path__)]
WAYPOINTS: tuple[Waypoint, ...] = tuple(sorted((m.WAYPOINT for m in _MODULES), key=lambda w: w.order))
BY_KEY: dict[str, Waypoint] = {w.key: w for w in WAYPOINTS}
#: Kinds of capture by key.
KINDS: dict[str, CaptureKind] = {k.key: k for w in WAYPOINTS for k in w.captures}
#: What the models of the bench file ask before they accept it.
RULES = Rules(
    settles={w.key: w.settles for w in WAYPOINTS if w.settles is not None},
    kinds={k.key: (k.topic, *k.needs, k.halls is not None) for k in KINDS.values()},
)
