"""Gaps in time: rows that are missing from a capture that was sampled evenly.

A method that fits a course of time, or takes the median interval for the sampling period, must not bridge them. It gets the longest stretch
without one, and says so; what is left of it decides whether that is enough.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import replace
from typing import Any, Concatenate, ParamSpec, TypeVar, cast

import numpy as np

from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, IntArray

P = ParamSpec("P")
R = TypeVar("R")
#: An interval longer than so many usual ones is a gap; where more than this share of all intervals is, the sampling is uneven by itself.
_LONG, _UNEVEN = 2.5, 0.02
#: Options that hold for the whole capture.
_COUNTED = ("revolutions", "turns")


def gaps(capture: Capture) -> IntArray:
    """Return the rows (k,) after which rows are missing; empty where time is even, uneven by nature, or not there."""
    if len(capture.time) < 8:
        return np.empty(0, dtype=np.int64)
    interval = np.diff(capture.time)
    usual = float(np.median(interval))
    long = np.flatnonzero(interval > _LONG * usual)
    return long if len(long) <= max(1, int(_UNEVEN * len(interval))) else long[:0]


def continuous(capture: Capture) -> Capture:
    """Return the longest stretch of a capture without a gap, with a finding that says which; the capture itself where there is none."""
    missing = gaps(capture)
    if not len(missing):
        return capture
    edges = np.concatenate([[0], missing + 1, [len(capture.time)]])
    longest = int(np.argmax(np.diff(edges)))
    first, last = int(edges[longest]), int(edges[longest + 1])
    at, t = int(missing[0]), capture.time
    several = f"{len(missing)} gaps, the first" if len(missing) > 1 else "a gap"
    text = (
        f"The time has {several} of {t[at + 1] - t[at]:.4g} s after {t[at]:.6g} s (the usual interval is {np.median(np.diff(t)):.3g} s): "
        f"only the longest stretch without one is used, {t[first]:.6g} to {t[last - 1]:.6g} s, {100 * (last - first) / len(t):.0f} % of the rows."
    )
    columns = {name: values[first:last] for name, values in capture.columns.items()}
    finding = Finding("caution", "gap-in-time", text)
    return replace(capture, time=t[first:last], columns=columns, findings=(*capture.findings, finding))


def without_gaps(read: Callable[Concatenate[Capture, P], R]) -> Callable[Concatenate[Capture, P], R]:
    """Let a method that reads a course of time see the longest stretch without a gap, and its result say so."""

    @functools.wraps(read)
    def wrapped(capture: Capture, *args: P.args, **kwargs: P.kwargs) -> R:
        if any(kwargs.get(name) is not None for name in _COUNTED):
            require_no_gap(capture, "turns counted over all of it cannot be told from a part")
        part = continuous(capture)
        try:
            result = read(part, *args, **kwargs)
        except Refusal as refusal:
            if part is capture:
                raise
            remedy = f"{refusal.remedy}; rows are missing, and only the longest stretch without a gap was used"
            raise Refusal(refusal.problem, remedy.removeprefix("; "), where=refusal.where, code=refusal.code, field=refusal.field) from None
        said: Any = result
        if part is not capture and all(f.code != "gap-in-time" for f in said.findings):
            return cast(R, replace(said, findings=(*said.findings, part.findings[-1])))
        return result

    return cast("Callable[Concatenate[Capture, P], R]", wrapped)


def require_no_gap(capture: Capture, why: str) -> None:
    """Refuse a capture with a gap where what it counts cannot be told without the missing rows."""
    missing = gaps(capture)
    if len(missing):
        at = int(missing[0])
        raise Refusal(f"rows are missing after {capture.time[at]:.6g} s: {why}", "capture it again in one piece", where=capture.source)
