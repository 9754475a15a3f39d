"""What the waypoints tell the models of the bench file: which topics settle what, and what evidence of a kind must hold."""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache


@dataclass(frozen=True)
class Rules:
    """``settles``: topic → value → unit, least and most magnitude. ``kinds``: kind of capture → its topic, its estimates with an
    interval, those without a need of one, and whether it holds a hall table."""

    settles: Mapping[str, Mapping[str, tuple[str, float, float]]]
    kinds: Mapping[str, tuple[str, tuple[str, ...], tuple[str, ...], bool]]


@lru_cache(maxsize=1)
def rules() -> Rules:
    """Return what the registered waypoints say. Imported when first asked for, because they are built on the models."""
    found = importlib.import_module("crisp_compass.course.waypoints").RULES
    assert isinstance(found, Rules)
    return found
