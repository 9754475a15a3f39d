"""Inductance of one phase: steps or a sine, over the rotor angle, against current."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.kind import AXIS, CaptureKind
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.course.waypoints.resistance import on_one_winding
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Result
from crisp_compass.identify.inductance import fit_inductance
from crisp_compass.identify.saliency import SaliencyResult, fit_saliency
from crisp_compass.identify.saturation import SaturationResult, fit_saturation
from crisp_compass.motor import family_of, pole_pairs_of, three_phases
from crisp_compass.plausible import limits
from crisp_compass.quantities import show


def _steps(bench: Bench, capture: Capture) -> Result:
    """Fit one R and one L; where that leaves too much unexplained, try saturating iron."""
    family = family_of(bench).captures
    result = fit_inductance(capture, family=family)
    if not three_phases(bench) or not any(f.code == "model-does-not-fit" for f in result.findings):
        return result
    try:
        curve = fit_saturation(capture)
    except Refusal:
        return result
    better = float(np.std(curve.residual)) < 0.7 * float(np.std(result.residual))
    return curve if better else result


def _over_angle(bench: Bench, capture: Capture) -> SaliencyResult:
    return fit_saliency(capture, pole_pairs=pole_pairs_of(bench.settings.plate))


def _axis(capture: Capture, result: Result) -> str:
    """Return the kind that steps are: of the axis that the capture's note names, of a saturating iron, or of no axis."""
    axis = capture.notes.get("axis", "").strip().lower()
    kinds = {"d": "steps_d", "q": "steps_q"}
    return kinds.get(axis) or ("saturation" if isinstance(result, SaturationResult) else "steps")


def inductance_values(bench: Bench) -> dict[str, Quantity]:
    """Return Ld and Lq from the evidence: the newest capture decides how.

    A table over the rotor angle gives both; a capture of one axis needs one of the other; else one value is for both,
    with the saturation curve where one was found.
    Raises Refusal where only one axis was captured.
    """
    items = bench.evidence.get("inductance", ())
    if not items:
        raise Refusal("no step capture is loaded", "load one first")
    newest = items[-1]
    found = newest.estimates
    if "ld" in found:
        return {"ld": found["ld"], "lq": found["lq"]}
    axis = AXIS.get(newest.kind)
    if axis is None:
        curve = {k: found[k] for k in ("saturated_inductance", "saturation_current") if newest.kind == "saturation"}
        one = found["inductance"]
        if newest.kind == "steps" and three_phases(bench):
            one = _of_one_angle(one)
        return {"ld": one, "lq": one, **curve}
    axes = {AXIS[e.kind]: e.estimates["inductance"] for e in items if e.kind in AXIS}
    if {"d", "q"} <= set(axes):
        return {"ld": axes["d"], "lq": axes["q"]}
    missing = "q" if axis == "d" else "d"
    raise Refusal(
        f"only the {axis} axis was captured", f"capture the {missing} axis too, or load a capture for both axes"
    )


#: Half of what Ld and Lq of a motor without much saliency differ by, over their mean; as standard uncertainty of an even spread.
_SALIENCY_U = 0.10 / math.sqrt(3)


def _of_one_angle(found: Quantity) -> Quantity:
    """Return an inductance read at one rotor angle as one for both axes: its bar holds what the other angles may show."""
    u = math.hypot(found.u or 0.0, _SALIENCY_U * found.value)
    return found.model_copy(update={"u": u, "interval95": (found.value - 1.96 * u, found.value + 1.96 * u)})


_REASONS = {
    "lcr_angle": "readings over the rotor angle",
    "saturation": "steps at several currents, saturation curve",
}


def _propose(bench: Bench, evidence: Evidence) -> Proposal:
    values = inductance_values(bench)
    ld, lq = values["ld"].value, values["lq"].value
    return Proposal(
        values,
        show(ld, "H") if ld == lq else f"Ld {show(ld, 'H')}, Lq {show(lq, 'H')}",
        _REASONS.get(evidence.kind, "steps, fit within the noise"),
        evidence.method,
    )


def _headline(evidence: Evidence) -> str:
    found = evidence.estimates
    if "ld" in found:
        return f"Ld {show(found['ld'].value, 'H')}, Lq {show(found['lq'].value, 'H')}"
    return f"inductance {show(found['inductance'].value, 'H')}"


STEPS = CaptureKind(
    "steps",
    "inductance",
    _steps,
    _headline,
    section="Capture",
    signals=("v_ab", "i_a", "angle", "l_ab"),  # a meter's table may have names of its own too
    rank=61,
    claims=lambda capture, _: {"v_ab", "i_a"} <= set(capture.columns),
    refine=_axis,
    needs=(("inductance", "resistance"), ()),
    gained=("inductance", "resistance", "saturated_inductance"),
    gains=("v_gain", "i_gain"),
    propose=_propose,
    sketch="inductance",
    view="inductance",
)


def _variant(key: str, title: str, without: tuple[str, ...] = ()) -> CaptureKind:
    """Return a kind that only the result of a step capture can make of it."""
    return replace(
        STEPS,
        key=key,
        title=title,
        needs=(STEPS.needs[0], without),
        rank=1000,
        claims=lambda _, __: False,
        fits=lambda _: False,
    )


def _claims_winding(capture: Capture, here: str) -> bool:
    return any(on_one_winding(capture, here, f"v_{w}", f"i_{w}", topic="inductance") for w in "ab")


#: Steps on one winding of a stepper, and on an armature.
WINDING_STEPS = replace(
    STEPS,
    key="winding_steps",
    signals=("v_a", "i_a", "v_b", "i_b"),
    claims=_claims_winding,
    refine=None,
    sketch="winding",
    families=("stepper",),
)
ARMATURE_STEPS = replace(
    WINDING_STEPS,
    key="armature_steps",
    signals=("v_m", "i_m"),
    claims=lambda capture, here: on_one_winding(capture, here, "v_m", "i_m", topic="inductance"),
    sketch="armature",
    families=("brushed",),
)
STEPS_D = _variant("steps_d", ", d axis")
STEPS_Q = _variant("steps_q", ", q axis")
SATURATION = _variant("saturation", " against current", ("saturated_inductance", "saturation_current"))
LCR_ANGLE = CaptureKind(
    "lcr_angle",
    "inductance",
    _over_angle,
    _headline,
    title=" over the rotor angle",
    section="Capture",
    signals=("angle", "l_ab"),
    rank=80,
    claims=lambda capture, _: {"angle", "l_ab"} <= set(capture.columns),
    fits=lambda capture: "l_ab" in capture,
    table=True,
    needs=(("ld", "lq"), ()),
    gained=("ld", "lq"),
    gains=("v_gain", "i_gain"),
    propose=_propose,
    sketch="inductance",
    view="inductance",
)


def _course_figure(values: dict[str, Quantity]) -> str:
    return show(0.5 * (values["ld"].value + values["lq"].value), "H")


WAYPOINT = Waypoint(
    "inductance",
    30,
    "Inductance",
    "How much inductance has one phase?",
    first_step="Hold the rotor, capture a voltage step from A to B and drop the capture on the window.",
    settles=limits(ld="ld", lq="lq"),
    headline=lambda settled: _course_figure(settled.values),
    captures=(LCR_ANGLE, STEPS, STEPS_D, STEPS_Q, SATURATION, WINDING_STEPS, ARMATURE_STEPS),
    sections=(Section("Capture"), Section("Side by side")),
)
