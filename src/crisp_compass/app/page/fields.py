"""Fields of a page, declared once: title, unit, the setting they hold, a tip. What the setting's model knows is not said again."""

from __future__ import annotations

import typing
from collections.abc import Mapping
from dataclasses import dataclass, field

from pydantic.fields import FieldInfo

from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.bench.entered import info_of, words_of
from crisp_compass.quantities import UNITS, show


@dataclass(frozen=True)
class Entry:
    """A number: ``setting`` is a field of the page's own topic, or a dotted one of another's; without a ``title`` it has the one and the
    unit that its model gives it. ``base`` says what a current in it means, ``kind`` what else may be typed (``typed.read``), ``plain`` that it is written without prefixes, ``group`` what a screen reader hears before its title."""

    setting: str
    title: str = ""
    unit: str = ""
    width: int = 100
    plain: bool = False
    base: str = ""
    tip: str = ""
    group: str = ""
    kind: str = ""


@dataclass(frozen=True)
class Pick:
    """A choice between the keys of ``options``; one of numbers is kept as a number."""

    setting: str
    title: str
    options: Mapping[str, str] = field(default_factory=dict)
    width: int = 100
    tip: str = ""
    group: str = ""


Field = Entry | Pick


def _limits(info: FieldInfo) -> tuple[float | None, float | None]:
    """Return the least and the most [SI] that a field's model takes, None where it sets no limit."""
    pieces, low, high = [*info.metadata], None, None
    waiting = [info.annotation]
    while waiting:  # Annotated within a union, as optional fields have it
        kind = waiting.pop()
        pieces += getattr(kind, "__metadata__", ())
        waiting += typing.get_args(kind)[: 1 if hasattr(kind, "__metadata__") else None]
    for piece in [q for p in pieces for q in (getattr(p, "metadata", None) or [p])]:
        low = next((v for v in (getattr(piece, "ge", None), getattr(piece, "gt", None)) if v is not None), low)
        high = next((v for v in (getattr(piece, "le", None), getattr(piece, "lt", None)) if v is not None), high)
    return low, high


def called(declared: Entry | Pick, topic: str) -> tuple[str, str]:
    """Return title and unit of a field: its own, else what its model says."""
    if declared.title:
        return declared.title, declared.unit if isinstance(declared, Entry) else ""
    words, unit = words_of(topic, declared.setting)
    return words[:1].upper() + words[1:], unit


def tip_of(declared: Entry | Pick, topic: str) -> str:
    """Return what a field's tooltip says: its meaning, and between which limits it lies."""
    info = info_of(topic, declared.setting)
    title, unit = called(declared, topic)
    meaning = declared.tip or _meaning(info.description or "") or title
    if isinstance(declared, Pick):
        return f"{meaning}: {', '.join(declared.options.values())}" if not declared.tip and declared.options else meaning
    low, high = _limits(info)
    if low is None or high is None or not high < 1e9:
        return meaning
    return f"{meaning} ({show(low, unit)} to {show(high, unit)})"


def _meaning(description: str) -> str:
    """Return a model's description without the unit that stands beside the field anyway."""
    head, mark, rest = description.partition("; ") if "; " in description else description.partition(", ")
    words = rest if mark and (head in UNITS or head in ("A peak", "rad", "H", "Ω")) else description
    if words in UNITS or words in ("A peak", "A rms"):
        return ""
    return words[:1].upper() + words[1:]


def make_field(declared: Entry | Pick, topic: str) -> NumberField | Choice:
    """Build the widget of a field; whether it may be empty or must be whole, its model says."""
    kinds = [info_of(topic, declared.setting).annotation]
    title, unit = called(declared, topic)
    kinds += [a for k in kinds for a in typing.get_args(k)]
    if isinstance(declared, Pick):
        made: NumberField | Choice = Choice(
            title, dict(declared.options), width=declared.width, tip=tip_of(declared, topic)
        )
    else:
        made = NumberField(
            title,
            unit,
            width=declared.width,
            whole=int in kinds,
            optional=type(None) in kinds,
            plain=declared.plain,
            base=declared.base,
            tip=tip_of(declared, topic),
            kind=declared.kind,
        )
    if declared.group:
        made.set_group(declared.group)
    return made
