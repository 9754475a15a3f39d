"""Commutation: halls, encoders by count or by word, alignment, pole search."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import TypeVar

import numpy as np

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence, HallRecord, HallSector, Settled
from crisp_compass.capture import Capture
from crisp_compass.commutation.absolute import AbsoluteResult, read_absolute
from crisp_compass.commutation.alignment import AlignmentResult, read_alignment
from crisp_compass.commutation.encoder import EncoderResult, read_encoder
from crisp_compass.commutation.halls import HallTable, read_halls
from crisp_compass.commutation.pole_search import PoleSearch, search_pole
from crisp_compass.course.kind import LINES, CaptureKind, to_quantity
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.estimates import Estimate, Finding, FloatArray
from crisp_compass.motor import pole_pairs_of, three_phases
from crisp_compass.quantities import grouped, show
from crisp_compass.sensing import SENSORS

_Encoder = TypeVar("_Encoder", EncoderResult, AbsoluteResult)
#: What an encoder's capture settles of what it tells.
_KEPT = ("counts_per_rev", "direction", "zero_offset", "bits", "turn_bits", "offset_counts")


def _stated_counts(bench: Bench) -> int | None:
    sensor = bench.settings.sensor
    return sensor.counts_per_rev if sensor.is_encoder else None


def _encoder(bench: Bench, capture: Capture) -> EncoderResult:
    turns, p = bench.settings.commutation.revolutions, pole_pairs_of(bench.settings.plate)
    return _against_plate(read_encoder(capture, revolutions=turns, pole_pairs=p), _stated_counts(bench))


def _absolute(bench: Bench, capture: Capture) -> AbsoluteResult:
    turns, p = bench.settings.commutation.revolutions, pole_pairs_of(bench.settings.plate)
    return _against_plate(read_absolute(capture, revolutions=turns, pole_pairs=p), _stated_counts(bench))


def _against_plate(found: _Encoder, stated: int | None) -> _Encoder:
    """Say where the plate states another resolution."""
    if stated is None or found.counts_per_rev is None or stated == found.counts_per_rev:
        return found
    text = f"The capture shows {found.counts_per_rev} counts a turn (×4), the plate says {stated}: check whether the plate means lines, ×2 or ×4."
    return replace(found, findings=(*found.findings, Finding("caution", "counts-differ", text)))


def encoder_values(found: EncoderResult | AbsoluteResult) -> dict[str, Quantity]:
    """Return what an encoder capture tells as quantities; what it does not tell is left out."""
    values = {}
    if found.counts_per_rev is not None:
        values["counts_per_rev"] = Quantity(value=float(found.counts_per_rev), unit="")
    if found.direction is not None:
        values["direction"] = Quantity(value=float(found.direction), unit="")
    if found.zero_offset_deg is not None and found.zero_u_deg is not None:
        zero, u = math.radians(found.zero_offset_deg), math.radians(found.zero_u_deg)
        values["zero_offset"] = Quantity(value=zero, unit="rad", u=u, interval95=(zero - 1.96 * u, zero + 1.96 * u))
    if isinstance(found, AbsoluteResult):
        if found.bits is not None:
            values["bits"] = Quantity(value=float(found.bits), unit="")
            values["turn_bits"] = Quantity(value=float(found.turn_bits), unit="")
        if found.offset_counts is not None:
            values["offset_counts"] = Quantity(value=found.offset_counts, unit="")
    elif found.phase_deg is not None:
        values["channel_phase"] = Quantity(value=math.radians(found.phase_deg), unit="rad")
    return values


def _alignment_values(bench: Bench, found: AlignmentResult) -> dict[str, Quantity]:
    counts = bench.settings.sensor.counts_per_rev
    values = {
        "counts_per_rev": Quantity(value=float(counts), unit=""),
        "direction": Quantity(value=float(found.direction), unit=""),
        "zero_offset": to_quantity(found.zero),
        "offset_counts": Quantity(value=found.offset_counts(counts), unit=""),
    }
    if found.hysteresis is not None:
        values["friction_lag"] = to_quantity(found.hysteresis)
    return values


def _pole_values(found: PoleSearch) -> dict[str, Quantity]:
    values = {
        "saliency": Quantity(value=found.saliency, unit=""),
        "magnet_saturation": Quantity(value=found.saturation, unit=""),
        "polarity_chance": Quantity(value=found.chance, unit=""),
    }
    if found.axis is not None:
        values["pole_axis"] = to_quantity(Estimate.from_u(found.axis, "rad", found.u))
    if found.theta is not None:
        values["pole_angle"] = to_quantity(Estimate.from_u(found.theta, "rad", found.u))
    return values


def hall_record(table: HallTable) -> HallRecord:
    """Return the bench form of a hall table."""
    states = {code: HallSector(**s.__dict__) for code, s in table.states.items()}
    e = table.edge_errors_deg
    return HallRecord(
        spacing_deg=60 if table.spacing_deg == 60 else 120, direction=1 if table.direction > 0 else -1, states=states,
        edge_errors_deg=(e[0], e[1], e[2], e[3], e[4], e[5]),
    )  # fmt: skip


def offset_of(halls: HallRecord) -> float:
    """Return where the best even grid of edges begins, degrees, 0 ≤ offset < 60."""
    edges = sorted(s.from_deg for s in halls.states.values())
    return sum(e - 60 * k for k, e in enumerate(edges)) / 6 % 60


def hall_edges(bench: Bench) -> FloatArray | None:
    """Return the settled hall edges (6,) in rad, ascending, or None without a hall table."""
    settled = bench.settled.get("commutation")
    if settled is None or settled.halls is None:
        return None
    return np.sort(np.radians([s.from_deg % 360 for s in settled.halls.states.values()]))


def known_halls(bench: Bench) -> HallRecord | None:
    """Return the newest captured hall table, or the settled one, or None."""
    captured = [e.halls for e in bench.evidence.get("commutation", ()) if e.halls is not None]
    settled = bench.settled.get("commutation")
    return captured[-1] if captured else settled.halls if settled else None


def uses_halls(bench: Bench) -> bool:
    """Tell whether halls tell the angle."""
    return bool(SENSORS[bench.settings.sensor.kind].edges) and bench.settings.sensor.kind in bench.settings.plate.sensors


def uses_encoder(bench: Bench) -> bool:
    """Tell whether an encoder tells the angle."""
    return SENSORS[bench.settings.sensor.kind].counted


def _of_sensor(section: str) -> Callable[[Bench], bool]:
    """Return whether a section's captures prove the bench's sensor, or some of them are there."""

    def shown(bench: Bench) -> bool:
        of = {k.key for k in WAYPOINT.captures if k.section == section}
        proven = SENSORS[bench.settings.sensor.kind].proven_by
        return bool(of & {*proven, *(e.kind for e in bench.evidence.get("commutation", ()))})

    return shown


def _hall_proposal(_: Bench, evidence: Evidence) -> Proposal | None:
    halls = evidence.halls
    if halls is None:
        return None
    what = f"{halls.spacing_deg}° hall table"
    return Proposal({}, what, "hand turn, edges repeat", evidence.method, halls=halls)


def _encoder_proposal(_: Bench, evidence: Evidence) -> Proposal | None:
    values = {k: evidence.estimates[k] for k in _KEPT if k in evidence.estimates}
    if "counts_per_rev" not in values:
        return None
    what = f"{grouped(values['counts_per_rev'].value)} counts"
    return Proposal(values, what, "hand turn, counts and index agree", evidence.method)


def _alignment_proposal(_: Bench, evidence: Evidence) -> Proposal:
    values = {k: evidence.estimates[k] for k in ("counts_per_rev", "direction", "zero_offset", "offset_counts")}
    what = f"zero at {math.degrees(values['zero_offset'].value):.1f}°"
    return Proposal(values, what, "aligned from both sides, positions agree", evidence.method)


def _hall_headline(evidence: Evidence) -> str:
    halls = evidence.halls
    return f"{halls.spacing_deg}° halls, {len(halls.states)} sectors" if halls else ""


def _counts_headline(evidence: Evidence) -> str:
    found = evidence.estimates.get("counts_per_rev")
    return f"{grouped(found.value)} counts a turn" if found else ""


def _pole_headline(evidence: Evidence) -> str:
    angle = evidence.estimates.get("pole_angle")
    return f"rotor at {show(angle.value, 'rad', 4)}" if angle else "pole search, not certain"


def _claims_halls(capture: Capture, _: str) -> bool:
    names, halls = set(capture.columns), {"hall_1", "hall_2", "hall_3"}
    # with fewer voltages it is still one of halls: the refusal says what they tell alone and what is missing
    return halls <= names and (len(names & LINES) >= 2 or names <= halls | LINES)


HAND_TURN = CaptureKind(
    "halls",
    "commutation",
    lambda _, capture: read_halls(capture),
    _hall_headline,
    section="Hand turn",
    signals=("hall_1", "hall_2", "hall_3", "v_ab", "v_bc", "v_ca"),
    rank=10,
    claims=_claims_halls,
    quantities=lambda *_: {},
    halls=hall_record,
    propose=_hall_proposal,
    sketch="commutation",
    view="halls",
)
ENCODER = CaptureKind(
    "encoder",
    "commutation",
    _encoder,
    _counts_headline,
    title=", encoder",
    section="Encoder",
    signals=("enc_a", "enc_b", "enc_z", "position", "v_ab", "v_bc", "angle"),
    rank=20,
    claims=lambda capture, _: (
        {"enc_a", "enc_b"} <= set(capture.columns) and not {"i_a", "i_q"} & set(capture.columns)
    ),
    fits=lambda capture: "enc_a" in capture and "hall_1" not in capture,
    quantities=lambda _, __, result: encoder_values(result),
    propose=_encoder_proposal,
    sketch="encoder",
    families=("pm", "stepper"),
    view="encoder",
)
ABSOLUTE = replace(
    ENCODER,
    key="absolute",
    read=_absolute,
    rank=53,
    claims=lambda capture, _: "position" in capture,
    fits=lambda capture: "position" in capture and "enc_a" not in capture,
)
ALIGNMENT = CaptureKind(
    "alignment",
    "commutation",
    lambda bench, capture: read_alignment(capture, pole_pairs=pole_pairs_of(bench.settings.plate)),
    lambda evidence: f"zero {show(evidence.estimates['zero_offset'].value, 'rad', 4)}",
    title=", alignment",
    section="Alignment",
    signals=("field_angle", "angle"),
    rank=52,
    claims=lambda capture, _: "field_angle" in capture,
    fits=lambda capture: "field_angle" in capture,
    table=True,
    quantities=lambda bench, _, result: _alignment_values(bench, result),
    needs=(("zero_offset", "friction_lag"), ("counts_per_rev", "direction", "offset_counts")),
    propose=_alignment_proposal,
    sketch="encoder",
    families=("pm", "stepper"),
    view="alignment",
)
POLE_SEARCH = CaptureKind(
    "pole_search",
    "commutation",
    lambda bench, capture: search_pole(capture, larger=bench.settings.commutation.larger),
    _pole_headline,
    title=", pole search",
    section="Pole search",
    signals=("field_angle", "i_peak"),
    rank=51,
    claims=lambda capture, _: {"field_angle", "i_peak"} <= set(capture.columns),
    fits=lambda capture: "i_peak" in capture,
    table=True,
    quantities=lambda _, __, result: _pole_values(result),
    needs=((), ("saliency", "magnet_saturation")),
    sketch="encoder",
    view="pole_search",
)


def _headline(settled: Settled) -> str:
    if settled.halls:
        return f"{settled.halls.spacing_deg}° halls"
    counts = settled.values.get("counts_per_rev")
    return f"{grouped(counts.value)} counts" if counts else ""


def _has_angle_sensor(bench: Bench) -> bool:
    """Tell whether there is a sensor to be put right, or a capture of one; without any the firmware starts by itself."""
    if bench.evidence.get("commutation"):
        return True
    return bool(SENSORS[bench.settings.sensor.kind].leads) and not steps_open(bench)


WAYPOINT = Waypoint(
    "commutation",
    60,
    "Commutation",
    "Where do the halls switch?",
    first_step="Turn the shaft by hand, capture the halls and two line voltages and drop the capture on the window.",
    settles={},
    applies=_has_angle_sensor,
    optional=uses_encoder,  # it can wait until the index is captured
    headline=_headline,
    captures=(POLE_SEARCH, ALIGNMENT, ABSOLUTE, ENCODER, HAND_TURN),
    sections=(
        Section("Hand turn", _of_sensor("Hand turn")),
        Section("Edges", uses_halls),
        Section("Encoder", _of_sensor("Encoder")),
        Section("Alignment", _of_sensor("Alignment")),
        Section("Pole search", lambda bench: three_phases(bench) and _of_sensor("Pole search")(bench)),
        Section("Sense and offset"),
        Section("Lead orders", three_phases),
    ),
)
