"""Telemetry as a capture."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from crisp_compass.capture.signals import SIGNALS
from crisp_compass.drive.description import Description, Entry
from crisp_compass.errors import Refusal
from crisp_compass.quantities import UNITS, to_si
from crisp_compass.safe_text import line


def telemetry_of(description: Description, names: str) -> list[Entry]:
    """Return the telemetry that is named, by its own names or by those of its signals; raises Refusal for one that is not there."""
    wanted = [n.strip() for n in names.split(",") if n.strip()]
    if not wanted:
        raise Refusal("no signal is named", "name some, with commas", where="--signals")
    found = []
    for name in wanted:
        entry = next((e for e in description.telemetry if name in (e.name, e.signal)), None)
        if entry is None:
            there = ", ".join(e.signal or e.name for e in description.telemetry)
            raise Refusal(f"the description has no telemetry “{name[:40]}”", f"it has {there or 'none'}", where="--signals")
        if entry in found:
            raise Refusal(f"“{name[:40]}” is named twice", where="--signals")
        found.append(entry)
    return found


def as_capture(description: Description, entries: Sequence[Entry], times: Sequence[float], rows: Sequence[Mapping[str, float]]) -> str:
    """Return times [s] and values as the text of a capture; signals of the format are in their own units."""
    heads, factors = ["t [s]"], []
    for entry in entries:
        name, unit, factor = entry.signal or entry.name, entry.unit, 1.0
        own = SIGNALS.get(name)
        if own is not None and own not in ("logic", unit):
            try:
                same = UNITS[unit].dimension == UNITS[own].dimension
            except KeyError:
                same = False
            if not same:
                raise Refusal(f"its unit is {unit or 'none'}, and {name} is in {own}", "mend the description", where=entry.name)
            factor, unit = to_si(1.0, unit) / to_si(1.0, own), own
        heads.append(f"{name} [{unit}]" if unit and own != "logic" else name)
        factors.append(factor)
    notes = [f"# recorded from: {line(description.name) or 'a drive'}"]
    body = []
    for t, values in zip(times, rows, strict=True):
        missing = next((e.name for e in entries if e.name not in values), None)
        if missing is not None:
            raise Refusal("the drive does not let it be read", "leave it out of --signals", where=missing)
        body.append(",".join([f"{t:.6f}", *(f"{values[e.name] * f:.9g}" for e, f in zip(entries, factors, strict=True))]))
    return "\n".join([*notes, ",".join(heads), *body, ""])
