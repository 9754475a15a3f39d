"""Every page of the window, in the order of the course: each waypoint's package lists its own."""

from __future__ import annotations

import importlib

from crisp_compass.app.page.base import Page
from crisp_compass.course.waypoints import WAYPOINTS


def pages_of(key: str) -> dict[str, type[Page]]:
    """Return a waypoint's pages by the name of their section, the main one first."""
    listed: tuple[type[Page], ...] = importlib.import_module(f"crisp_compass.app.waypoints.{key}").PAGES
    return {page.section: page for page in listed}


#: Pages by waypoint and section.
PAGES: dict[str, dict[str, type[Page]]] = {w.key: pages_of(w.key) for w in WAYPOINTS}
