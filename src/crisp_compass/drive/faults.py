"""The faults of a drive as its description names them: which stand, and what is usually to be looked at."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from crisp_compass.drive.description import Description
from crisp_compass.drive.masks import as_hex

#: Cause and what to look at, for faults by the names that the simulated drive gives them; another drive's own text stands for its own.
_KNOWN = {
    "over-current": ("the current passed the trip level", "a short between leads or to the frame, gains too high, the trip level below what the start takes"),
    "under-voltage": ("the bus fell below its minimum", "the supply's current limit, thin or long leads, the minimum set too high"),
    "over-voltage": ("the bus rose above its maximum", "braking into a supply that cannot take it back: a slower ramp down, or a brake resistor"),
    "over-speed": ("the speed passed its limit", "a load that drives, an overshoot, the limit's unit"),
    "overload": ("more than the continuous current flowed for too long", "a shaft that binds, too much load, the continuous current as peak or rms"),
    "stall": ("full current at standstill", "a locked shaft, swapped phases, the encoder's zero or the halls' table"),
    "angle lost": ("the estimated angle was not valid for too long", "resistance and flux as settled, a load step, a speed below the hand-over"),
    "no start": ("the start ended without a valid estimate", "the start's current and acceleration, the load at rest, swapped phases"),
    "pole not told": ("the two poles could not be told apart", "a larger current along the axis, or a start by alignment"),
}  # fmt: skip


@dataclass(frozen=True)
class Fault:
    """One fault that a drive can have: its ``name``, the description's own ``text``, whether it stands, its cause and what to look at (empty where nobody says).

    ``masked`` is the mask that takes it out, as ``name = 0x0004``; empty where the drive watches for it.
    """

    name: str
    text: str
    stands: bool
    cause: str
    look: str
    masked: str = ""


def history_of(description: Description, now: Mapping[str, float]) -> str:
    """Return what a drive remembers of its faults, in words: how many since it was switched on, the last one and the one before it; empty where it tells none."""
    count = description.role("telemetry", "faults_seen")
    told = []
    for role, before in (("last_fault", "the last"), ("fault_before", "before it")):
        entry = description.role("telemetry", role)
        word = round(now.get(entry.name, 0.0) / entry.scale) if entry is not None else 0
        names = [name for bit, name in (entry.bits or {}).items() if word >> int(bit) & 1] if entry is not None else []
        if names:
            told.append(f"{before} {', '.join(names)}")
    if count is None or count.name not in now:
        return ""
    number = round(now[count.name])
    return f"the drive remembers {number or 'none'} since it was switched on{': ' if told else ''}{', '.join(told)}"


def faults_of(description: Description, now: Mapping[str, float], held: Mapping[str, float] | None = None) -> list[Fault]:
    """Return every fault that the description names a bit for, and each word without bits that is not zero; ``held`` parameters tell which are masked."""
    found = []
    for entry in description.faults:
        mask = next((p for p in description.parameters if p.masks == entry.name and p.name in (held or {})), None)
        out = round((held or {})[mask.name]) if mask is not None else 0
        word = round(now.get(entry.name, 0.0) / entry.scale)
        for bit, name in (entry.bits or {}).items():
            cause, look = _KNOWN.get(name, ("", ""))
            masked = f"{mask.name} = {as_hex(mask, out)}" if mask is not None and out >> int(bit) & 1 else ""
            found.append(Fault(name, entry.text, bool(word >> int(bit) & 1), cause, look=look, masked=masked))
        unnamed = word & ~sum(1 << int(bit) for bit in entry.bits or {})
        if unnamed:
            found.append(Fault(f"{entry.name} 0x{unnamed:X}", entry.text, True, "", look="what its maker says of these bits"))
    return found
