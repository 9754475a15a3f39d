"""Current of test pulses over their direction; whether such a search can work with this motor."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.commutation.pole_search import PoleSearch
from crisp_compass.quantities import show
from crisp_compass.studies.zero_search import SearchOutlook
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return the pole's angle without an outlook."""
    return said_with(bench, evidence, None)


def said_with(_: Bench, evidence: Evidence | None, outlook: SearchOutlook | None) -> Said:
    """Return the pole's angle, or whether a search would find it."""
    note = "Searches of the simulated motor: 24 directions, three times round." if outlook else ""
    boxes = (Box("Would it work with this motor?", _rows(evidence, outlook), note),)
    if evidence is None:
        dial = DialView(caption="Pulses all round find the axis, saturation the pole", rotor=None)
        if outlook is None:
            return Said(
                "No pulses yet",
                "",
                "Drop a table of field_angle, i_peak and i_rest (read before each pulse) here.",
                dial=dial,
                boxes=boxes,
            )
        works = outlook.refused < 0.05 and outlook.axis_error < math.radians(10)
        found = f"axis within {math.degrees(outlook.axis_error):.1f}°, polarity found in {100 * (1 - outlook.refused):.0f} of 100"
        return Said(
            "It would work" if works else "It would not work",
            found if works else "with this saliency, saturation and noise",
            "Searches simulated with this motor; drop a table of field_angle and i_peak here for the real one.",
            dial=dial,
            boxes=boxes,
        )
    estimates, method = evidence.estimates, f"{evidence.method}."
    axis, angle = estimates.get("pole_axis"), estimates.get("pole_angle")
    if angle is not None and angle.u is not None:
        degrees = math.degrees(angle.value)
        return Said(
            f"{degrees:.1f}°",
            f"±{math.degrees(1.96 * angle.u):.1f}° electrical, polarity right with {100 * estimates['polarity_chance'].value:.2f} %",
            method,
            dial=DialView(caption=f"The rotor's flux lies at {degrees:.1f}°", rotor=degrees),
            boxes=boxes,
        )
    if axis is not None:
        degrees = math.degrees(axis.value)
        return Said(
            f"{degrees:.0f}° or {degrees + 180:.0f}°",
            "the axis is known, the pole is not",
            method,
            dial=DialView(caption=f"Axis at {degrees:.0f}°, either way round", rotor=degrees),
            boxes=boxes,
        )
    dial = DialView(caption="No saliency: align with a held current")
    return Said("Undetermined", "the current does not depend on the direction", method, dial=dial, boxes=boxes)


def _rows(evidence: Evidence | None, outlook: SearchOutlook | None) -> tuple[tuple[str, str], ...]:
    rows = []
    if outlook is not None:
        rows += [
            ("saliency, settled", f"{100 * outlook.saliency:.1f} %"),
            ("axis, 95 of 100 within", f"{math.degrees(outlook.axis_error):.1f}°"),
            ("polarity right", f"{100 * outlook.right:.0f} of 100"),
            ("polarity refused", f"{100 * outlook.refused:.0f} of 100"),
            ("shaft moves at most", show(outlook.moved, "rad", 2)),
        ]
    if evidence is not None:
        found = evidence.estimates
        rows += [
            ("saliency, pulses", f"{100 * found['saliency'].value:.1f} %"),
            ("saturation, pulses", f"{100 * found['magnet_saturation'].value:.1f} %"),
        ]
    return tuple(rows)


def expected(outlook: SearchOutlook) -> Curve:
    """Return what a search of this motor would read."""
    return Curve("expected", "expected", np.degrees(outlook.angle), outlook.example)


def pane(*curves: Curve) -> Pane:
    """Return the one pane with these curves."""
    return Pane(
        "pulse currents",
        ("pulse direction, electrical", "°"),
        ("current along the pulse", "A"),
        curves,
        turn=True,
        printed=True,
    )


def panes(_: Capture, result: PoleSearch) -> tuple[Pane, ...]:
    """Return the pulses with the fit."""
    return (
        pane(
            Curve("fitted", "fit", *result.line()),
            Curve("pulses", "measured", np.degrees(result.angle) % 360, result.current, shape="points"),
        ),
    )


VIEW = View(said, panes)
