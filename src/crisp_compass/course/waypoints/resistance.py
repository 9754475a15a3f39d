"""Resistance of one phase, from a staircase of DC levels."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Result
from crisp_compass.identify.inductance import fit_inductance
from crisp_compass.identify.resistance import ResistanceResult, fit_resistance
from crisp_compass.motor import family_of, three_phases
from crisp_compass.plausible import limits
from crisp_compass.quantities import show


def _read(bench: Bench, capture: Capture) -> ResistanceResult:
    settings = bench.settings.resistance
    known = settings.temperature is not None or "temperature_c" in capture.notes
    return fit_resistance(
        capture,
        family=family_of(bench).captures,
        temperature_c=settings.temperature,
        reference_c=settings.reference if known else None,
        rule=settings.rule,
        cable=settings.cable,
    )


def _quantities(bench: Bench, capture: Capture, result: Result) -> dict[str, Quantity]:
    """Return the estimates, and the winding's temperature during the capture where it is known."""
    typed = bench.settings.resistance.temperature
    known = typed if typed is not None else capture.note_number("temperature_c")
    found = {k: to_quantity(e) for k, e in result.estimates.items()}
    return found if known is None else {**found, "temperature": Quantity(value=known, unit="degC")}


def _through_bridge(capture: Capture) -> bool:
    return "v_cmd" in capture and "v_ab" not in capture and "i_a" in capture


def is_staircase(capture: Capture, here: str) -> bool:
    """Tell a staircase from pulses: its voltage rests on three or more different levels.

    The open page's purpose is known, so there fewer hints are enough: levels need not be far apart, and steps of several heights
    are steps.
    """
    if not {"v_ab", "i_a"} <= set(capture.columns):
        return False
    if here == "inductance":
        try:
            fit_inductance(capture)
        except Refusal:
            pass
        else:
            return False
    try:
        voltage = np.sort(fit_resistance(capture).voltage)
    except Refusal:
        return False
    apart = (0.03 if here == "resistance" else 0.12) * np.ptp(voltage)
    return int(np.sum(np.diff(voltage) > apart)) >= 2


def _propose(_: Bench, evidence: Evidence) -> Proposal:
    found = evidence.estimates
    return Proposal(
        {k: found[k] for k in ("resistance", "temperature") if k in found},
        show(found["resistance"].value, "Ω", 4),
        "staircase, levels lie on the line",
        evidence.method,
    )


def _headline(evidence: Evidence) -> str:
    return f"resistance {show(evidence.estimates['resistance'].value, 'Ω')}"


STAIRCASE = CaptureKind(
    "staircase",
    "resistance",
    _read,
    _headline,
    section="Capture",
    signals=("v_ab", "v_cmd", "i_a"),
    rank=60,
    claims=is_staircase,
    quantities=_quantities,
    needs=(("resistance", "voltage_offset"), ()),
    gained=("resistance", "resistance_at_reference"),
    gains=("v_gain", "i_gain"),
    propose=_propose,
    sketch="resistance",
    families=("pm", "induction"),
    view="resistance",
)


def on_one_winding(capture: Capture, here: str, voltage: str, current: str, topic: str) -> bool:
    """Tell levels from pulses on two channels of one winding or armature: the open page's purpose comes first."""
    names = set(capture.columns)
    if not {voltage, current} <= names or names & {"speed", "i_q", "i_q_ref"}:
        return False
    if here in ("resistance", "inductance"):
        return here == topic
    try:
        fit_inductance(capture, family="brushed" if voltage == "v_m" else "stepper")
    except Refusal:
        return topic == "resistance"
    edges = np.abs(np.diff(capture[voltage])) > 0.1 * np.ptp(capture[voltage])
    levels = np.unique(np.round(capture[voltage] / max(float(np.ptp(capture[voltage])), 1e-12), 1))
    return (topic == "resistance") == (len(levels) > 4 and int(edges.sum()) < 40)


def _claims_winding(capture: Capture, here: str) -> bool:
    return any(on_one_winding(capture, here, f"v_{w}", f"i_{w}", topic="resistance") for w in "ab")


#: Levels on one winding of a stepper; nothing is halved.
WINDING_STAIRCASE = replace(
    STAIRCASE,
    key="winding_staircase",
    signals=("v_a", "i_a", "v_b", "i_b"),
    claims=_claims_winding,
    sketch="winding",
    families=("stepper",),
)
#: Levels on an armature; its brushes' drop is no resistance, and one direction does not tell it.
ARMATURE_STAIRCASE = replace(
    STAIRCASE,
    key="armature_staircase",
    signals=("v_m", "i_m"),
    claims=lambda capture, here: on_one_winding(capture, here, "v_m", "i_m", topic="resistance"),
    needs=(("resistance",), ()),
    sketch="armature",
    families=("brushed",),
)
#: Commanded voltages through the drive's own bridge: its loss is part of the fit.
BRIDGE_STAIRCASE = replace(
    STAIRCASE,
    key="bridge_staircase",
    title=", through the bridge",
    rank=62,
    claims=lambda capture, _: _through_bridge(capture),
    fits=_through_bridge,
)
WAYPOINT = Waypoint(
    "resistance",
    20,
    "Resistance",
    "How much resistance has one phase?",
    first_step="Clamp the rotor, take a DC staircase between A and B (C open) and drop the capture on the window.",
    settles=limits(resistance="resistance"),
    headline=lambda settled: show(settled.values["resistance"].value, "Ω"),
    captures=(BRIDGE_STAIRCASE, STAIRCASE, WINDING_STAIRCASE, ARMATURE_STAIRCASE),
    sections=(
        Section("Capture"),
        Section("Meter", three_phases),
        Section("Side by side"),
    ),
)
