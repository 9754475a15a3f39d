"""From a capture file to evidence on the bench: the same function serves the page, the record and the tests."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from crisp_compass.bench.models import (
    Bench,
    Evidence,
    FoundNote,
    HallRecord,
    HallSector,
    LedgerEntry,
    Quantity,
    Topic,
)
from crisp_compass.bench.store import sha256_of
from crisp_compass.capture import Capture, read_capture
from crisp_compass.commutation.halls import HallTable, read_halls
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, Result
from crisp_compass.identify.flux import fit_flux
from crisp_compass.identify.inductance import fit_inductance
from crisp_compass.identify.resistance import fit_resistance
from crisp_compass.quantities import show

EVIDENCE_LEGS: tuple[Topic, ...] = ("resistance", "inductance", "flux", "commutation")


@dataclass(frozen=True)
class Evaluated:
    """A capture with its result and the evidence record made of it."""

    leg: Topic
    capture: Capture
    result: Result | HallTable
    evidence: Evidence


def evaluate(
    bench: Bench,
    leg: Topic,
    file: Path,
    *,
    base: Path,
    when: str,
    columns: Sequence[str] = (),
    slot: str | None = None,
) -> Evaluated:
    """Read a capture and run the leg's estimator.

    Parameters
    ----------
    bench
        For what the estimator must know besides (temperatures, pole pairs).
    leg
        ``resistance``, ``inductance``, ``flux`` or ``commutation``.
    file, base
        The capture and the folder of the bench file, from which the path is kept relative.
    slot
        ``d``, ``q`` or empty for inductance; None takes the note ``axis`` of the capture.

    Raises
    ------
    Refusal
        Whatever the reader or the estimator refuses.
    """
    capture = read_capture(file, columns)
    result = _run(bench, leg, capture)
    if slot is None:
        slot = capture.notes.get("axis", "").strip().lower() if leg == "inductance" else ""
        slot = slot if slot in ("d", "q") else ""
    halls = hall_record(result) if isinstance(result, HallTable) else None
    estimates = {} if isinstance(result, HallTable) else {k: to_quantity(e) for k, e in result.estimates.items()}
    evidence = Evidence(
        file=os.path.relpath(file.resolve(), base.resolve()), sha256=sha256_of(file), slot=slot, columns=tuple(columns), when=when,
        method=result.method, estimates=estimates, findings=tuple(FoundNote(**f.__dict__) for f in result.findings), halls=halls,
    )  # fmt: skip
    return Evaluated(leg, capture, result, evidence)


def _run(bench: Bench, leg: Topic, capture: Capture) -> Result | HallTable:
    if leg == "resistance":
        levers = bench.levers.resistance
        known = levers.temperature is not None or "temperature_c" in capture.notes
        return fit_resistance(
            capture,
            temperature_c=levers.temperature,
            reference_c=levers.reference if known else None,
            rule=levers.rule,
            cable=levers.cable,
        )
    if leg == "inductance":
        return fit_inductance(capture)
    if leg == "flux":
        return fit_flux(capture, pole_pairs=bench.levers.plate.pole_pairs)
    if leg == "commutation":
        return read_halls(capture)
    raise Refusal(f"the leg {leg} takes no capture")


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


def add_evidence(bench: Bench, leg: Topic, evidence: Evidence) -> Bench:
    """Return the bench with evidence added; a new capture for the same slot takes the place of the old one."""
    others = tuple(e for e in bench.evidence.get(leg, ()) if e.slot != evidence.slot)
    line = LedgerEntry(when=evidence.when, kind="file", text=f"{Path(evidence.file).name}  {headline_of(evidence)}")
    return bench.model_copy(
        update={"evidence": {**bench.evidence, leg: (*others, evidence)}, "ledger": (*bench.ledger, line)}
    )


def headline_of(evidence: Evidence) -> str:
    """Return the evidence's main figure as a short text."""
    if evidence.halls is not None:
        return f"{evidence.halls.spacing_deg}° halls, {len(evidence.halls.states)} sectors"
    for name in ("resistance", "inductance", "flux_linkage"):
        if name in evidence.estimates and not (name == "resistance" and "inductance" in evidence.estimates):
            quantity = evidence.estimates[name]
            return f"{name.split('_')[0]} {show(quantity.value, quantity.unit)}"
    return ""


def guess_leg(capture: Capture) -> Topic:
    """Tell from the channels which leg a dropped capture belongs to; raises Refusal if it fits none."""
    names = set(capture.columns)
    lines = names & {"v_ab", "v_bc", "v_ca", "v_a", "v_b", "v_c"}
    if {"hall_1", "hall_2", "hall_3"} <= names and len(lines) >= 2:
        return "commutation"
    if "i_a" in names and "v_cmd" in names and "v_ab" not in names:
        return "resistance"
    if {"v_ab", "i_a"} <= names:
        return "resistance" if _is_staircase(capture) else "inductance"
    if lines and "i_a" not in names:
        return "flux"
    raise Refusal(
        f"it is not clear which leg this capture is for (it holds {', '.join(sorted(names))})",
        "open the leg first and load it there", where=capture.source,
    )  # fmt: skip


def _is_staircase(capture: Capture) -> bool:
    """Tell a staircase from pulses: its voltage rests on three or more clearly different levels."""
    try:
        result = fit_resistance(capture)
    except Refusal:
        return False
    voltage = np.sort(result.voltage)
    return int(np.sum(np.diff(voltage) > 0.12 * np.ptp(voltage))) >= 2


def differs(first: Evidence, second: Evidence) -> bool:
    """Tell whether two evaluations say something different, rounding of the last digits aside."""
    if first.findings != second.findings or set(first.estimates) != set(second.estimates):
        return True
    pairs = [(first.estimates[k], second.estimates[k]) for k in first.estimates]
    return any(abs(a.value - b.value) > 1e-6 * abs(a.value) + 1e-3 * (a.u or 0.0) for a, b in pairs)


def findings_of(evidence: Evidence) -> list[Finding]:
    """Return the findings kept with evidence."""
    return [Finding(f.level, f.code, f.text) for f in evidence.findings]
