"""A drive's own auto-tune: run it, and judge what it leaves behind. A routine that says it has ended need not have run.

Bands in per unit of the rated figures, by which a slip of unit or base shows: resistance 0.5 to 10 %, reactance at rated speed 5 to 100 %, L/R 0.3 to 50 ms
(common practice).
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.course.known import AUTO_TUNE_U, UNITS, WAYPOINT_OF, Constant, side_by_side
from crisp_compass.drive.compare import factor_between
from crisp_compass.drive.conversation import factor_to_si
from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.hand import Hand
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.identify.agreement import heated
from crisp_compass.motor import pole_pairs_of, turns_field
from crisp_compass.quantities import show

#: What a drive reports while it works.
_RUNS, _BROKE_OFF = 1, 3
#: Bands: share of the rated impedance, of it as a reactance at rated speed, and L/R [s].
R_BAND, X_BAND, TAU_BAND = (0.005, 0.10), (0.05, 1.00), (0.3e-3, 50e-3)
#: Spread of repeats beyond which they do not agree, rise of R from run to run that is warmth, longest run [s].
_SPREAD, _WARMS, _LONGEST_S = 0.05, 0.02, 120.0
#: A constant's deviation, in standard uncertainties of both, that is no chance.
_TOO_FAR = 3.0

Verdict = Literal["ran", "did not run", "zero", "outside", "disagrees", "not tuned"]


@dataclass(frozen=True)
class TuneRun:
    """One run: the ``kind`` asked for, the constants [SI] before and after it, and the time it took, s."""

    kind: int
    before: Mapping[str, float]
    after: Mapping[str, float]
    took: float


@dataclass(frozen=True)
class Judged:
    """One constant after all runs: what the drive held first, what each run left, which value to believe, and the verdict."""

    constant: str
    unit: str
    before: float | None
    values: tuple[float, ...]
    believed: float | None
    per_unit: str
    beside: str
    verdict: Verdict


def constants_of(description: Description) -> dict[str, Entry]:
    """Return the parameters that hold a motor's constants, by the constants' names."""
    keys = {f"{WAYPOINT_OF[c]}.{c}": c for c in ("resistance", "ld", "lq", "flux_linkage")}
    return {keys[e.bench]: e for e in description.parameters if e.bench in keys and e.readable}


def kinds_of(description: Description) -> tuple[int, ...]:
    """Return the routines that a drive can be asked for: 1 at standstill, 2 with the shaft turning."""
    entry = description.role("commands", "auto_tune")
    if entry is None or description.role("telemetry", "tune_state") is None:
        return ()
    return tuple(range(1, 1 + int(entry.max if entry.max is not None else 1)))


def run_auto_tune(hand: Hand, kind: int) -> TuneRun:
    """Run one of the drive's routines and read what it leaves; raises Refusal where it breaks off."""
    constants = constants_of(hand.description)
    if kind not in kinds_of(hand.description) or not constants:
        raise Refusal("the drive has no such auto-tune", "its description names the command auto_tune, the telemetry tune_state and the constants it finds")
    told = hand.description.role("telemetry", "tune_state")
    assert told is not None
    before = _read(hand, constants)
    hand.ready()
    began = hand.clock()
    hand.command("auto_tune", float(kind))
    while True:
        hand.wait_armed(0.1)
        state = hand.now.get(told.name, 0.0)
        if state == _BROKE_OFF:
            raise Refusal("the auto-tune broke off", "look at the drive's faults, at the shaft and at the supply, then run it again")
        if state != _RUNS:
            break
        if hand.clock() - began > _LONGEST_S:
            raise Refusal("the auto-tune does not end", "look at what the drive reports")
    took = hand.clock() - began
    hand.stop()
    hand.settle_down(20.0)
    return TuneRun(kind, before, _read(hand, constants), took)


def _read(hand: Hand, constants: Mapping[str, Entry]) -> dict[str, float]:
    found = hand.line.read(list(constants.values()))
    return {c: found[e.name] * (factor_between(e, UNITS[c]) if e.unit else factor_to_si(e)) for c, e in constants.items() if e.name in found}


def rated_impedance(bench: Bench) -> tuple[float, float]:
    """Return rated phase voltage over rated current, both peak [Ω], and the electrical rated speed [rad/s]."""
    plate = bench.settings.plate
    line = plate.rated_voltage * math.sqrt(2) if plate.rated_voltage is not None and plate.windings == 3 else plate.rated_voltage or plate.v_bus
    volts = line / math.sqrt(3) if plate.windings == 3 else line
    pairs = float(pole_pairs_of(plate)) if turns_field(bench) else 1.0
    return volts / rated_peak(plate), pairs * (plate.rated_speed or plate.top_speed)


