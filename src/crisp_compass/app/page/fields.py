"""Fields of a page, declared once: title, unit, the setting they hold, a tip. What the setting's model knows is not said again."""

from __future__ import annotations

import typing
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.bench.entered import locate
from crisp_compass.bench.plate import PLATES
from crisp_compass.bench.settings import Settings


@dataclass(frozen=True)
class Entry:
    """A number: ``setting`` is a field of the page's own topic, or a dotted one of another's. ``base`` says what a current in it
    means, ``kind`` what else may be typed (``typed.read``), ``plain`` that it is written without prefixes, ``group`` what a screen reader hears before its title."""

    setting: str
    title: str
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


def _annotation(topic: str, name: str) -> Any:
    if topic == "plate":
        models = [m for m in PLATES.values() if name in m.model_fields]
        return models[0].model_fields[name].annotation
    return Settings.model_fields[topic].annotation.model_fields[name].annotation  # type: ignore[union-attr]


def make_field(declared: Entry | Pick, topic: str) -> NumberField | Choice:
    """Build the widget of a field; whether it may be empty or must be whole, its model says."""
    kinds = [_annotation(*locate(topic, declared.setting))]
    kinds += [a for k in kinds for a in typing.get_args(k)]
    if isinstance(declared, Pick):
        made: NumberField | Choice = Choice(
            declared.title, dict(declared.options), width=declared.width, tip=declared.tip
        )
    else:
        made = NumberField(
            declared.title,
            declared.unit,
            width=declared.width,
            whole=int in kinds,
            optional=type(None) in kinds,
            plain=declared.plain,
            base=declared.base,
            tip=declared.tip,
            kind=declared.kind,
        )
    if declared.group:
        made.set_group(declared.group)
    return made
