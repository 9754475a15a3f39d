"""How hot the motor gets: words, courses, how long a current may flow; and a capture of a motor that was warmed."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import torque_constant
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.conversions import RPM_PER_RAD_S, rms_from_peak
from crisp_compass.course.heat import Outlook, around, bodies_of, heat_outlook, rated_point
from crisp_compass.course.known import best_value
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.identify.heating import Heating
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.quantities import grouped, show
from crisp_compass.thermal.classes import CLASSES, FLUX_PER_KELVIN, winding_limit
from crisp_compass.thermal.guard import trip_times
from crisp_compass.thermal.model import MOST, steady, time_to
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View

_SKIN = 60.0


def _deg(value: float) -> str:
    return "without end" if not value < MOST else f"{value:.0f} °C"


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return how hot the winding gets, and what that means."""
    try:
        found = heat_outlook(bench)
    except Refusal as refusal:
        return Said("Not known yet", "", refusal.sentence, boxes=_capture_box(evidence))
    s = bench.settings.heat
    doubt = {"S1": "winding in the end", "S2": f"winding, after {show(s.on_time, 's')} from cold", "S3": "winding, at its hottest"}[s.duty]
    if found.limit is not None:
        doubt += f"; {found.limit:.0f} °C allowed" + (" in the mean" if winding_limit(s.insulation) == found.limit else "")
    answer = _deg(found.winding) if found.winding < MOST else "Heats up without end"
    reason = f"{show(found.current, 'A')} peak at {grouped(found.speed * RPM_PER_RAD_S)} rpm in air of {s.ambient:g} °C; {show(found.known.bodies.whole, 'K/W', 3)} to air {found.known.origin}."
    if s.insulation in CLASSES:
        reason += f" Class {s.insulation}: {CLASSES[s.insulation][0]:.0f} °C at the hottest spot."
    return Said(answer, doubt, reason, findings=tuple(_findings(bench, found)), boxes=(_motor_box(bench, found), _warm_box(bench, found), *_capture_box(evidence)), dial=DialView())


def _motor_box(bench: Bench, found: Outlook) -> Box:
    s = bench.settings.heat
    rows = [
        *((("housing", _deg(found.housing)),) if found.known.two else ()), ("copper, other losses", f"{show(found.losses[0], 'W', 3)}, {show(found.losses[1], 'W', 3)}" if math.isfinite(found.losses[0]) else "–"),
    ]  # fmt: skip
    if found.limit is not None:
        rows.append(("for ever at this speed, at rest", f"{show(found.continuous, 'A', 3)}, {show(found.at_rest, 'A', 3)}"))
        if found.known.timed:
            rows.append(("this load from cold, warm", f"{_long(found.cold)}, {_long(found.warm)}"))
        if s.duty == "S3":
            rows.append(("may repeat every", "never" if math.isinf(found.period) else show(found.period, "s", 3)))
    if (guard := found.guard) is not None:
        rows.append(("firmware lets it reach", f"{_deg(guard.worst)}"))
        if guard.continuous is not None and guard.seconds is not None:
            rows.append(("overload trip for it", f"{show(guard.continuous, 'A', 3)}, {show(guard.seconds, 's', 3)}"))
    return Box("Motor, currents peak", tuple(rows))


def _long(seconds: float) -> str:
    return "for ever" if math.isinf(seconds) else show(seconds, "s", 3)


def _warm_box(bench: Bench, found: Outlook) -> Box:
    """Return what warmth changes of the constants that were tuned cold."""
    if not found.winding < MOST:
        return Box("Cold and warm", (), "")
    b, s = found.known.bodies, bench.settings.heat
    hot = b.copper(1.0, found.winding) / b.factor
    rows = [("resistance", f"{show(b.r, 'Ω', 3)} → {show(hot, 'Ω', 3)}")]
    slope = FLUX_PER_KELVIN.get(s.magnet)
    psi = best_value(bench, "flux_linkage") if not family_of(bench).own_circuit else None
    note = "The current loop's crossover stays; its zero no longer cancels the warmer winding's pole."
    if psi is not None and slope is not None:
        less = 1 + slope * (found.housing - 20.0)
        poles = pole_pairs_of(bench.settings.plate)
        kt = torque_constant(bench.settings.plate, psi, poles)
        rows += [("flux linkage", f"{show(psi, 'Wb', 3)} → {show(less * psi, 'Wb', 3)}"), ("torque per ampere", f"{show(kt, 'N·m/A', 3)} → {show(less * kt, 'N·m/A', 3)}")]
        note = "The magnet is as warm as the housing, and was measured at 20 °C."
    elif family_of(bench).own_circuit:
        note = "The rotor's resistance grows likewise: slip and rotor time constant of a warm motor are others."
    return Box("Cold and warm", tuple(rows), note)


