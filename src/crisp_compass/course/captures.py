"""From a capture file to evidence on the bench: the same function serves the page, the record and the tests."""

from __future__ import annotations

import math
import os
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from pydantic import ValidationError

from crisp_compass.bench.models import (
    Bench,
    Evidence,
    FoundNote,
    InstrumentSettings,
    LedgerEntry,
    Quantity,
    Topic,
)
from crisp_compass.bench.rules import require_built
from crisp_compass.capture import Capture, Progress, read_capture
from crisp_compass.commutation.halls import HallTable
from crisp_compass.conversions import kt_from_flux
from crisp_compass.course.angle_sensors import AngleResult, angle_values, hall_record, read_angle_sensor, to_quantity
from crisp_compass.course.gain_trials import expected_step, step_values
from crisp_compass.course.known import best_source
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, Result
from crisp_compass.files import sha256_of, shortened
from crisp_compass.identify.flux import fit_flux
from crisp_compass.identify.inductance import fit_inductance
from crisp_compass.identify.mechanics import MechanicsResult, fit_mechanics
from crisp_compass.identify.resistance import fit_resistance
from crisp_compass.identify.running import fit_running
from crisp_compass.identify.saliency import fit_saliency
from crisp_compass.identify.saturation import SaturationResult, fit_saturation
from crisp_compass.loops.step_fit import StepFit, fit_step
from crisp_compass.modulation.command_input import CommandSignal, read_command
from crisp_compass.quantities import show

#: Legs that take tables without a time column too.
TABLE_LEGS = ("inductance", "commutation")
EVIDENCE_LEGS: tuple[Topic, ...] = (
    "resistance",
    "inductance",
    "flux",
    "mechanics",
    "commutation",
    "pwm",
    "current_loop",
)
#: Most captures kept of one leg; the oldest of a slot goes first.
_MOST = 24


#: A shaft that turns no faster than this is held, rad/s.
_HELD = 0.5
_LINES = {"v_ab", "v_bc", "v_ca", "v_a", "v_b", "v_c"}


@dataclass(frozen=True)
class Evaluated:
    """A capture with its result and the evidence record made of it."""

    leg: Topic
    capture: Capture
    result: Result | AngleResult | CommandSignal | StepFit
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
    progress: Progress | None = None,
    capture: Capture | None = None,
) -> Evaluated:
    """Read a capture and run the leg's estimator.

    Parameters
    ----------
    bench
        For what the estimator must know besides (temperatures, pole pairs).
    leg
        One of ``EVIDENCE_LEGS``.
    file, base
        The capture and the folder of the bench file, from which the path is kept relative.
    slot
        ``d``, ``q`` or empty for inductance; None takes the note ``axis`` of the capture.
    progress
        Told what part of the file is read.
    capture
        What stands in the file, where it was read already.

    Raises
    ------
    Refusal
        Whatever the reader or the estimator refuses.
    """
    require_built(bench)
    if capture is None:
        capture = read_capture(file, columns, need_time=leg not in TABLE_LEGS, progress=progress)
    elif not len(capture.time) and leg not in TABLE_LEGS:
        raise Refusal("there is no time column", "name it t [s] or map it: t=SOURCE", where=str(file))
    result = _run(bench, leg, capture)
    if slot is None:
        slot = capture.notes.get("axis", "").strip().lower() if leg == "inductance" else ""
        slot = "angle" if "l_ab" in capture else slot if slot in ("d", "q") else ""
        slot = "current" if isinstance(result, SaturationResult) and not slot else slot
    try:
        evidence = _evidence(bench, leg, file, base, when, tuple(columns), slot, capture, result)
    except ValidationError:  # an estimate that no motor can have: a unit or a factor slipped
        raise Refusal(
            "what the capture says is not possible for a motor",
            "check the channels' units and factors",
            where=str(file),
        ) from None
    return Evaluated(leg, capture, result, evidence)


def _evidence(
    bench: Bench, leg: Topic, file: Path, base: Path, when: str, columns: tuple[str, ...], slot: str, capture: Capture,
    result: Result | AngleResult | CommandSignal | StepFit,
) -> Evidence:  # fmt: skip
    """Return the evidence record of a result; raises ValidationError where an estimate is beyond all ranges."""
    halls = hall_record(result) if isinstance(result, HallTable) else None
    if isinstance(result, Result):
        estimates = {k: _trusted(bench, leg, k, e) for k, e in result.estimates.items()}
        if leg == "resistance":
            estimates |= _temperature(bench, capture)
    elif isinstance(result, CommandSignal):
        slot, estimates = "command", command_values(result)
    elif isinstance(result, StepFit):
        slot, estimates = "step", step_values(result)
    else:
        slot, estimates = angle_values(bench, result)
    return Evidence(
        file=os.path.relpath(file.resolve(), base.resolve()), sha256=sha256_of(file), slot=slot, columns=columns, when=when,
        method=result.method, estimates=estimates, findings=tuple(FoundNote(**f.__dict__) for f in result.findings), halls=halls,
    )  # fmt: skip


