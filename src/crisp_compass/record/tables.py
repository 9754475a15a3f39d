"""Tables of the record beside settled values and captures: checks before power, wiring, sensor cable, interference."""

from __future__ import annotations

from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.preparation.checks import judge_all
from crisp_compass.preparation.interference import judge_spikes
from crisp_compass.preparation.sensor_cable import identify_cable
from crisp_compass.preparation.wiring import COLOURS, consequence
from crisp_compass.quantities import show


@dataclass(frozen=True)
class Table:
    """A table as printed; ``swatches`` holds a colour for each row's first cell where there is one."""

    title: str
    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    note: str = ""
    swatches: tuple[str, ...] = ()


def tables_of(bench: Bench) -> list[Table]:
    """Return what the bench holds; a table without content is left out."""
    found = (_checks(bench), _wiring(bench), _cable(bench), _interference(bench))
    return [t for t in found if t is not None]


def _checks(bench: Bench) -> Table | None:
    judged = judge_all(bench)
    if all(j.verdict == "open" for j in judged):
        return None
    rows = []
    for j in judged:
        reason = "not done" if j.verdict == "open" else j.reason
        if j.record and j.record.values:
            units = {f.name: f.unit for f in j.check.fields}
            reason += f" ({', '.join(show(v, units[k]) for k, v in j.record.values.items())})"
        rows.append((j.check.title, j.verdict, reason, j.record.when[:16].replace("T", " ") if j.record else ""))
    return Table("Checks before power", ("check", "verdict", "reason and readings", "when"), tuple(rows))


def _wiring(bench: Bench) -> Table | None:
    if not bench.leads:
        return None
    rows = tuple(
        (lead.name, COLOURS[lead.colour][0] if lead.colour else "–", lead.pin or "–", lead.terminal or "–")
        for lead in bench.leads
    )
    swatches = tuple(COLOURS[lead.colour][1] if lead.colour else "" for lead in bench.leads)
    return Table("Wiring", ("lead", "colour", "pin", "terminal"), rows, " ".join(consequence(bench).texts), swatches)


def _cable(bench: Bench) -> Table | None:
    if not bench.cable:
        return None
    answer = identify_cable(bench.cable)
    rows = tuple((w.name, w.role or " or ".join(w.roles), "; ".join(w.reasons)) for w in answer.wires)
    note = "" if answer.complete else f"Not finished. {answer.next_reading}"
    return Table("Sensor cable", ("wire", "it is", "because"), rows, note)


def _interference(bench: Bench) -> Table | None:
    found = judge_spikes(bench)
    if found.before is None:
        return None
    rows = [("before", show(found.before.peak, "V"), "", _load(found.before.loaded))]
    for e in found.effects:
        change = f"{'−' if e.reduction >= 0 else '+'}{abs(100 * e.reduction):.0f} %, {e.decibel:.1f} dB".replace(
            "-", "−"
        )
        rows.append(
            (e.remedy, show(e.peak, "V"), change if e.comparable else f"{change} (not comparable)", _load(e.loaded))
        )
    return Table("Interference", ("changed", "peak", "against before", "load"), tuple(rows))


def _load(loaded: bool) -> str:
    return "connected" if loaded else "not connected"
