"""How much of a line the looks at a drive take, and how often they may come.

Bytes on a serial line take start, parity and stop bits and a silence of 3.5 characters before each frame (Modbus serial line V1.02, 2.5.1); a frame of a CAN bus with eight
bytes is 111 bits and up to 24 stuffed ones (ISO 11898-1, base format).
"""

from __future__ import annotations

from collections.abc import Sequence

from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.link import blocks

#: Share of the line that looks may take: the rest is for writing, and for whatever else stands on it.
MOST = 0.8
_REQUEST, _ANSWER, _SILENCE = 8, 5, 3.5
_CAN_BITS, _CAN_RATE = 135, 500_000
_SERIAL_RATE = 115_200


def look_s(description: Description, entries: Sequence[Entry], *, serial: bool) -> float:
    """Return the time [s] that the line is taken by one look at ``entries``; 0 for a network, whose share nobody can tell from here."""
    if description.over_can:
        return 2 * len(entries) * _CAN_BITS / (description.baud or _CAN_RATE)
    if not serial:
        return 0.0
    bits = 9 + (description.parity != "N") + description.stop_bits
    characters = sum(_REQUEST + _ANSWER + 2 * sum(e.width for e in block) + 2 * _SILENCE for block in blocks(entries))
    return characters * bits / (description.baud or _SERIAL_RATE)


def portions(description: Description, entries: Sequence[Entry], *, serial: bool, most_s: float) -> list[list[Entry]]:
    """Return entries in portions of which one look takes at most ``most_s``, or that are one entry: between them an armed drive hears of somebody."""
    found: list[list[Entry]] = []
    whole = list(blocks(entries)) if not description.over_can else [[e] for e in entries]
    while whole:
        block = whole.pop(0)
        if len(block) > 1 and look_s(description, block, serial=serial) > most_s:
            half = len(block) // 2
            whole[:0] = [block[:half], block[half:]]
        elif found and look_s(description, [*found[-1], *block], serial=serial) <= most_s:
            found[-1] += block
        else:
            found.append(block)
    return found


def period_s(look: float, wanted: float) -> float:
    """Return the time [s] between two looks: what is ``wanted``, or longer where they would take more than their share."""
    return max(wanted, look / MOST)