def evidence_path(base: Path, file: str, picked: Collection[str] = ()) -> Path:
    """Return where a capture named by a bench file lies; raises Refusal where it leaves the bench's folder.

    A bench file may come from anybody, so what it names elsewhere is read only if the person ``picked`` it (absolute paths).
    """
    try:
        path = (base / file).resolve()
        inside = path.is_relative_to(base.resolve())
    except (OSError, ValueError, RuntimeError):
        raise Refusal(
            "the path of the capture is not possible", "load the capture again", where=shortened(file)
        ) from None
    if not inside and str(path) not in picked:
        raise Refusal(
            "the capture lies outside the bench's folder, and is not read on the word of a file",
            "load it again to use it",
            where=shortened(file),
        )
    return path


def read_again(bench: Bench, leg: Topic, evidence: Evidence, base: Path, picked: Collection[str] = ()) -> Evaluated:
    """Evaluate a capture of the bench anew; raises Refusal where it vanished, changed or lies elsewhere."""
    path = evidence_path(base, evidence.file, picked)
    if not path.is_file():
        raise Refusal("the capture is no longer there", "put it back or load another", where=shortened(evidence.file))
    if sha256_of(path) != evidence.sha256:
        raise Refusal(
            "the capture has changed since it was read", "load it again to take the new content",
            where=shortened(evidence.file),
        )  # fmt: skip
    return evaluate(bench, leg, path, base=base, when=evidence.when, columns=evidence.columns, slot=evidence.slot)


#: Estimates that a channel's gain scales, by leg, with the channels that do.
_SCALED: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "resistance": (("resistance", "resistance_at_reference"), ("v_gain", "i_gain")),
    "inductance": (("inductance", "resistance", "ld", "lq", "saturated_inductance"), ("v_gain", "i_gain")),
    "flux": (("flux_linkage", "kt", "kv_peak"), ("v_gain",)),
    "mechanics": (("inertia", "viscous_friction", "coulomb_friction"), ("i_gain", "speed_gain")),
}


def _trusted(bench: Bench, leg: Topic, name: str, estimate: Estimate) -> Quantity:
    """Return an estimate with the instruments' gains in its error bar, and beside it what a repeat shows."""
    names, channels = _SCALED.get(leg, ((), ()))
    if name not in names or not estimate.u:
        return to_quantity(estimate)
    gain = math.hypot(*(getattr(bench.settings.instruments, c) for c in channels))
    return to_quantity(estimate.widened(gain * abs(estimate.value))).model_copy(update={"u_repeat": estimate.u})


def set_instrument(bench: Bench, field: str, u: float) -> Bench:
    """Return the bench with one figure of its instruments changed, the error bars of all captures brought to it.

    Raises Refusal for a figure that the model does not allow.
    """
    old = bench.settings.instruments
    try:
        fresh = type(old).model_validate({**old.model_dump(), field: u})
    except ValueError:
        raise Refusal(f"an uncertainty of {100 * u:.3g} % is not possible", "0 to 50 % is") from None
    evidence = {
        leg: tuple(e.model_copy(update={"estimates": _again(leg, e.estimates, old, fresh)}) for e in items)
        for leg, items in bench.evidence.items()
    }
    settings = bench.settings.model_copy(update={"instruments": fresh})
    return bench.model_copy(update={"settings": settings, "evidence": evidence})


def _again(
    leg: str, estimates: dict[str, Quantity], old: InstrumentSettings, fresh: InstrumentSettings
) -> dict[str, Quantity]:
    names, channels = _SCALED.get(leg, ((), ()))
    before, after = (math.hypot(*(getattr(x, c) for c in channels)) for x in (old, fresh))
    changed = {}
    for name, q in estimates.items():
        if name in names and q.u_repeat is not None and q.interval95 is not None:
            low, high = q.interval95
            half = math.sqrt(max((0.5 * (high - low)) ** 2 - (1.959964 * before * q.value) ** 2, 0.0))
            bare = Estimate(q.value, q.unit, q.u_repeat, 0.5 * (low + high) - half, 0.5 * (low + high) + half)
            wider = to_quantity(bare.widened(after * abs(q.value)))
            changed[name] = wider.model_copy(update={"u_repeat": q.u_repeat})
    return {**estimates, **changed}


