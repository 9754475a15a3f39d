"""Words whose bits have names: written in decimal, hexadecimal, binary or by the names, and read back as all of them."""

from __future__ import annotations

import re

from crisp_compass.drive.description import Entry
from crisp_compass.errors import Refusal

_HEX = re.compile(r"(?:0x|\$|#)([0-9a-f]+)|([0-9][0-9a-f]*)h", re.IGNORECASE)
_BINARY = re.compile(r"(?:0b|%)([01 _]+)|([01]{2,}[01 _]*)b", re.IGNORECASE)


def is_mask(entry: Entry) -> bool:
    """Tell whether a value is a word of named bits."""
    return bool(entry.bits) and entry.type != "float32" and entry.scale == 1.0


def names_of(entry: Entry, value: float) -> tuple[str, ...]:
    """Return the names of the bits that are set; a bit without a name by its number."""
    word, names = round(value) & _all(entry), entry.bits or {}
    return tuple(names.get(str(bit), f"bit {bit}") for bit in range(16 * entry.width) if word >> bit & 1)


def as_hex(entry: Entry, value: float) -> str:
    """Return the word in hexadecimal, as wide as its type."""
    return f"0x{round(value) & _all(entry):0{4 * entry.width}X}"


def in_all_forms(entry: Entry, value: float) -> str:
    """Return decimal, hexadecimal, binary in groups of four, and the names."""
    word, wide = round(value) & _all(entry), 16 * entry.width
    binary = f"{word:0{wide}b}"
    groups = " ".join(binary[k : k + 4] for k in range(0, wide, 4))
    return f"{round(value)} = {as_hex(entry, value)} = 0b {groups}: {', '.join(names_of(entry, value)) or 'no bit is set'}"


def parse_mask(entry: Entry, text: str) -> float:
    """Return the word that a person typed: ``5``, ``0x5``, ``5h``, ``0b101``, or names of bits with commas or plus; raises Refusal naming what it has."""
    typed = text.strip()
    if found := _HEX.fullmatch(typed):
        word = int(found[1] or found[2], 16)
    elif found := _BINARY.fullmatch(typed):
        word = int(re.sub(r"[ _]", "", found[1] or found[2]), 2)
    elif re.fullmatch(r"-?\d+", typed):
        word = int(typed)
    else:
        word = _by_names(entry, typed)
    if not -(1 << (16 * entry.width - 1)) <= word <= _all(entry):
        raise Refusal(f"{text.strip()[:30]} has more than the {16 * entry.width} bits of {entry.name}", "take fewer")
    if entry.type.startswith("int") and word >= 1 << (16 * entry.width - 1):
        word -= 1 << (16 * entry.width)  # the same bits in a signed word
    return float(word)


def _all(entry: Entry) -> int:
    return int((1 << (16 * entry.width)) - 1)


def _by_names(entry: Entry, typed: str) -> int:
    names = {name.lower(): int(bit) for bit, name in (entry.bits or {}).items()}
    if typed.lower() in ("none", "no bit"):
        return 0
    if typed.lower() == "all":
        return sum(1 << bit for bit in names.values())
    word = 0
    for part in re.split(r"[,;+|]", typed):
        name = part.strip().lower()
        bit = names.get(name)
        if bit is None and (number := re.fullmatch(r"bit (\d+)", name)):
            bit = int(number[1])
        if bit is None:
            raise Refusal(f"{entry.name} has no bit “{part.strip()[:30]}”", f"it has {', '.join(names)}; a number, 0x… or 0b… will do, too")
        word |= 1 << bit
    return word
