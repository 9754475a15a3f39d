"""A description as rows of text that a person edits, and back; the words are those of a table of registers (importing)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

from crisp_compass.drive.description import Description, Entry, first_fault
from crisp_compass.drive.importing import BAR, LISTS, entry_of_row
from crisp_compass.drive.link import open_link
from crisp_compass.errors import Refusal

#: Columns by key: what a person reads above them, and what may stand there.
COLUMNS: dict[str, tuple[str, str]] = {
    "list": ("List", f"one of {', '.join(LISTS)}"), "name": ("Name", "without blanks"), "place": ("Place", "first register, as 16 or 0x10; for CANopen index:subindex, as 0x2000:1"),
    "table": ("Table", "holding or input; empty: as its list has it"), "type": ("Type", "int16, uint16, int32, uint32 or float32"), "scale": ("Scale", "physical value of one raw number"), "unit": ("Unit", "as A, V, rpm, rad/s, Ω"),
    "access": ("Access", "r, w or rw"), "min": ("Least", "smallest physical value"), "max": ("Most", "largest physical value"), "factory": ("Factory", "what its maker set"),
    "restart": ("Restart", "yes where a written value counts after a restart only"), "bench": ("On the bench", "settled value it holds, as resistance.resistance"),
    "signal": ("Signal", "of the capture format: speed, i_q, v_bus, angle"), "role": ("Role", "arm, speed, stop, heartbeat, acknowledge of commands; armed, speed of telemetry"),
    "bits": ("Bits", "number:name with | between, as 0:over-current|2:stall; a | within a name is written \\|"), "masks": ("Masks", "name of the fault word whose faults it takes out"), "limit": ("Limit", "of what is measured: the parameter that limits its size"), "group": ("Group", "where it belongs"),
    "text": ("What it is", "for people"),
}  # fmt: skip


@dataclass(frozen=True)
class Head:
    """How the drive is spoken to, as typed."""

    name: str
    protocol: str
    unit_id: str
    baud: str = ""
    parity: str = "N"
    stop_bits: str = "1"
    word_order: str = "high-first"
    watchdog: str = ""
    stop: str = ""


def head_of(description: Description) -> Head:
    """Return how a described drive is spoken to."""
    dog = description.watchdog
    return Head(
        description.name, description.protocol, str(description.unit_id), str(description.baud or ""), parity=description.parity, stop_bits=str(description.stop_bits), word_order=description.word_order,
        watchdog=f"{dog.seconds:g}" if dog else "", stop=f"{dog.stop_s:g}" if dog else "",
    )  # fmt: skip


def rows_of(description: Description) -> list[dict[str, str]]:
    """Return every entry as texts by column."""
    return [_cells(lot, entry) for lot in LISTS for entry in getattr(description, lot)]


def _cells(lot: str, entry: Entry) -> dict[str, str]:
    place = str(entry.address) if entry.address is not None else f"0x{entry.index:04X}:{entry.subindex or 0}" if entry.index is not None else ""
    numbers = {k: _exact(v) for k in ("min", "max", "factory") if (v := getattr(entry, k)) is not None}
    words = {k: getattr(entry, k) or "" for k in ("name", "type", "unit", "access", "bench", "signal", "role", "masks", "limit", "group", "text", "table")}
    bits = "|".join(f"{bit}:{name.replace('|', BAR)}" for bit, name in (entry.bits or {}).items())
    return {
        **dict.fromkeys(COLUMNS, ""), "list": lot, "place": place, "scale": "" if entry.scale == 1.0 else _exact(entry.scale), "restart": "yes" if entry.restart else "", "bits": bits,
        **numbers, **words,
    }  # fmt: skip


def _exact(value: float) -> str:
    """Return the shortest text that is read back as the very number."""
    short = f"{value:g}"
    return short if float(short) == value else repr(value)


def built(head: Head, rows: Sequence[Mapping[str, str]], base: Description | None = None) -> Description:
    """Return the description that rows make; what they do not tell (a capture memory, a stream) stays that of ``base``. Raises Refusal naming row or field."""
    lists: dict[str, list[dict[str, Any]]] = {k: [] for k in LISTS}
    over_can = "canopen" in head.protocol.lower()
    for number, row in enumerate(rows, 1):
        cells = {k: v.strip() for k, v in row.items()}
        place = cells.pop("place", "")
        if over_can:
            cells["index"], _, cells["subindex"] = place.partition(":")
        else:
            cells["address"] = place
        lot, entry = entry_of_row(cells, number)
        try:
            Entry.model_validate(entry)
        except ValidationError as error:
            raise Refusal(f"row {number}, {cells.get('name') or 'without a name'}: {first_fault(error)}", "mend it there") from None
        lists[lot].append(entry)
    data: dict[str, Any] = {"name": head.name, "protocol": head.protocol, "parity": head.parity, "word_order": head.word_order, **lists}
    for key, typed in (("unit_id", head.unit_id), ("baud", head.baud), ("stop_bits", head.stop_bits)):
        if typed.strip():
            data[key] = _number(key, typed, whole=True)
    if head.watchdog.strip():
        data["watchdog"] = {"seconds": _number("watchdog", head.watchdog), "stop_s": _number("time to stand", head.stop or "1")}
    if base is not None:
        data |= {k: v for k in ("scope", "live", "stream", "period_s") if (v := getattr(base, k)) is not None}
    try:
        return Description.model_validate(data)
    except ValidationError as error:
        raise Refusal(first_fault(error), "mend it there") from None


def _number(what: str, typed: str, *, whole: bool = False) -> float | int:
    try:
        return int(typed) if whole else float(typed.replace(",", "."))
    except ValueError:
        raise Refusal(f"{what.replace('_', ' ')}: “{typed[:30]}” is no number", "type plain figures") from None


def next_place(rows: Sequence[Mapping[str, str]], lot: str) -> str:
    """Return the first register behind the last of a list, where a further entry is likeliest to lie; empty where nobody can tell."""
    ends = []
    for row in rows:
        with_place = row.get("list") == lot and row.get("place", "").strip().isdigit()
        if with_place:
            ends.append(int(row["place"]) + (1 if row.get("type", "").endswith("16") else 2))
    return str(max(ends)) if ends else ""


def read_once(link: str, description: Description, names: Sequence[str]) -> dict[str, float | None]:
    """Open a link, read entries by name, hang up; None where the drive does not let one be read. Raises Refusal where nothing answers."""
    with open_link(link, description) as line:
        wanted = [e for e in description.readable() if e.name in names]
        found = line.read(wanted)
    return {e.name: found.get(e.name) for e in wanted}
