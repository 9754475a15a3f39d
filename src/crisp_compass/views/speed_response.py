"""A measured response of the speed loop beside what was to be expected, and what differs."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.capture import Capture
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.speed_design import design_speed
from crisp_compass.course.speed_measured import MeasuredSpeed, differs, findings_of_response
from crisp_compass.errors import Refusal
from crisp_compass.motor import turns_field
from crisp_compass.quantities import show
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View

_DIAL = DialView(caption="The speed follows its reference", rotor=40.0, current=(130.0, 0.5))
_T = ("time", "s")


def said(bench: Bench, evidence: Evidence | None, result: object) -> Said:
    """Return whether the loop does what was designed, and the likeliest cause where it does not."""
    if evidence is None:
        current = "i_q" if turns_field(bench) else "i_m"
        reason = f"Capture speed_ref, speed and {current} over some steps of the reference, load on as in use, and drop it here."
        try:
            design_speed(bench)
        except Refusal as refusal:
            reason = refusal.sentence
        return Said("No response yet", "", reason, dial=_DIAL)
    found = evidence.estimates
    parts = []
    if "overshoot" in found and "expected_overshoot" in found:
        parts.append(f"overshoot {100 * found['overshoot'].value:.0f} %, expected {100 * found['expected_overshoot'].value:.0f} %")
    if "rise" in found and "expected_rise" in found:
        parts.append(f"rise {show(found['rise'].value, 's', 2)}, expected {show(found['expected_rise'].value, 's', 2)}")
    if not isinstance(result, MeasuredSpeed):
        return Said("Read before", "; ".join(parts), f"{evidence.method}.", dial=_DIAL, boxes=_boxes(bench, evidence))
    agrees = not result.cause and not differs(result.figures, result.expected)
    told = [n for n, v in (("inertia", "inertia" in found), ("delay", "delay" in found), ("Kp", result.kp), ("Ki", result.ki)) if v]
    answer = "As designed" if agrees else "Not as designed"
    agreed = f"What it tells agrees with the design: {', '.join(told)}. " if agrees and told else ""
    reason = f"{agreed}{evidence.method[:1].upper()}{evidence.method[1:]}."
    return Said(answer, "; ".join(parts), reason, dial=_DIAL, findings=findings_of_response(result), boxes=_boxes(bench, evidence))


def _boxes(bench: Bench, evidence: Evidence) -> tuple[Box, ...]:
    found, rows = evidence.estimates, []
    try:
        design = design_speed(bench)
        meant = {"kp": design.kp, "ki": design.ki, "inertia": need(bench, "mechanics.inertia")}
    except Refusal as refusal:
        return (Box("Designed → found", (), refusal.sentence),)
    for name in ("kp", "ki"):
        settled = settled_value(bench, f"speed_loop.{name}")
        meant[name] = settled.value if settled is not None else meant[name]
    friction = settled_value(bench, "mechanics.coulomb_friction")
    for title, key, unit, was in (
        ("inertia", "inertia", "kg·m²", meant["inertia"]), ("Coulomb friction", "coulomb_friction", "N·m", friction.value if friction is not None else math.nan),
        ("delay", "delay", "s", math.nan), ("Kp as it acts", "kp", "A/(rad/s)", meant["kp"]), ("Ki as it acts", "ki", "A/rad", meant["ki"]),
    ):  # fmt: skip
        if key in found:
            value = found[key]
            bar = f" ±{50.0 * (value.interval95[1] - value.interval95[0]) / value.value:.2g} %" if value.interval95 and value.value else ""
            rows.append((title, f"{_from_to(was, value.value, unit)}{bar}"))
    step = [
        ("overshoot", f"{100 * found['expected_overshoot'].value:.1f} → {100 * found['overshoot'].value:.1f} %" if {"overshoot", "expected_overshoot"} <= set(found) else "no step"),
        ("rise, 10 to 90 %", _from_to(found["expected_rise"].value, found["rise"].value, "s") if {"rise", "expected_rise"} <= set(found) else "no step"),
        ("within ±2 % after", show(found["settling"].value, "s") if "settling" in found else "–"), ("at the current limit", f"{100 * found['limited'].value:.0f} % of the time"),
    ]  # fmt: skip
    return (Box("Designed → found", tuple(rows)), Box("First step, expected → measured", tuple(step)))


def _from_to(was: float, became: float, unit: str) -> str:
    """Write what was meant and what was found, the unit once where both have the same; only the latter where nothing was meant."""
    if not math.isfinite(was):
        return show(became, unit)
    first, _, of_first = show(was, unit).partition(" ")
    second, _, of_second = show(became, unit).partition(" ")
    return f"{first} → {second} {of_second}".rstrip() if of_first == of_second else f"{first} {of_first} → {second} {of_second}"


def expected(bench: Bench) -> tuple[Pane, ...]:
    """Return a step of a tenth of the top speed as designed; raises Refusal where something is not settled."""
    design = design_speed(bench)
    if not (design.margins.stable and math.isfinite(design.margins.crossover_hz)):
        return ()
    top = 0.1 * bench.settings.plate.top_speed * RPM_PER_RAD_S
    count = min(max(round(8.0 / (design.margins.crossover_hz * design.loop.ts)), 40), 4000)
    t = np.arange(float(count)) * design.loop.ts
    curves = (Curve("asked for", "here", t, np.full(count, float(top))), Curve("by design", "expected", t, np.asarray(top * design.step(count), dtype=np.float64)))
    return (Pane("speed, as designed", ("time from a step of a tenth of the top speed", "s"), ("change of the speed", "rpm"), curves),)


def panes(_: Capture, found: MeasuredSpeed) -> tuple[Pane, ...]:
    """Return the speed with what was asked for and what was to be expected, and the current with that of the simulated drive."""
    t = found.time
    speeds = [Curve("measured", "measured", t, found.measured * RPM_PER_RAD_S, dense=True), Curve("asked for", "expected", t, found.reference * RPM_PER_RAD_S)]
    currents = [Curve("measured", "measured", t, found.current, dense=True)]
    if len(found.simulated):
        speeds.append(Curve("simulated drive, without its sensor", "fit", t, found.simulated * RPM_PER_RAD_S))
        currents.append(Curve("simulated drive", "fit", t, found.simulated_current))
    else:
        speeds.append(Curve("by design", "fit", t, found.designed * RPM_PER_RAD_S))
    return Pane("speed", _T, ("speed", "rpm"), tuple(speeds), printed=True), Pane("current", _T, ("torque current", "A"), tuple(currents), zero=True, printed=True)


VIEW = View(said, panes)
