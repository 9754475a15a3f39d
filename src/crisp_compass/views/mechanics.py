"""A run-up and a coast with the fitted speed."""

from __future__ import annotations

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.waypoints.mechanics import torque_constant_of
from crisp_compass.identify.mechanics import MechanicsResult
from crisp_compass.motor import family_of
from crisp_compass.quantities import show, show_with_error
from crisp_compass.views.picture import Curve, DialView, Pane, Said, View

_HINT = "Drop a run-up followed by a coast here (speed and i_q), load off, drive switched off at speed."
_DIAL = DialView(caption="The current drives, then nothing does", rotor=40.0, current=(130.0, 0.7))


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return the inertia with its bar and both frictions."""
    if evidence is None:
        return _none_yet(bench)
    estimates = evidence.estimates
    found = estimates["inertia"]
    half = (found.interval95[1] - found.interval95[0]) / 2 if found.interval95 else 0.0
    shown, doubt = show_with_error(found.value, half, "kg·m²")
    parts = []
    for name in ("viscous_friction", "coulomb_friction"):
        q = estimates[name]
        assert q.interval95
        value, bar = show_with_error(q.value, (q.interval95[1] - q.interval95[0]) / 2, q.unit)
        parts.append(f"{name.split('_')[0].capitalize()} {value} {bar}")
    return Said(
        shown,
        f"{doubt}, 95 %" if half else "known, as entered on the plate",
        f"{', '.join(parts)}. {evidence.method[:1].upper()}{evidence.method[1:]}.",
        f"Settle {show(found.value, 'kg·m²')}…",
        can_settle=True,
        dial=_DIAL,
    )


def _none_yet(bench: Bench) -> Said:
    done, inertia, known = bench.settled.get("mechanics"), bench.settings.plate.inertia, torque_constant_of(bench)
    if done is not None:
        return Said(show(done.values["inertia"].value, "kg·m²"), "settled", done.reason, dial=_DIAL)
    kt = "Settle the flux first, or enter Kt on the plate. "
    if known:
        kt = f"Kt is {show(known[0], 'N·m/A')} by {known[2]}. "
    return Said(
        "No capture yet" if inertia is None else show(inertia, "kg·m²"),
        "" if inertia is None else "by the plate until it is measured",
        f"{kt}{family_of(bench).hints.get('mechanics', _HINT)}",
        dial=_DIAL,
    )


def panes(capture: Capture, result: MechanicsResult) -> tuple[Pane, ...]:
    """Return the speed with its fit, the current that drove it, and the residual."""
    used, x = np.isfinite(result.residual), ("time", "s")
    left = Curve("residual", "measured", result.time[used], result.residual[used] * RPM_PER_RAD_S, dense=True)
    speed = Curve("measured", "measured", capture.time, capture["speed"] * RPM_PER_RAD_S, dense=True, wide=True)
    return (
        Pane(
            "run-up and coast",
            x,
            ("speed", "rpm"),
            (speed, Curve("fit", "fit", result.time, result.model * RPM_PER_RAD_S)),
            printed=True,
        ),
        Pane(
            "driving current",
            x,
            ("driving current", "A"),
            (Curve("measured", "measured", result.time, result.current, dense=True),),
        ),
        Pane("residual", x, ("residual", "rpm"), (left,), zero=True, printed=True),
    )


VIEW = View(said, panes)