def _temperature(bench: Bench, capture: Capture) -> dict[str, Quantity]:
    """Return the winding's temperature during the capture, where it is known."""
    typed = bench.settings.resistance.temperature
    known = typed if typed is not None else capture.note_number("temperature_c")
    return {} if known is None else {"temperature": Quantity(value=known, unit="degC")}


def _run(bench: Bench, leg: Topic, capture: Capture) -> Result | AngleResult | CommandSignal | StepFit:
    if leg == "resistance":
        settings = bench.settings.resistance
        known = settings.temperature is not None or "temperature_c" in capture.notes
        return fit_resistance(
            capture,
            temperature_c=settings.temperature,
            reference_c=settings.reference if known else None,
            rule=settings.rule,
            cable=settings.cable,
        )
    if leg == "inductance":
        if "l_ab" in capture:
            return fit_saliency(capture, pole_pairs=bench.settings.plate.pole_pairs)
        if not len(capture.time):
            raise Refusal("there is no time column", "name it t [s] or map it: t=SOURCE", where=capture.source)
        return _inductance(capture)
    if leg == "flux":
        if "v_q" in capture and not _LINES & set(capture.columns):
            settled = bench.settled.get("resistance")
            r = settled.values["resistance"].value if settled else None
            # a running winding is warmer than at its reference by an unknown amount
            return fit_running(capture, pole_pairs=bench.settings.plate.pole_pairs, r=r, r_u=0.04 * (r or 0.0))
        return fit_flux(capture, pole_pairs=bench.settings.plate.pole_pairs, turns=bench.settings.flux.turns)
    if leg == "mechanics":
        return _mechanics(bench, capture)
    if leg == "pwm":
        return read_command(capture)
    if leg == "current_loop":
        return fit_step(capture, expected_step(bench, capture.notes))
    if leg == "commutation":
        return read_angle_sensor(bench, capture)
    raise Refusal(f"the leg {leg} takes no capture")


def _inductance(capture: Capture) -> Result:
    """Fit one R and one L; where that leaves too much unexplained, try saturating iron."""
    result = fit_inductance(capture)
    if not any(f.code == "model-does-not-fit" for f in result.findings):
        return result
    try:
        curve = fit_saturation(capture)
    except Refusal:
        return result
    better = float(np.std(curve.residual)) < 0.7 * float(np.std(result.residual))
    return curve if better else result


def torque_constant_of(bench: Bench) -> tuple[float, float, str] | None:
    """Return Kt [N·m per A peak], its relative standard uncertainty and where it is from; None where nothing tells it."""
    flux = best_source(bench, "flux_linkage")
    if flux is None:
        return None
    origin = {"settled": "settled flux", "plate, Kt": "the plate's Kt", "plate, Kv": "the plate's Kv"}.get(
        flux.name, flux.name
    )
    return kt_from_flux(flux.value, "peak", bench.settings.plate.pole_pairs), flux.u / flux.value, origin


def _mechanics(bench: Bench, capture: Capture) -> MechanicsResult:
    if "i_q" not in capture:
        if bench.settings.plate.inertia is None:
            raise Refusal(
                "the column i_q is missing, and from a coast alone the inertia cannot be determined",
                "capture i_q during the run-up, or enter the inertia",
                where=capture.source, code="channels",
            )  # fmt: skip
        return fit_mechanics(capture, inertia=bench.settings.plate.inertia)
    known = torque_constant_of(bench)
    if known is None:
        raise Refusal("the torque constant is missing", "settle the flux, or enter Kt or Kv on the plate")
    kt, relative, origin = known
    result = fit_mechanics(capture, kt=kt)
    wider = {name: e.widened(relative * abs(e.value)) if e.u else e for name, e in result.estimates.items()}
    method = f"{result.method}; Kt {show(kt, 'N·m/A', 4)} from {origin}"
    return replace(result, estimates=wider, method=method)


def command_values(found: CommandSignal) -> dict[str, Quantity]:
    """Return what a command capture tells as quantities."""
    return {
        "frequency": to_quantity(found.frequency),
        "duty": to_quantity(found.duty),
        "jitter": Quantity(value=found.jitter, unit=""),
    }


def add_evidence(bench: Bench, leg: Topic, evidence: Evidence) -> Bench:
    """Return the bench with evidence added; the same file read again takes its old place, another one is a repeat."""
    others = [e for e in bench.evidence.get(leg, ()) if (e.file, e.slot) != (evidence.file, evidence.slot)]
    others = others[-(_MOST - 1) :]
    line = LedgerEntry(when=evidence.when, kind="file", text=f"{Path(evidence.file).name}  {headline_of(evidence)}")
    return bench.model_copy(
        update={"evidence": {**bench.evidence, leg: (*others, evidence)}, "ledger": (*bench.ledger, line)}
    )


