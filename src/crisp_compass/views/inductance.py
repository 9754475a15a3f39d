"""Voltage steps or a sine, inductance over the rotor angle, inductance against current."""

from __future__ import annotations

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.kind import AXIS
from crisp_compass.course.waypoints.inductance import inductance_values
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.identify.inductance import InductanceResult
from crisp_compass.identify.saliency import SaliencyResult
from crisp_compass.identify.saturation import SaturationResult
from crisp_compass.motor import family_of, three_phases
from crisp_compass.quantities import show, show_with_error
from crisp_compass.views.picture import Curve, DialView, Pane, Said, View

_HINT = "Drop a voltage-step or injected-sine capture here (v_ab and i_a, rotor held), or LCR readings over the rotor angle (angle and l_ab)."
_MARKS = 1500  # more samples than this are joined by a line instead of marked
#: Kinds of capture as the page offers them.
SHOWN = {
    "steps": "both axes",
    "steps_d": "d axis",
    "steps_q": "q axis",
    "lcr_angle": "over the angle",
    "saturation": "over the current",
}


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return the inductance of a phase, or of both axes, with its bar."""
    family = family_of(bench)
    if evidence is None:
        done = bench.settled.get("inductance")
        return Said(
            show(done.values["ld"].value, "H") if done else "No capture yet",
            "",
            family.hints.get("inductance", _HINT),
            dial=_dial(three_phases(bench), ""),
        )
    if evidence.kind == "lcr_angle":
        return _saliency(evidence)
    found = evidence.estimates["inductance"]
    assert found.interval95 is not None
    shown, doubt = show_with_error(found.value, (found.interval95[1] - found.interval95[0]) / 2, "H")
    r = evidence.estimates["resistance"]
    reason = f"{evidence.method[:1].upper()}{evidence.method[1:]}. The same fit gives R {show(r.value, 'Ω')}."
    full = evidence.estimates.get("inductance_at_peak")
    if full is not None:
        knee = evidence.estimates["saturation_current"]
        reason += f" {show(full.value, 'H')} at the largest current; knee at {show(knee.value, 'A')}."
    button, findings = "", list[Finding]()
    try:
        values = inductance_values(bench)
        ld, lq = values["ld"].value, values["lq"].value
        if ld != lq:
            reason += f" Ld {show(ld, 'H')}, Lq {show(lq, 'H')}: ratio {lq / ld:.2f}."
        button = f"Settle {show(ld, 'H')}…" if ld == lq else "Settle Ld and Lq…"
    except Refusal as refusal:
        findings.append(Finding("caution", "axis-missing", refusal.sentence))
    axis = AXIS.get(evidence.kind, "")
    return Said(
        shown,
        f"{doubt}, 95 %, {f'{SHOWN[evidence.kind]}, ' if evidence.kind in AXIS else ''}{family.phase}",
        reason,
        button or "Settle…",
        can_settle=bool(button),
        findings=tuple(findings),
        dial=_dial(three_phases(bench), axis),
    )


def _dial(line: bool, axis: str) -> DialView:
    if not line:
        return DialView(caption="Steps on one winding; the shaft is held", voltage=(0.0, 0.8))
    return DialView(
        caption="Steps from A to B; the rotor is held" + (f" on its {axis} axis" if axis else ""),
        rotor={"d": 330.0, "q": 60.0}.get(axis),
        voltage=(330.0, 0.8),
    )


def _saliency(evidence: Evidence) -> Said:
    """Return the words for Ld and Lq of readings over the rotor angle."""
    ld, lq = evidence.estimates["ld"], evidence.estimates["lq"]
    doubts = [
        show_with_error(q.value, (q.interval95[1] - q.interval95[0]) / 2, "H") for q in (ld, lq) if q.interval95
    ]
    zero, at = evidence.estimates.get("rotor_zero"), ""
    if zero is not None and zero.interval95:
        half = show((zero.interval95[1] - zero.interval95[0]) / 2, "rad", 2)
        at = f" The rotor's zero lies at {show(zero.value, 'rad')} ±{half} of the shaft, or half an electrical turn further."
    return Said(
        f"{show(ld.value, 'H')} | {show(lq.value, 'H')}",
        f"Ld {doubts[0][1]}, Lq {doubts[1][1]}, 95 %",
        f"Lq over Ld is {lq.value / ld.value:.3f}. {evidence.method[:1].upper()}{evidence.method[1:]}.{at}",
        "Settle Ld and Lq…",
        can_settle=True,
        dial=DialView(caption="Least inductance where the rotor lies along A–B", rotor=330.0),
    )


def panes(capture: Capture, result: InductanceResult | SaturationResult | SaliencyResult) -> tuple[Pane, ...]:
    """Return the trace with its fit, what drove it or what came of it, and the residual."""
    if isinstance(result, SaliencyResult):
        return _over_angle(result)
    current_name = result.channels[1] if isinstance(result, InductanceResult) else "i_a"
    if isinstance(result, SaturationResult):
        current = Curve("measured", "measured", result.time, result.current, shape="points")
        second = Pane(
            "incremental inductance",
            ("current along the axis, peak", "A"),
            ("incremental inductance", "H"),
            (Curve("voltage over current", "fit", result.curve_current, result.curve_inductance),),
            printed=True,
        )
    else:
        time = capture.time - capture.time[0]
        many = len(time) > _MARKS
        current = Curve(
            "measured", "measured", time, capture[result.channels[1]], shape="line" if many else "points", dense=many
        )
        voltage = Curve("measured", "measured", time, capture[result.channels[0]], dense=True)
        second = Pane("voltage steps", ("time", "s"), (f"voltage {result.channels[0]}", "V"), (voltage,))
    left = Curve("residual", "measured", result.time, result.residual, dense=True)
    return (
        Pane(
            "current steps",
            ("time", "s"),
            (f"current {current_name}", "A"),
            (current, Curve("fit", "fit", result.time, result.model)),
            printed=True,
        ),
        second,
        Pane("residual", ("time", "s"), ("residual", "A"), (left,), zero=True, printed=not second.printed),
    )


def _over_angle(result: SaliencyResult) -> tuple[Pane, ...]:
    angle, used = np.degrees(result.angle), result.used
    order = np.argsort(angle)
    x = ("rotor angle", "°")
    return (
        Pane(
            "inductance over the angle",
            x,
            ("inductance A–B", "H"),
            (
                Curve("fit", "fit", np.degrees(result.line_angle), result.line_inductance),
                Curve("measured", "measured", angle[used], result.inductance[used], shape="points"),
                Curve("left out", "left out", angle[~used], result.inductance[~used], shape="points"),
            ),
            printed=True,
        ),
        Pane(
            "residual",
            x,
            ("residual", "H"),
            (Curve("residual", "measured", angle[order], result.residual[order]),),
            zero=True,
            printed=True,
        ),
    )


VIEW = View(said, panes)
