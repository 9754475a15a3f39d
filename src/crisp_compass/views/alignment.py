"""Where the rotor rested against a held field, approached from below and from above; what to hold, before that is known."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.commutation.alignment import AlignmentResult
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.quantities import show
from crisp_compass.studies.zero_search import AlignOutlook
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View

_NOTE = "Angles come from below (▲) and from above (▼): half their distance is friction, their middle the zero."
_X, _Y = ("field, electrical", "°"), ("rotor rests at", "° from zero")


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return the electrical zero without an outlook."""
    return said_with(bench, evidence, None)


def said_with(bench: Bench, evidence: Evidence | None, outlook: AlignOutlook | None) -> Said:
    """Return the electrical zero, or what to hold where nothing was captured yet."""
    boxes = (Box("What to do, what to expect", _rows(bench, evidence, outlook), _NOTE),)
    if evidence is None:
        dial = DialView(caption="The rotor follows the held field", rotor=0.0, current=(0.0, 1.0))
        if outlook is None:
            return Said("No positions yet", button="Settle zero…", dial=dial, boxes=boxes)
        return Said(
            f"Hold {show(outlook.current, 'A', 2)}",
            f"at {(len(outlook.fields) + 1) // 2} angles of one turn, up and back",
            "Fill the table in with the encoder's angle at each rest and drop it here.",
            "Settle zero…",
            dial=dial,
            boxes=boxes,
        )
    found = evidence.estimates
    zero, counts = found["zero_offset"], found["counts_per_rev"].value
    assert zero.interval95 is not None
    degrees, half = math.degrees(zero.value), math.degrees((zero.interval95[1] - zero.interval95[0]) / 2)
    sense = "rises" if found["direction"].value > 0 else "falls"
    return Said(
        f"{degrees:.2f}°",
        f"±{half:.2f}° electrical where the encoder reads zero",
        f"θe is 0 at count {found['offset_counts'].value:.1f} of {counts:.0f}; the count {sense} when the motor turns A → B → C. {evidence.method}.",
        "Settle zero…",
        can_settle=True,
        dial=DialView(caption=f"At count 0 the rotor's flux lies at {degrees:.1f}°", rotor=degrees),
        boxes=boxes,
    )


def _rows(bench: Bench, evidence: Evidence | None, outlook: AlignOutlook | None) -> tuple[tuple[str, str], ...]:
    plate, counts, rows = bench.settings.plate, bench.settings.sensor.counts_per_rev, []
    if outlook is not None:
        rows += [
            ("current proposed", show(outlook.current, "A")),
            ("set by", outlook.why),
            ("friction leaves", f"{math.degrees(outlook.lag):.1f}° each side"),
            ("most that is sensible", show(outlook.limit, "A")),
        ]
    if evidence is not None and "friction_lag" in evidence.estimates:
        rows.append(("friction found", f"{math.degrees(evidence.estimates['friction_lag'].value):.1f}° each side"))
    rows.append(("counts, electrical turn", f"{counts / pole_pairs_of(plate):.4g}"))
    return (*rows, *family_of(bench).encoder_rows(plate, counts))


def expected(outlook: AlignOutlook) -> Curve:
    """Return where friction would leave the rotor."""
    field, half = np.degrees(outlook.fields), math.degrees(outlook.lag)
    side = np.concatenate([[0.0], np.sign(np.diff(field))])
    return Curve("expected", "left out", field[1:], -half * side[1:], shape="points")


def pane(*curves: Curve) -> Pane:
    """Return the one pane with these curves."""
    return Pane("rest against field", _X, _Y, curves, zero=True, printed=True)


def panes(_: Capture, result: AlignmentResult) -> tuple[Pane, ...]:
    """Return where the rotor rested."""
    field, rest = np.degrees(result.commanded), -np.degrees(result.lag)
    below, above = result.side == 1, result.side == -1
    return (
        pane(
            Curve("approached from below", "measured", field[below], rest[below], shape="up"),
            Curve("approached from above", "fit", field[above], rest[above], shape="down"),
        ),
    )


VIEW = View(said, panes)
