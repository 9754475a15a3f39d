"""Every value there is of one constant, side by side: plate, meter, captures, the drive's own auto-tune, settled."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import family_gap, settled_value
from crisp_compass.course.kind import AXIS
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.identify.agreement import Agreement, Source, auto_tune_did_not_run, combine_kinds, heated
from crisp_compass.identify.meter import MeterPhases, of_three_pairs
from crisp_compass.identify.plate import likeliest_slip
from crisp_compass.motor import family_of, three_phases
from crisp_compass.preparation.checks import solve_bench_pairs
from crisp_compass.quantities import show

Constant = Literal["resistance", "ld", "lq", "flux_linkage", "inertia"]
CONSTANTS: tuple[Constant, ...] = ("resistance", "ld", "lq", "flux_linkage", "inertia")
#: Data sheets state ±10 % on R and L, ±10 % on constants (common practice); as standard uncertainty of an even spread.
PLATE_U = 0.10 / math.sqrt(3)
#: A hand-held LCR meter at its one frequency (common practice).
LCR_U = 0.03
#: A drive's own auto-tune repeats within a few per cent (common practice).
AUTO_TUNE_U = 0.03
UNITS: dict[str, str] = {"resistance": "Ω", "ld": "H", "lq": "H", "flux_linkage": "Wb", "inertia": "kg·m²"}
WAYPOINT_OF: dict[str, str] = {
    "resistance": "resistance",
    "ld": "inductance",
    "lq": "inductance",
    "flux_linkage": "flux",
    "inertia": "mechanics",
}


@dataclass(frozen=True)
class SideBySide:
    """All sources of one constant, the test over the independent ones, and findings."""

    constant: Constant
    unit: str
    sources: tuple[Source, ...]
    agreement: Agreement | None
    findings: tuple[Finding, ...]


def meter_phases(bench: Bench) -> MeterPhases | None:
    """Solve the meter's pairs with probes and cable; None without a pair or where they are refused."""
    try:
        return solve_bench_pairs(bench, cable=bench.settings.resistance.cable)
    except Refusal:
        return None


def side_by_side(bench: Bench, constant: Constant) -> SideBySide:
    """Collect and test every value of a constant."""
    unit, topic = UNITS[constant], WAYPOINT_OF[constant]
    sources = [*_from_plate(bench, constant), *_from_meter(bench, constant), *captured_values(bench, topic, constant)]
    auto_tune, findings = _from_drive(bench, constant)
    sources += auto_tune
    agreement = combine_kinds(sources, unit)
    findings = [*findings, *(agreement.findings if agreement else ()), *cross_checks(bench, constant), *far_from_settled(bench, constant)]
    settled = settled_value(bench, f"{topic}.{constant}")
    shown = list(sources)
    if settled is not None and topic in bench.settled:
        shown.append(Source("settled", "settled", settled.value, settled.u or 0.0))
    return SideBySide(constant, unit, tuple(shown), agreement, findings=tuple(findings))


def best_source(bench: Bench, constant: Constant) -> Source | None:
    """Return the one answer to “which value is it?”: settled, else the source with the smallest uncertainty, else None; SI."""
    if family_gap(bench, WAYPOINT_OF[constant]):  # settled once for another kind of motor
        return None
    settled = settled_value(bench, f"{WAYPOINT_OF[constant]}.{constant}")
    if settled is not None:
        return Source("settled", "settled", settled.value, settled.u or 0.0)
    sources = side_by_side(bench, constant).sources
    return min(sources, key=lambda s: s.u / s.value if s.u else 0.05) if sources else None


def best_value(bench: Bench, constant: Constant) -> float | None:
    """Return the value of ``best_source``, SI."""
    found = best_source(bench, constant)
    return None if found is None else found.value


def _from_plate(bench: Bench, constant: Constant) -> list[Source]:
    settled = settled_value(bench, "resistance.resistance")
    try:
        stated = family_of(bench).stated(bench.settings.plate, constant, settled.value if settled else None)
    except Refusal:  # a plate that contradicts itself states nothing; its page says so
        return []
    return [Source(name, "plate", value, PLATE_U * value) for name, value in stated]


def _from_meter(bench: Bench, constant: Constant) -> list[Source]:
    if constant in ("ld", "lq"):
        return from_lcr(bench, constant)
    if constant != "resistance":
        return []
    solved = meter_phases(bench)
    return [Source("meter", "meter", solved.mean.value, solved.mean.u)] if solved else []


