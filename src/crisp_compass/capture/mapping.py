"""Mapping instrument channels to signal names: ``i_a=-CH2*10``."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from crisp_compass.capture.signals import SIGNALS, TIME_NAMES
from crisp_compass.errors import Refusal
from crisp_compass.files import shortened
from crisp_compass.quantities import UNITS, find_unit

_MAPPING = re.compile(
    r"^\s*(\w+)\s*=\s*(-?)\s*(.+?)\s*(?:\*\s*([-+]?[\d.,]+(?:[eE][-+]?\d+)?)\s*(?:@\s*([-+]?[\d.,]+(?:[eE][-+]?\d+)?)\s*)?)?$"
)


@dataclass(frozen=True)
class ColumnMapping:
    """One ``NAME=[-]SOURCE[*FACTOR[@OFFSET]]``; ``factor`` carries the sign, ``offset`` is in the channel's own unit and is
    subtracted before scaling."""

    name: str
    source: str
    factor: float
    offset: float = 0.0

    @classmethod
    def parse(cls, text: str) -> ColumnMapping:
        """Read the text form; raises Refusal with the option named."""
        match = _MAPPING.match(text)
        if match is None:
            raise Refusal(
                f"“{text}” is no column mapping",
                "write NAME=SOURCE, NAME=-SOURCE or NAME=SOURCE*FACTOR",
                where="--column",
            )
        name, minus, source, factor_text, offset_text = match.groups()
        if name not in SIGNALS and name != "t":
            raise Refusal(f"“{name}” is no signal name", f"use one of t, {', '.join(SIGNALS)}", where="--column")
        try:
            factor = float(factor_text.replace(",", ".")) if factor_text else 1.0
        except ValueError:
            raise Refusal(f"“{factor_text}” in “{text}” is not a number", where="--column") from None
        if factor == 0 or not abs(factor) < 1e12:
            raise Refusal(f"the factor {factor_text} in “{text}” cannot be meant", where="--column")
        try:
            offset = float(offset_text.replace(",", ".")) if offset_text else 0.0
        except ValueError:
            raise Refusal(f"“{offset_text}” in “{text}” is not a number", where="--column") from None
        if not abs(offset) < 1e12:
            raise Refusal(f"the offset {offset_text} in “{text}” cannot be meant", where="--column")
        return cls(name, source, -factor if minus else factor, offset)


def probe_factor(text: str, channel: str, signal: str) -> float:
    """Return the factor that a probe's scale means: ``10``, ``10 A/V`` or ``100 mV/A`` for a channel in V that shows a current.

    ``channel`` and ``signal`` are units (empty where none is written). Raises Refusal where the text says something else, and
    where nothing is said although the channel measures another quantity than the signal.
    """
    words = text.strip()
    found = find_unit(channel) if channel else None
    known = UNITS["" if signal == "logic" else signal]
    other = found is not None and signal != "logic" and found[0].dimension != known.dimension
    if not words:
        if other:
            raise Refusal(
                f"the channel is in {channel}, the signal in {known.name}",
                f"enter the probe's scale, like 10 {known.name}/{channel}",
            )
        return 1.0
    number_text, _, scale = words.partition(" ")
    try:
        value = float(number_text.replace(",", ".").replace("−", "-"))
    except ValueError:
        raise Refusal(
            f"“{shortened(words)}” is no scale", f"write a number, or like 10 {known.name}/{channel or 'V'}"
        ) from None
    top, slash, below = scale.strip().partition("/")
    if not scale.strip():
        return value
    units = [find_unit(u.strip()) for u in (top, below)]
    if not slash or units[0] is None or units[1] is None or value == 0:
        raise Refusal(f"“{shortened(words)}” is no scale", f"write it like 10 {known.name}/{channel or 'V'}")
    factor = value * units[0][1] / units[1][1]
    dimensions = [u[0].dimension for u in units if u is not None]
    source = found[0].dimension if found else "voltage"
    if dimensions == [known.dimension, source]:
        return factor / known.factor
    if dimensions == [source, known.dimension]:
        return 1 / factor / known.factor
    raise Refusal(
        f"“{shortened(words)}” does not turn {channel or 'the channel'} into {known.name}",
        f"write it like 10 {known.name}/{channel or 'V'}",
    )


def find_source(source: str, names: tuple[str, ...]) -> int:
    """Return the index of the source column, exact name first, then without regard to case."""
    for fold in (str, str.casefold):
        hits = [i for i, name in enumerate(names) if fold(name) == fold(source)]
        if len(hits) == 1:
            return hits[0]
        if len(hits) > 1:
            raise Refusal(f"there are {len(hits)} columns named “{source}”", "give the columns different names")
    raise Refusal(
        f"there is no column “{source}” (found: {shortened(', '.join(names), 200)})",
        "map a channel that the file holds",
    )


#: Words in a channel's name that say what it is; a logic signal is proposed by its name alone.
_HINTS = {"hall": ("hall",), "enc": ("enc",), "command": ("pwm", "cmd", "command")}


def propose_channels(
    wanted: Sequence[str], names: Sequence[str], units: Sequence[str | None], looks: Mapping[str, str] | None = None
) -> dict[str, str]:
    """Return a channel for each wanted signal and for the time ``t`` where one suits by name, by unit or by what it looks like (``looks``, see
    ``preview``); never two for one, never a voltage for a logic signal unless it rests on two levels, and no such channel for a voltage."""
    looks, free = looks or {}, list(zip(names, units, strict=True))
    found: dict[str, str] = {}

    def take(signal: str, suits: Callable[[str, str | None], bool]) -> None:
        hit = next(((n, u) for n, u in free if suits(n, u)), None)
        if signal not in found and hit is not None:
            found[signal] = hit[0]
            free.remove(hit)

    logic = {s for s in wanted if SIGNALS[s] == "logic"}

    def moves(name: str) -> bool:
        # what rests on two levels is no voltage or current where logic signals are looked for too, nor is a counter
        return looks.get(name) != "rising" and not (logic and looks.get(name) == "logic")

    if names:
        take("t", lambda n, u: n.lower() in TIME_NAMES or _dimension(u) == "time")
        take("t", lambda n, _: n == names[0])
    for signal in wanted:
        take(signal, lambda n, _, s=signal: n.lower() == s)  # type: ignore[misc]
    for signal in wanted:
        if signal == "v_cmd":
            continue  # what a drive commands is on no probe
        if SIGNALS[signal] == "logic":
            hints = next((h for k, h in _HINTS.items() if signal.startswith(k)), ())
            take(signal, lambda n, _, h=hints: any(word in n.lower() for word in h))  # type: ignore[misc]
            take(signal, lambda n, _: looks.get(n) == "logic")
            continue
        dimension = UNITS[SIGNALS[signal]].dimension
        take(signal, lambda n, u, d=dimension: _dimension(u) == d and moves(n))  # type: ignore[misc]
    for signal in wanted:  # a current probe's channel is in volts; a file without units leaves the order
        if SIGNALS[signal] in ("V", "A", "rpm") and signal != "v_cmd":
            take(
                signal,
                lambda n, u, s=signal: moves(n) and (not u or (SIGNALS[s] == "A" and _dimension(u) == "voltage")),  # type: ignore[misc]
            )
    return found


def _dimension(unit: str | None) -> str:
    found = find_unit(unit) if unit else None
    return found[0].dimension if found else ""
