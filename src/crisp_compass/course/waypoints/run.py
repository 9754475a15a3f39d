"""Run: the drive as settled."""

from __future__ import annotations

from dataclasses import replace

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.waypoint import Section, Waypoint
from crisp_compass.course.waypoints.commutation import hall_edges, uses_halls
from crisp_compass.identify.heating import Heating, fit_heating
from crisp_compass.motor import family_of
from crisp_compass.quantities import show


def _hall_table(bench: Bench) -> tuple[str, ...]:
    """Return commutation where halls are used and no table is settled: an encoder's zero is no hall table."""
    return ("commutation",) if uses_halls(bench) and hall_edges(bench) is None else ()


def _read_heating(bench: Bench, capture: Capture) -> Heating:
    """Read a motor that is warmed; a cold start's temperature is the note's, else the resistance leg's."""
    settings = bench.settings.resistance
    start = None if "temperature_c" in capture.notes else settings.temperature
    return fit_heating(capture, start=start, lead=2 * settings.cable, family=family_of(bench).captures)


def _claims_heating(capture: Capture, here: str) -> bool:
    """Tell whether a dropped capture is one: minutes of warmth, come to Run or with a temperature in it."""
    if not len(capture.time) or capture.time[-1] - capture.time[0] < 5.0 or {"speed", "angle", "i_q"} & set(capture.columns):
        return False
    return "temp" in capture or (here == "run" and bool({"v_ab", "v_a", "v_m"} & set(capture.columns)))


def _heating_quantities(_: Bench, __: Capture, found: Heating) -> dict[str, Quantity]:
    return {k: to_quantity(e) for k, e in found.estimates.items()}


def _heating_headline(evidence: Evidence) -> str:
    found = evidence.estimates
    whole = found["whole"].value if "whole" in found else found["to_housing"].value + found["to_air"].value
    return f"winding to air {show(whole, 'K/W')}"


HEATING = CaptureKind(
    "heating",
    "run",
    _read_heating,
    _heating_headline,
    title=", heat",
    section="Heat",
    signals=("v_ab", "i_a", "temp"),
    rank=29,
    claims=_claims_heating,
    quantities=_heating_quantities,
    sketch="resistance",
    families=("pm", "induction"),
    view="heat",
)
HEATING_WINDING = replace(HEATING, key="winding_heating", signals=("v_a", "i_a", "temp"), sketch="winding", families=("stepper",))
HEATING_ARMATURE = replace(HEATING, key="armature_heating", signals=("v_m", "i_m", "temp"), sketch="armature", families=("brushed",))
WAYPOINT = Waypoint(
    "run",
    120,
    "Run",
    "Does it run the way it should?",
    needs=("plate", "resistance", "inductance", "flux", "circuit", "pwm", "current_loop", "start_up", "speed_loop"),
    also_needs=_hall_table,
    captures=(HEATING, HEATING_WINDING, HEATING_ARMATURE),
    sections=(Section("Drive"), Section("Envelope"), Section("Limits"), Section("Braking"), Section("Heat")),
)
