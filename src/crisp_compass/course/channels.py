"""Which channel of a scope is which signal: what was said is kept on the bench, leg by leg, and shown where a capture is."""

from __future__ import annotations

from collections.abc import Mapping

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture.mapping import ColumnMapping
from crisp_compass.capture.signals import SIGNALS
from crisp_compass.errors import Refusal

#: Mappings that are kept, the newest last.
_MOST = 40


def _place(topic: str, header: str) -> str:
    return f"{topic}: {header}"[:4000]


def remembered(bench: Bench, topic: str, header: str) -> tuple[str, ...]:
    """Return what was said on this bench's leg of a file with this very header; a scope's CH2 is a current on one leg and a voltage on another."""
    return bench.channels.get(_place(topic, header), ()) if header else ()


def remember(bench: Bench, topic: str, header: str, columns: tuple[str, ...]) -> Bench:
    """Return the bench that knows what was said; nothing said forgets it."""
    place = _place(topic, header)
    kept = {k: v for k, v in bench.channels.items() if k != place}
    if columns:
        kept[place] = columns
    return bench.model_copy(update={"channels": dict(list(kept.items())[-_MOST:])})


def scales(bench: Bench, header: str) -> dict[str, tuple[str, float]]:
    """Return by channel the unit of a signal and the factor that its probe was given on any leg, for files with this header."""
    found = {}
    for place, columns in bench.channels.items():
        if place.partition(": ")[2] != header[: len(place.partition(": ")[2])]:
            continue
        for mapping in _parsed(columns):
            if mapping.name in SIGNALS and abs(mapping.factor) != 1:
                found[mapping.source] = (SIGNALS[mapping.name], abs(mapping.factor))
    return found


def _parsed(columns: tuple[str, ...]) -> list[ColumnMapping]:
    try:
        return [ColumnMapping.parse(c) for c in columns]
    except Refusal:  # from a bench that somebody edited
        return []


def spoken(columns: tuple[str, ...]) -> str:
    """Return mappings as people read them: ``i_a = −CH2 × 10, zero at 0.02``."""
    parts = []
    for m in _parsed(columns):
        sign = "−" if m.factor < 0 else ""
        factor = f" × {abs(m.factor):.6g}" if abs(m.factor) != 1 else ""
        offset = f", zero at {m.offset:.4g}" if m.offset else ""
        parts.append(f"{m.name} = {sign}{m.source}{factor}{offset}")
    return "; ".join(parts)


def channels_text(evidence: Evidence | None) -> str:
    """Return the sentence that a capture's page and the record say of its channels; empty where they have the names of this program."""
    if evidence is None or not evidence.columns:
        return ""
    return f"Channels: {spoken(evidence.columns)}."


def by_signal(columns: tuple[str, ...]) -> Mapping[str, ColumnMapping]:
    """Return mappings by their signal."""
    return {m.name: m for m in _parsed(columns)}
