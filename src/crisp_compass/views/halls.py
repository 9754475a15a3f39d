"""A hand turn: hall codes over the electrical angle with the edges found."""

from __future__ import annotations

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.commutation.halls import HallTable
from crisp_compass.commutation.lead_fix import lead_fixes
from crisp_compass.course.waypoints.commutation import offset_of
from crisp_compass.views.picture import Curve, DialView, Pane, Said, View


def said(_: Bench, evidence: Evidence | None, __: object) -> Said:
    """Return spacing, offset and worst edge of the hall table."""
    if evidence is None or evidence.halls is None:
        return Said(
            "No capture yet",
            "",
            "Drop a capture of the hand-turned shaft here (hall_1 to hall_3 and two line voltages).",
            dial=DialView(caption="Turn the shaft by hand, drive off", rotor=20.0),
        )
    halls = evidence.halls
    way = "forward (A → B → C)" if halls.direction > 0 else "backward (A → C → B)"
    worst = max(abs(e) for e in halls.edge_errors_deg)
    ways = lead_fixes({code: s.drive for code, s in halls.states.items()})
    fix = f" For the common 120° table: {ways[0].text}." if ways else ""
    return Said(
        f"{halls.spacing_deg}° halls",
        f"edges from {offset_of(halls):.1f}°, the worst {worst:.1f}° off its place; captured turning {way}",
        f"{evidence.method[:1].upper()}{evidence.method[1:]}.{fix}",
        "Settle hall table…",
        can_settle=True,
    )


def panes(_: Capture, table: HallTable) -> tuple[Pane, ...]:
    """Return the codes over the electrical angle."""
    edges = np.array([s.from_deg for s in table.states.values()])
    lines = Curve("edges found", "fit", np.repeat(edges, 3), np.tile([0.0, 7.0, np.nan], len(edges)))
    codes = Curve("hall code", "measured", *table.code_points(), "points")
    return (
        Pane("hall codes", ("electrical angle", "°"), ("hall code", ""), (codes, lines), turn=True, printed=True),
    )


VIEW = View(said, panes)
