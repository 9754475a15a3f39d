"""Raw numbers as 16-bit registers and back. Modbus sends each register with its high byte first; which of two comes first is the drive's word order."""

from __future__ import annotations

import math
import struct
from collections.abc import Sequence

from crisp_compass.drive.description import RANGES, Entry

_CODES = {"int16": ">h", "uint16": ">H", "int32": ">i", "uint32": ">I", "float32": ">f"}


def raw_of(entry: Entry, value: float) -> float:
    """Return the raw number nearest to a physical value, within what its kind can hold; half away from zero."""
    raw = value / entry.scale
    if entry.type == "float32":
        return float(struct.unpack(">f", struct.pack(">f", max(min(raw, 3.4028234e38), -3.4028234e38)))[0])
    low, high = RANGES[entry.type]
    whole = math.floor(abs(raw) + 0.5)
    return float(max(min(whole if raw >= 0 else -whole, high), low))


def physical(entry: Entry, raw: float) -> float:
    """Return the physical value of a raw number; a scale that is a power of ten leaves no tail of digits behind."""
    value = raw * entry.scale
    return float(f"{value:.12g}") if entry.type != "float32" else float(f"{value:.9g}")


def to_bytes(entry: Entry, raw: float) -> bytes:
    """Return the bytes of a raw number, highest first, as CANopen turns them round and Modbus does not."""
    return struct.pack(_CODES[entry.type], raw if entry.type == "float32" else int(raw))


def to_registers(entry: Entry, raw: float, word_order: str) -> list[int]:
    """Return the registers of a raw number in the drive's word order."""
    data = to_bytes(entry, raw)
    words = [int.from_bytes(data[k : k + 2], "big") for k in range(0, len(data), 2)]
    return words[::-1] if word_order == "low-first" else words


def from_registers(entry: Entry, words: Sequence[int], word_order: str) -> float:
    """Return the raw number of registers; NaN and infinity pass as they are."""
    ordered = list(words)[::-1] if word_order == "low-first" else list(words)
    return from_bytes(entry, b"".join(int(w).to_bytes(2, "big") for w in ordered))


def from_bytes(entry: Entry, data: bytes) -> float:
    """Return the raw number of bytes, highest first."""
    return float(struct.unpack(_CODES[entry.type], data)[0])
