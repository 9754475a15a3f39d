"""Typed readings: ``ruv 0.84``, ``lead 0.05``, ``temp 24``, ``note blue lead is W``."""

from __future__ import annotations

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.records import LedgerEntry
from crisp_compass.errors import Refusal
from crisp_compass.quantities import parse, show

#: word → (unit, what it is)
READINGS: dict[str, tuple[str, str]] = {
    "ruv": ("Ω", "pair U–V, meter"),
    "rvw": ("Ω", "pair V–W, meter"),
    "rwu": ("Ω", "pair W–U, meter"),
    "lead": ("Ω", "probes together"),
    "temp": ("degC", "winding"),
    "vbus": ("V", "supply, meter"),
}


#: Typed readings that belong to a check before power: word → check and reading.
TYPED = {"lead": ("probe_zero", "lead"), "ruv": ("pairs", "uv"), "rvw": ("pairs", "vw"), "rwu": ("pairs", "wu")}


def parse_reading(text: str, when: str) -> LedgerEntry:
    """Turn a typed line into a ledger entry; raises Refusal if it is not understood."""
    word, _, rest = text.strip().partition(" ")
    kind = word.lower().rstrip(":")
    if kind == "note":
        if not rest.strip():
            raise Refusal("the note is empty", "type: note blue lead is W")
        return LedgerEntry(when=when, kind="note", text=rest.strip())
    if kind not in READINGS:
        raise Refusal(f"“{word}” is no reading known here", f"begin with {', '.join(READINGS)} or note")
    unit, meaning = READINGS[kind]
    if not rest.strip():
        raise Refusal(f"the value of {kind} is missing", f"type: {kind} 0.84")
    value = parse(rest, unit)
    if unit == "Ω" and value < 0:
        raise Refusal("a resistance cannot be negative", f"type: {kind} 0.84")
    return LedgerEntry(when=when, kind=kind, text=meaning, value=Quantity(value=value, unit=unit))


def entry_text(entry: LedgerEntry) -> str:
    """Return the ledger line as shown, value first."""
    return f"{show(entry.value.value, entry.value.unit)}  {entry.text}" if entry.value else entry.text
