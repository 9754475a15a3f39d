"""Macros of ``cc_config.h``: numbers, whole numbers, times in periods, and what is said of a settled value."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value, stale_inputs
from crisp_compass.firmware.plan import Plan
from crisp_compass.firmware.render import ascii_comment
from crisp_compass.safe_text import c_float


@dataclass(frozen=True)
class Entry:
    """One macro: ``name`` without its prefix, the C ``literal``, and what it is."""

    name: str
    literal: str
    text: str = ""


@dataclass(frozen=True)
class Group:
    """Macros that belong together under a title."""

    title: str
    entries: tuple[Entry, ...]


def number(name: str, value: float, text: str = "") -> Entry:
    """Return a macro of a number."""
    return Entry(name, f"({c_float(value)})", ascii_comment(text))


def whole(name: str, value: float, text: str = "", *, unsigned: bool = False) -> Entry:
    """Return a macro of a whole number."""
    return Entry(name, f"({round(value)}{'u' if unsigned else ''})", ascii_comment(text))


def periods(plan: Plan, name: str, seconds: float, text: str = "") -> Entry:
    """Return a time as whole periods: a float that adds up seconds would lose them."""
    count = max(math.floor(seconds / plan.drive.control.ts + 1e-6), 0)
    return whole(f"{name}_PERIODS", count, f"{seconds:.6g} s{', ' if text else ''}{text}", unsigned=True)


def origin(bench: Bench, key: str, what: str) -> str:
    """Return what a settled value is: its interval, its origin, and whether it is stale."""
    found = settled_value(bench, key)
    topic = key.partition(".")[0]
    if found is None:
        return what
    settled = bench.settled[topic]
    parts = [what]
    if found.interval95:
        parts.append(f"95 %: {found.interval95[0]:.5g} to {found.interval95[1]:.5g}")
    if settled.origin == "data-sheet":
        parts.append("data sheet, not measured")
    parts.append(f"settled {settled.when[:10]}: {settled.reason}")
    if stale_inputs(bench, topic):
        parts.append("STALE")
    return "; ".join(parts)
