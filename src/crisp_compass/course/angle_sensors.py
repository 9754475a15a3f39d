"""From a commutation capture to evidence: halls, encoders by count or by word, alignment, pole search."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TypeVar

from crisp_compass.bench.models import Bench, HallRecord, HallSector, Quantity
from crisp_compass.capture import Capture
from crisp_compass.commutation.absolute import AbsoluteResult, read_absolute
from crisp_compass.commutation.alignment import AlignmentResult, read_alignment
from crisp_compass.commutation.encoder import EncoderResult, read_encoder
from crisp_compass.commutation.halls import HallTable, read_halls
from crisp_compass.commutation.pole_search import PoleSearch, search_pole
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding
from crisp_compass.motor.plate_outlook import pole_pairs_of

AngleResult = HallTable | EncoderResult | AbsoluteResult | AlignmentResult | PoleSearch
_Encoder = TypeVar("_Encoder", EncoderResult, AbsoluteResult)
#: Slot of the evidence → section of the window that shows it; halls have the empty slot.
SECTIONS = {"": "Hand turn", "encoder": "Encoder", "align": "Alignment", "poles": "Pole search"}


def read_angle_sensor(bench: Bench, capture: Capture) -> AngleResult:
    """Run the estimator that the channels ask for; raises Refusal as it does."""
    plate, p = bench.settings.plate, pole_pairs_of(bench.settings.plate)
    if "i_peak" in capture:
        return search_pole(capture, larger=bench.settings.commutation.larger)
    if "field_angle" in capture:
        return read_alignment(capture, pole_pairs=p)
    if not len(capture.time):
        raise Refusal("there is no time column", "name it t [s] or map it: t=SOURCE", where=capture.source)
    turns = bench.settings.commutation.revolutions
    stated = plate.counts_per_rev if plate.sensor == "encoder" else None
    if "position" in capture and "enc_a" not in capture:
        return _against_plate(read_absolute(capture, revolutions=turns, pole_pairs=p), stated)
    if "enc_a" in capture and "hall_1" not in capture:
        return _against_plate(read_encoder(capture, revolutions=turns, pole_pairs=p), stated)
    return read_halls(capture)


def angle_values(bench: Bench, result: AngleResult) -> tuple[str, dict[str, Quantity]]:
    """Return the slot of the evidence and what is estimated, as quantities; what is not told is left out."""
    if isinstance(result, HallTable):
        return "", {}
    if isinstance(result, AlignmentResult):
        return "align", _alignment_values(bench, result)
    if isinstance(result, PoleSearch):
        return "poles", _pole_values(result)
    return "encoder", encoder_values(result)


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
    counts = bench.settings.plate.counts_per_rev
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


def to_quantity(estimate: Estimate) -> Quantity:
    """Return the bench form of an estimate."""
    return Quantity(value=estimate.value, unit=estimate.unit, u=estimate.u, interval95=(estimate.low, estimate.high))


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
