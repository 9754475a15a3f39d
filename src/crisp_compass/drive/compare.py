"""What a drive holds beside what a bench has settled."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value, stale_inputs
from crisp_compass.drive.description import Entry
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.quantities import UNITS, to_si


@dataclass(frozen=True)
class Row:
    """One value: settled and held in ``unit`` of the bench (SI), None where one is missing; ``differs`` by more than the drive's rounding."""

    name: str
    key: str
    settled: float | None
    held: float | None
    unit: str
    differs: bool


@dataclass(frozen=True)
class Compared:
    """All values, and what stands out."""

    rows: tuple[Row, ...]
    findings: tuple[Finding, ...]


def compare_with(bench: Bench, entries: Sequence[Entry], found: Mapping[str, float]) -> Compared:
    """Hold ``found`` (physical values by name) against the settled values that the entries name."""
    rows, findings = [], []
    for entry in entries:
        assert entry.bench is not None
        settled = settled_value(bench, entry.bench)
        held = found.get(entry.name)
        if settled is None:
            rows.append(Row(entry.name, entry.bench, None, held, unit=entry.unit, differs=False))
            findings.append(Finding("info", "not-settled", f"{entry.bench} is not settled on this bench."))
            continue
        factor = factor_between(entry, settled.unit)
        here = None if held is None or not math.isfinite(held) else held * factor
        step = abs(entry.scale * factor) if entry.type != "float32" else 0.0
        differs = here is not None and abs(here - settled.value) > 0.51 * step + 2e-6 * abs(settled.value)
        rows.append(Row(entry.name, entry.bench, settled.value, here, unit=settled.unit, differs=differs))
        topic = entry.bench.partition(".")[0]
        if differs:
            text = f"{entry.name} is {here:.6g} {settled.unit} in the drive and {settled.value:.6g} {settled.unit} on the bench."
            findings.append(Finding("caution", "value-differs", text))
        if here is None:
            findings.append(Finding("caution", "read-refused", f"The drive does not say {entry.name}."))
        if stale_inputs(bench, topic):
            findings.append(Finding("caution", "stale", f"{entry.bench} rests on a value that is another now: settle it again first."))
    return Compared(tuple(rows), tuple(dict.fromkeys(findings)))


def bench_values(bench: Bench, entries: Sequence[Entry]) -> list[tuple[Entry, float]]:
    """Return the entries that name a settled value, each with that value in the entry's unit; raises Refusal where the units do not fit."""
    found = []
    for entry in entries:
        settled = settled_value(bench, entry.bench) if entry.bench is not None else None
        if settled is not None:
            found.append((entry, settled.value / factor_between(entry, settled.unit)))
    return found


@dataclass(frozen=True)
class HandedOver:
    """What of a bench goes into a drive: values in the drive's units that it holds otherwise, how many it holds already, and names that are ``left`` because their leg is outdated."""

    values: tuple[tuple[Entry, float], ...]
    agree: int
    left: tuple[str, ...]


def handed_over(bench: Bench, entries: Sequence[Entry], held: Mapping[str, float]) -> HandedOver:
    """Return what is to be written so that a drive holds what the bench has settled; raises Refusal where units do not fit."""
    wanted = [(e, v) for e, v in bench_values(bench, entries) if e.writable]
    stale = [e.name for e, _ in wanted if e.bench is not None and stale_inputs(bench, e.bench.partition(".")[0])]
    fresh = [(e, v) for e, v in wanted if e.name not in stale]
    differ = {r.name for r in compare_with(bench, [e for e, _ in fresh], held).rows if r.differs or r.held is None}
    return HandedOver(tuple((e, v) for e, v in fresh if e.name in differ), len(fresh) - len(differ), tuple(stale))


def factor_between(entry: Entry, unit: str) -> float:
    """Return what a physical value of the drive is multiplied with to be in the bench's unit."""
    if entry.unit == unit:
        return 1.0
    try:
        same = UNITS[entry.unit].dimension == UNITS[unit].dimension
    except KeyError:
        same = False
    if not same:
        raise Refusal(f"its unit is {entry.unit or 'none'}, and {entry.bench} is in {unit or 'plain numbers'}", "mend the description", where=entry.name)
    return to_si(1.0, entry.unit) / to_si(1.0, unit)