def from_lcr(bench: Bench, constant: Constant) -> list[Source]:
    """Return an inductance of the axis from three pairs read with an LCR meter; empty where one is missing."""
    typed = bench.settings.inductance
    if constant not in ("ld", "lq") or not three_phases(bench):
        return []
    if typed.uv is None or typed.vw is None or typed.wu is None:
        return []
    ld, lq = of_three_pairs(typed.uv, typed.vw, typed.wu)
    value = ld if constant == "ld" else lq
    return [Source("LCR meter, three pairs", "meter", value, LCR_U * (ld + lq) / 2)] if ld > 0 else []


def _estimate_of(evidence: Evidence, constant: Constant) -> Quantity | None:
    if constant in evidence.estimates:
        return evidence.estimates[constant]
    if constant in ("ld", "lq") and "inductance" in evidence.estimates:
        axis = AXIS.get(evidence.kind, constant[1])
        return evidence.estimates["inductance"] if axis == constant[1] else None
    return None


def captured_values(bench: Bench, topic: str, constant: Constant) -> list[Source]:
    """Return what every capture of a waypoint says of a constant, SI."""
    sources = []
    for evidence in bench.evidence.get(topic, ()):
        quantity = _estimate_of(evidence, constant)
        if quantity is not None and quantity.u:
            sources.append(
                Source(Path(evidence.file).stem, "capture", quantity.value, quantity.u, u_repeat=quantity.u_repeat or 0.0)
            )
    return sources


def _from_drive(bench: Bench, constant: Constant) -> tuple[list[Source], list[Finding]]:
    name = {"resistance": "resistance", "ld": "inductance", "lq": "inductance", "flux_linkage": "flux"}.get(constant)
    if name is None:
        return [], []
    settings = bench.settings.auto_tune
    before, after = getattr(settings, f"{name}_before"), getattr(settings, f"{name}_after")
    unit = UNITS[constant]
    stopped = auto_tune_did_not_run(before, after, name, unit)
    if after is None or stopped:
        return [], stopped
    return [Source("drive's auto-tune", "drive", after, AUTO_TUNE_U * after)], []


def far_from_settled(bench: Bench, constant: Constant) -> list[Finding]:
    """Say where the newest capture of a constant lies far from what is settled: by more than both bars and a tenth."""
    topic = WAYPOINT_OF[constant]
    settled, captures = settled_value(bench, f"{topic}.{constant}"), captured_values(bench, topic, constant)
    if settled is None or topic not in bench.settled or not captures:
        return []
    newest = captures[-1]
    off = abs(newest.value - settled.value)
    if off <= max(3 * math.hypot(newest.u, settled.u or 0.0), 0.1 * abs(settled.value)):
        return []
    unit = UNITS[constant]
    text = f"{newest.name} says {show(newest.value, unit)}, settled is {show(settled.value, unit)}: another motor, base or scale, or the value has changed. Settle anew, or remove the capture."
    return [Finding("caution", "far-from-settled", text)]


def cross_checks(bench: Bench, constant: Constant) -> list[Finding]:
    """Compare constants that must fit each other: R of two captures as a temperature, L/R as a time constant."""
    if constant != "resistance":
        return []
    r = settled_value(bench, "resistance.resistance")
    if r is None:
        captures = captured_values(bench, "resistance", "resistance")
        if not captures:
            return []
        value = captures[-1].value
    else:
        value = r.value
    findings: list[Finding] = []
    for evidence in bench.evidence.get("inductance", ()):
        other = evidence.estimates.get("resistance")
        if other is None or not other.u or other.u > 0.03 * other.value:
            continue
        ratio = other.value / value
        if abs(ratio - 1) < max(3 * other.u / other.value, 0.03):
            continue
        tau = evidence.estimates["inductance"].value / other.value if "inductance" in evidence.estimates else math.nan
        cold = bench.settings.resistance.temperature if bench.settings.resistance.temperature is not None else 20.0
        hot = heated(value, other.value, cold)
        slip = likeliest_slip(ratio, 0.03, "Ω")
        why = f" That is about {slip}." if slip else ""
        if not slip and -10 < hot < 180:
            why = f" If both are right the winding was at {hot:.0f} °C then and {cold:.0f} °C here: settle hot and cold apart."
        text = f"{Path(evidence.file).name} shows a time constant of {show(tau, 's')}, so R {show(other.value, 'Ω')}; here R is {show(value, 'Ω')}, a factor of {ratio:.3g}.{why}"
        findings.append(Finding("caution", "time-constant-differs", text))
    return findings