def _capture_box(evidence: Evidence | None) -> tuple[Box, ...]:
    if evidence is None:
        return ()
    names = {"to_housing": "winding to housing", "to_air": "housing to air", "winding_time": "winding's time", "housing_time": "housing's time", "whole": "winding to air", "time": "time constant"}
    rows = []
    for key, q in evidence.estimates.items():
        if key in names:
            bar = f" ±{0.5 * (q.interval95[1] - q.interval95[0]):.2g}" if q.interval95 else ""
            rows.append((names[key], f"{q.value:.4g}{bar} {q.unit}"))
    return (Box("Capture", tuple(rows), ""),)


def _findings(bench: Bench, found: Outlook) -> list[Finding]:
    s, run, said_ = bench.settings.heat, bench.settings.run, []
    if found.limit is None:
        said_.append(Finding("caution", "no-limit", "Nothing says how hot the winding may get: choose the insulation's class, or enter the maker's limit."))
    elif found.winding > found.limit:
        cure = f"{show(found.continuous, 'A', 3)} may flow for ever" if s.duty == "S1" else "less current, a shorter load, or a longer rest"
        said_.append(Finding("stop", "too-hot", f"The winding gets {'hot without end' if found.winding >= MOST else f'{found.winding - found.limit:.0f} K hotter than allowed'}: {cure}."))
    if found.guard is not None and found.limit is not None and found.guard.worst > found.limit + 1.0:
        trips = run.i_continuous is not None and run.i_continuous < run.i_limit
        text = f"The firmware lets the winding {'heat without end' if found.guard.worst >= MOST else f'reach {found.guard.worst:.0f} °C'}: {show(found.guard.by, 'A', 3)} " + ("pass its overload trip for too long." if trips else "may flow for ever, no overload trip is set.")
        text += " Take the proposed one." if found.guard.continuous is not None and found.guard.seconds is not None else " Lower the current limit."
        said_.append(Finding("caution", "guard-too-slow", text))
    if not found.known.two:
        said_.append(Finding("caution", "one-body", "Winding and housing are taken as one body: a short overload heats the winding faster than this says. The data sheet's two resistances and times, or a capture, part them."))
    if run.temp_trip is not None and found.limit is not None and run.temp_trip > found.limit:
        said_.append(Finding("caution", "trip-above-limit", f"The temperature trip of {run.temp_trip:g} °C lies above the {found.limit:.0f} °C that the winding may have in the mean."))
    rated, allowed = rated_point(bench), winding_limit(s.insulation)
    if rated is not None and allowed is not None and rated > allowed + 10:
        said_.append(Finding("caution", "rated-point", f"By these thermal resistances the plate's own rated current would bring the winding to {_deg(rated)}, and class {s.insulation} allows {allowed:.0f} °C: one of them is of another cooling, base or mounting."))
    if found.known.two and _SKIN < found.housing < MOST:
        said_.append(Finding("caution", "hot-housing", f"The housing gets {found.housing:.0f} °C hot: it burns skin (common practice: above {_SKIN:.0f} °C guard or mark it; local codes say what is allowed)."))
    said_ += _drive_findings(bench, found)
    return said_


def _drive_findings(bench: Bench, found: Outlook) -> list[Finding]:
    """Judge the load's current against the drive's ratings."""
    supply = bench.settings.supply
    amps = found.current if supply.drive_base == "peak" else rms_from_peak(found.current)
    if supply.drive_peak is not None and amps > supply.drive_peak:
        return [Finding("caution", "drive-peak", f"The load takes {show(amps, 'A', 3)} {supply.drive_base}, more than the drive's peak of {show(supply.drive_peak, 'A', 3)}: the drive limits it, whatever the motor could bear.")]
    if bench.settings.heat.duty == "S1" and supply.drive_continuous is not None and amps > supply.drive_continuous:
        return [Finding("caution", "drive-continuous", f"For ever the drive gives {show(supply.drive_continuous, 'A', 3)} {supply.drive_base}, the load takes {show(amps, 'A', 3)}.")]
    return []