def judge(bench: Bench, runs: Sequence[TuneRun]) -> tuple[tuple[Judged, ...], tuple[Finding, ...]]:
    """Judge what runs of an auto-tune left, beside the bench's other sources; the findings say what to do."""
    rows, findings = [], list[Finding]()
    for constant in ("resistance", "ld", "lq", "flux_linkage"):
        asked = [r for r in runs if (r.kind == 2) == (constant == "flux_linkage")]
        known = [r for r in runs if constant in r.before]
        if known:
            rows.append(_judged(bench, constant, known[0].before[constant], [(r.before[constant], r.after[constant]) for r in asked if constant in r.after], findings=findings))
    idle = [name_of(bench, r.constant) for r in rows if r.verdict == "did not run"]
    if idle:
        listed = " and ".join([", ".join(idle[:-1]), idle[-1]]) if len(idle) > 1 else idle[0]
        text = f"After the auto-tune the drive holds exactly what it held before for {listed}: it did not run, whatever it reported. Free or hold the shaft as the routine needs, and run it again."
        findings.insert(0, Finding("stop", "auto-tune-did-not-run", text))
    findings += _band_of_tau(rows)
    return tuple(rows), tuple(findings)


def name_of(bench: Bench, constant: str) -> str:
    """Return what a constant is called of a bench's motor."""
    if constant == "flux_linkage" and not turns_field(bench):
        return "Ke"
    return {"ld": "Ld", "lq": "Lq"}.get(constant, constant.replace("_", " "))


def _judged(bench: Bench, constant: Constant, before: float, pairs: Sequence[tuple[float, float]], findings: list[Finding]) -> Judged:
    unit, name = UNITS[constant], name_of(bench, constant)
    values = tuple(after for _, after in pairs)
    changed = [after for was, after in pairs if not math.isclose(was, after, rel_tol=1e-9)]
    sources = [s for s in side_by_side(bench, constant).sources if s.kind != "drive"]
    best = min(sources, key=lambda s: s.u / s.value if s.u and s.value else 0.05, default=None)
    beside = f"{show(best.value, unit, 4)} {best.name}" if best is not None else ""
    if not values:
        return Judged(constant, unit, before, (), believed=None, per_unit="", beside=beside, verdict="not tuned")
    if values[-1] == 0:
        findings.append(Finding("stop", "auto-tune-zero", f"The drive's {name} is zero after its auto-tune: it found nothing. Look at the motor's leads and run it again."))
        return Judged(constant, unit, before, values, believed=None, per_unit="", beside=beside, verdict="zero")
    if not changed:
        return Judged(constant, unit, before, values, believed=None, per_unit="", beside=beside, verdict="did not run")
    believed = float(np.median(changed))
    per_unit, inside = _per_unit(bench, constant, believed)
    verdict: Verdict = "ran"
    if not inside:
        verdict = "outside"
        findings.append(Finding("caution", "outside-band", f"{name[:1].upper()}{name[1:]} {show(believed, unit)} is {per_unit} of the rated figures, which no usual motor has: a base, a unit or the plate is wrong."))
    elif best is not None and abs(believed - best.value) > _TOO_FAR * math.hypot(AUTO_TUNE_U * believed, best.u or 0.0):
        verdict = "disagrees"
        findings.append(Finding("caution", "auto-tune-disagrees", f"The drive says {name} {show(believed, unit)}, {best.name} says {show(best.value, unit)}: believe the one whose base and temperature are known."))
    findings += _repeats(constant, name, changed)
    return Judged(constant, unit, before, values, believed=believed, per_unit=per_unit, beside=beside, verdict=verdict)


def _repeats(constant: str, name: str, changed: Sequence[float]) -> list[Finding]:
    """Say what repeats differ by, and why that may be."""
    if len(changed) < 2:
        return [] if constant != "resistance" else [Finding("info", "run-it-twice", "One run says nothing of its scatter: run it again, at the same temperature.")]
    spread = (max(changed) - min(changed)) / float(np.median(changed))
    rises = constant == "resistance" and all(b > a for a, b in itertools.pairwise(changed)) and changed[-1] / changed[0] - 1 > _WARMS
    if rises:
        warmer = heated(changed[0], changed[-1], 20.0) - 20.0
        return [Finding("caution", "winding-warms", f"Resistance rises from run to run, by {100 * (changed[-1] / changed[0] - 1):.1f} %: a winding some {warmer:.0f} °C warmer. Believe the first run for a cold motor, and note the temperature.")]
    if spread > _SPREAD:
        return [Finding("caution", "repeats-differ", f"{name[:1].upper()}{name[1:]} differs by {100 * spread:.0f} % between {len(changed)} runs: the shaft moved, or the supply sagged. Believe the middle one, and find out why.")]
    return []


def _per_unit(bench: Bench, constant: str, value: float) -> tuple[str, bool]:
    impedance, speed = rated_impedance(bench)
    if constant == "resistance":
        share, band = value / impedance, R_BAND
    elif constant in ("ld", "lq"):
        share, band = speed * value / impedance, X_BAND
    else:
        share, band = speed * value / (impedance * rated_peak(bench.settings.plate)), (0.1, 2.0)
    return f"{100 * share:.2g} %", band[0] <= share <= band[1]


def _band_of_tau(rows: Sequence[Judged]) -> list[Finding]:
    found = {r.constant: r.believed for r in rows if r.believed}
    if "resistance" not in found or "lq" not in found:
        return []
    r, lq = found["resistance"], found["lq"]
    assert r is not None
    assert lq is not None
    if TAU_BAND[0] <= lq / r <= TAU_BAND[1]:
        return []
    return [Finding("caution", "time-constant", f"L/R is {show(lq / r, 's')}, outside {show(TAU_BAND[0], 's')} to {show(TAU_BAND[1], 's')}: one of the two is on another base.")]
