"""What plate, data sheet or a typed reading says of a waypoint, before anything is captured."""

from __future__ import annotations

from dataclasses import replace

from crisp_compass.course.waypoint import Proposal
from crisp_compass.views.picture import Said


def as_stated(stated: Proposal, said: Said) -> Said:
    """Return the words of a page without a capture with what is stated as its answer."""
    first = next(iter(stated.values.values()))
    bar = f"±{1.96 * first.u / first.value * 100:.0f} %, 95 %" if first.u and first.value else ""
    sheet = stated.origin == "data-sheet"
    origin = "stated, not measured" if sheet else stated.method
    reason = f"From {stated.method}. Settle it as a start; a measurement makes it better. {said.reason}" if sheet else said.reason
    return replace(
        said,
        answer=f"{'≈ ' if sheet else ''}{stated.headline}",
        doubt=f"{bar}, {origin}" if bar else origin,
        reason=reason,
        button="Settle stated value…" if sheet else "Settle reading…",
        can_settle=True,
    )