def outlook_panes(bench: Bench) -> tuple[Pane, ...]:
    """Return the course of the duty and how long a current may flow; raises Refusal where something is missing."""
    found = heat_outlook(bench)
    panes = []
    if (course := found.course) is not None:
        ends = np.array([0.0, float(course.time[-1])])
        curves = [Curve("winding", "fit", course.time, course.winding), Curve("housing", "measured", course.time, course.housing)]
        if found.limit is not None:
            curves.append(Curve("allowed", "expected", ends, np.full(2, found.limit)))
        panes.append(Pane("temperature", ("time", "s"), ("temperature", "°C"), tuple(curves)))
    else:
        panes.append(_over_current(bench, found))
    if found.limit is not None and found.known.timed:
        panes.append(_how_long(bench, found, found.limit))
    return tuple(panes)


def _over_current(bench: Bench, found: Outlook) -> Pane:
    """Return what a current leads to in the end: all that can be said without time constants."""
    there, b = around(bench, found.speed, found.current), found.known.bodies
    top = 1.25 * max(found.current, found.continuous if math.isfinite(found.continuous) else 0.0)
    amps: FloatArray = np.linspace(0.0, top, 120)
    hot = np.array([steady(b, float(i), there.ambient, housing_loss=there.housing_loss, air_factor=there.air_factor)[0] for i in amps])
    shown = hot < 2 * max(found.limit or 200.0, 100.0)
    curves = [Curve("winding in the end", "fit", amps[shown], hot[shown])]
    if found.winding < MOST:
        curves.append(Curve("this load", "here", np.array([found.current]), np.array([found.winding]), shape="points"))
    if found.limit is not None:
        curves.append(Curve("allowed", "expected", np.array([0.0, top]), np.full(2, found.limit)))
    return Pane("temperature over current", ("current, peak", "A"), ("temperature", "°C"), tuple(curves))


def _how_long(bench: Bench, found: Outlook, limit: float) -> Pane:
    run, b = bench.settings.run, found.known.bodies
    there = around(bench, found.speed, found.current)
    most = max(1.15 * run.i_limit, 1.3 * found.current, 1.5 * found.continuous)
    amps: FloatArray = np.linspace(max(found.continuous, 1e-3 * most) * 1.005, most, 70)
    losses = {"housing_loss": there.housing_loss, "air_factor": there.air_factor}
    ambient = bench.settings.heat.ambient
    cold, warm = (np.array([time_to(b, limit, float(i), ambient, start=at, **losses) for i in amps]) for at in ((ambient, ambient), found.warm_start))
    shown, later = np.isfinite(cold) & (cold > 0), np.isfinite(warm) & (warm > 0)
    curves = [Curve("motor, from cold", "fit", cold[shown], amps[shown]), Curve("from warm", "fit", warm[later], amps[later], wide=True)]
    if run.i_continuous is not None and run.i_continuous < run.i_limit:
        trips = np.linspace(1.005 * run.i_continuous, run.i_limit, 70)
        seconds = trip_times(trips, run.i_continuous, (run.i_limit**2 - run.i_continuous**2) * run.overload_time)
        curves.append(Curve("firmware trips", "measured", seconds, trips))
    if shown.any():
        ends = np.array([float(cold[shown].min()), float(cold[shown].max())])
        curves.append(Curve("current limit", "expected", ends, np.full(2, run.i_limit)))
    return Pane("how long a current may flow", ("time", "s"), ("current, peak", "A"), tuple(curves), log=True)


def panes(_: Capture, found: Heating) -> tuple[Pane, ...]:
    """Return the winding's temperature as measured, with its model."""
    curves = (Curve("measured", "measured", found.time, found.measured, shape="points"), Curve("winding and housing" if found.two else "one body", "fit", found.time, found.model))
    return (Pane("winding while warmed", ("time", "s"), ("temperature", "°C"), curves, printed=True),)


def known(bench: Bench) -> bool:
    """Tell whether the motor's warming can be simulated."""
    found = bodies_of(bench)
    return found is not None and found.timed


VIEW = View(said, panes)
