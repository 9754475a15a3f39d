"""Every page of the window, in the order of the course: the modules of a waypoint's package, found by the sections they say."""

from __future__ import annotations

import importlib
import pkgutil
import threading
from collections.abc import Iterator, Mapping

from crisp_compass.app.page.base import Page
from crisp_compass.course.waypoint import Waypoint
from crisp_compass.course.waypoints import BY_KEY, WAYPOINTS


def pages_of(waypoint: Waypoint) -> dict[str, type[Page]]:
    """Return a waypoint's pages by the name of their section, the main one first."""
    package = importlib.import_module(f"crisp_compass.app.waypoints.{waypoint.key}")
    found: dict[str, type[Page]] = {}
    for info in pkgutil.iter_modules(package.__path__, f"{package.__name__}."):
        for value in vars(importlib.import_module(info.name)).values():
            if isinstance(value, type) and issubclass(value, Page) and value.__module__ == info.name:
                found[value.section] = value
    return {s.name: found[s.name] for s in waypoint.sections}


class _Pages(Mapping[str, dict[str, type[Page]]]):
    """Pages by waypoint and section; a waypoint's modules are imported when they are first asked for."""

    def __init__(self) -> None:
        self._found: dict[str, dict[str, type[Page]]] = {}
        self._lock = threading.Lock()  # two threads that import modules which know each other may see half of one

    def __getitem__(self, key: str) -> dict[str, type[Page]]:
        with self._lock:
            if key not in self._found:
                self._found[key] = pages_of(BY_KEY[key])
            return self._found[key]

    def __iter__(self) -> Iterator[str]:
        return iter(w.key for w in WAYPOINTS)

    def __len__(self) -> int:
        return len(WAYPOINTS)


PAGES = _Pages()