def drop_evidence(bench: Bench, leg: Topic, evidence: Evidence, when: str) -> Bench:
    """Return the bench without one capture and with a ledger line that says so."""
    kept = tuple(e for e in bench.evidence.get(leg, ()) if e != evidence)
    line = LedgerEntry(when=when, kind="file", text=f"{Path(evidence.file).name} removed from the bench")
    return bench.model_copy(update={"evidence": {**bench.evidence, leg: kept}, "ledger": (*bench.ledger, line)})


def headline_of(evidence: Evidence) -> str:
    """Return the evidence's main figure as a short text."""
    if evidence.slot == "step":
        found = evidence.estimates
        return f"step: L {show(found['inductance'].value, 'H')}, delay {show(found['delay'].value, 's')}"
    if evidence.slot == "command":
        return f"duty {100 * evidence.estimates['duty'].value:.2f} %"
    if evidence.slot == "align":
        return f"zero {show(evidence.estimates['zero_offset'].value, 'rad', 4)}"
    if evidence.slot == "poles":
        angle = evidence.estimates.get("pole_angle")
        return f"rotor at {show(angle.value, 'rad', 4)}" if angle else "pole search, not certain"
    if "counts_per_rev" in evidence.estimates:
        return f"{evidence.estimates['counts_per_rev'].value:.0f} counts a turn"
    if evidence.halls is not None:
        return f"{evidence.halls.spacing_deg}° halls, {len(evidence.halls.states)} sectors"
    if "ld" in evidence.estimates:
        ld, lq = evidence.estimates["ld"], evidence.estimates["lq"]
        return f"Ld {show(ld.value, 'H')}, Lq {show(lq.value, 'H')}"
    for name in ("inductance", "flux_linkage", "inertia", "resistance"):
        if name in evidence.estimates:
            quantity = evidence.estimates[name]
            return f"{name.split('_')[0]} {show(quantity.value, quantity.unit)}"
    return ""


def guess_leg(capture: Capture, here: str = "") -> Topic:
    """Tell from the channels which leg a dropped capture belongs to; raises Refusal if it fits none.

    ``here`` is the leg whose page is open: it comes first where the capture would do for it.
    """
    names = set(capture.columns)
    lines = names & _LINES
    if {"hall_1", "hall_2", "hall_3"} <= names and len(lines) >= 2:
        return "commutation"
    if {"enc_a", "enc_b"} <= names and not names & {"i_a", "i_q"}:
        return "commutation"
    if {"i_q_ref", "i_q"} <= names and ("speed" not in names or float(np.ptp(capture["speed"])) < _HELD):
        return "current_loop"
    if "command" in names:
        return "pwm"
    if "position" in names or "field_angle" in names:
        return "commutation"
    if "i_a" in names and "v_cmd" in names and "v_ab" not in names:
        return "resistance"
    if {"v_ab", "i_a"} <= names:
        return _stair_or_steps(capture, here)
    if lines and "i_a" not in names:
        return "flux"
    if {"angle", "l_ab"} <= names:
        return "inductance"
    if {"v_q", "i_q", "speed"} <= names and "i_q_ref" not in names:
        return "flux"
    if "speed" in names and not lines and "speed_ref" not in names:
        return "mechanics"
    raise Refusal(
        f"it is not clear which leg this capture is for (it holds {', '.join(sorted(names))})",
        "open the leg first and load it there", where=capture.source,
    )  # fmt: skip


def _stair_or_steps(capture: Capture, here: str) -> Topic:
    """Tell a staircase from pulses: its voltage rests on three or more different levels.

    The open page's purpose is known, so there fewer hints are enough: levels need not be far apart, and steps of several heights
    are steps.
    """
    if here == "inductance":
        try:
            fit_inductance(capture)
        except Refusal:
            pass
        else:
            return "inductance"
    try:
        voltage = np.sort(fit_resistance(capture).voltage)
    except Refusal:
        return "inductance"
    apart = (0.03 if here == "resistance" else 0.12) * np.ptp(voltage)
    return "resistance" if int(np.sum(np.diff(voltage) > apart)) >= 2 else "inductance"


def differs(first: Evidence, second: Evidence) -> bool:
    """Tell whether two evaluations say something different, rounding of the last digits aside."""
    if first.findings != second.findings or set(first.estimates) != set(second.estimates):
        return True
    pairs = [(first.estimates[k], second.estimates[k]) for k in first.estimates]
    return any(abs(a.value - b.value) > 1e-6 * abs(a.value) + 1e-3 * (a.u or 0.0) for a, b in pairs)


def findings_of(evidence: Evidence) -> list[Finding]:
    """Return the findings kept with evidence."""
    return [Finding(f.level, f.code, f.text) for f in evidence.findings]
