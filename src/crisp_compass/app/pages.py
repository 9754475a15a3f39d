"""Every page of the window, in the order of the course: the modules of a waypoint's package, found by the sections they say."""

from __future__ import annotations

import importlib
import pkgutil

from crisp_compass.app.page.base import Page
from crisp_compass.course.waypoint import Waypoint
from crisp_compass.course.waypoints import WAYPOINTS


def pages_of(waypoint: Waypoint) -> dict[str, type[Page]]:
    """Return a waypoint's pages by the name of their section, the main one first."""
    package = importlib.import_module(f"crisp_compass.app.waypoints.{waypoint.key}")
    found: dict[str, type[Page]] = {}
    for info in pkgutil.iter_modules(package.__path__, f"{package.__name__}."):
        for value in vars(importlib.import_module(info.name)).values():
            if isinstance(value, type) and issubclass(value, Page) and value.__module__ == info.name:
                found[value.section] = value
    return {s.name: found[s.name] for s in waypoint.sections}


#: Pages by waypoint and section.
PAGES: dict[str, dict[str, type[Page]]] = {w.key: pages_of(w) for w in WAYPOINTS}
