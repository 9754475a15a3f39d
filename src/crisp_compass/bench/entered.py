"""What was entered, what is only presumed, and what is entered but not settled yet.

A bench opens with figures in its fields so that every page can show something. Until a person enters or confirms one of them
it is *presumed*. Settling keeps the fields it was made from (:attr:`Settled.settings`): an entry made later waits, *edited but not
settled*, and everything after this waypoint goes on with what was settled.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pydantic.fields import FieldInfo

from crisp_compass.bench.base import Topic
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import PLATES
from crisp_compass.bench.settings import Settings


def locate(topic: str, field: str) -> tuple[str, str]:
    """Return topic and name of a field; a dotted one belongs to another topic than the one that mentions it."""
    of, dot, name = field.partition(".")
    return (of, name) if dot else (topic, field)


def info_of(topic: str, field: str) -> FieldInfo:
    """Return what the model says of a field: kind, limits, default, and how people call it."""
    of, name = locate(topic, field)
    if of == "plate":
        return next(m for m in PLATES.values() if name in m.model_fields).model_fields[name]
    found: FieldInfo = Settings.model_fields[of].annotation.model_fields[name]  # type: ignore[union-attr]
    return found


def words_of(topic: str, field: str) -> tuple[str, str]:
    """Return how people say a field, and its unit: the title and the unit that its model gives it, else its own name and none."""
    info = info_of(topic, field)
    extra = info.json_schema_extra
    unit = extra.get("unit", "") if isinstance(extra, dict) else ""
    return info.title or locate(topic, field)[1].replace("_", " "), str(unit)


def value_of(bench: Bench, topic: str, field: str) -> Any:
    """Return what a field holds."""
    of, name = locate(topic, field)
    return getattr(getattr(bench.settings, of), name)


def enter(bench: Bench, topic: str, fields: Mapping[str, Any]) -> Bench:
    """Return the bench with fields of one topic set and known as entered; raises ValueError for what the model refuses."""
    grouped: dict[str, dict[str, Any]] = {}
    for field, value in fields.items():
        of, name = locate(topic, field)
        grouped.setdefault(of, {})[name] = value
    for of, changes in grouped.items():
        page = getattr(bench.settings, of)
        fresh = type(page).model_validate({**page.model_dump(), **changes})
        known = {*bench.entered.get(of, ()), *(f for f in changes if f in page.presumable)}
        entered = {**bench.entered, of: tuple(sorted(known))} if known else bench.entered
        settings = bench.settings.model_copy(update={of: fresh})
        bench = bench.model_copy(update={"settings": settings, "entered": entered})
    return bench


def presumed(bench: Bench, topic: str, field: str) -> bool:
    """Tell whether a field holds its default and nobody has entered or confirmed it."""
    of, name = locate(topic, field)
    page = getattr(bench.settings, of)
    if name not in page.presumable or name in bench.entered.get(of, ()):
        return False
    return bool(getattr(page, name) == type(page).model_fields[name].default)


def untouched(bench: Bench) -> bool:
    """Tell whether nobody has said anything of this motor and its supply yet."""
    plate = bench.settings.plate
    said = "plate" in bench.settled or bench.entered.get("plate") or bench.other_plates
    return not said and plate == type(bench).model_fields["settings"].default.plate


def presumed_for(bench: Bench, topic: Topic) -> tuple[str, ...]:
    """Return the presumed fields that settling a topic would rest on."""
    counted = bench.settings.sensor.is_encoder and "incremental" in bench.settings.plate.sensors
    unused: tuple[str, ...] = () if counted else ("sensor.counts_per_rev",)
    if bench.settings.start_up.standstill != "injection":
        unused = (*unused, "commutation.magnet")
    page = getattr(bench.settings, topic, None)
    settles = page.settles if page is not None else ()
    return tuple(f for f in settles if f not in unused and presumed(bench, topic, f))


def snapshot(bench: Bench, topic: Topic) -> dict[str, Any]:
    """Return the fields that settling a topic is made from, as they stand."""
    page = getattr(bench.settings, topic, None)
    return {f: value_of(bench, topic, f) for f in (page.settles if page is not None else ())}


@dataclass(frozen=True)
class Edit:
    """A field that was changed after its topic was settled: settled with ``then``, standing at ``now``."""

    topic: Topic
    field: str
    then: Any
    now: Any


def edits(bench: Bench, topic: Topic) -> list[Edit]:
    """Return what was entered for a topic since it was settled, and waits; empty if nothing or not settled."""
    settled = bench.settled.get(topic)
    if settled is None:
        return []
    now = snapshot(bench, topic)
    # a field that is younger than the settling stood at what it is when nobody enters it
    unknown = {f: _usual(bench, topic, f) for f in now if f not in settled.settings} if settled.settings else {}
    return [
        Edit(topic, f, then, now[f]) for f, then in {**unknown, **settled.settings}.items() if f in now and not _same(then, now[f])
    ]


def _usual(bench: Bench, topic: str, field: str) -> Any:
    """Return what a field holds that nobody has entered."""
    of, name = locate(topic, field)
    return type(getattr(bench.settings, of)).model_fields[name].get_default(call_default_factory=True)


def _same(a: Any, b: Any) -> bool:
    if isinstance(a, int | float) and isinstance(b, int | float):
        return math.isclose(a, b, rel_tol=1e-9, abs_tol=1e-300)
    return bool(a == b)


def standing(bench: Bench, besides: str = "") -> Bench:
    """Return the bench as settled: fields edited since are put back, those of the topic ``besides`` excepted.

    This is the bench that everything after a waypoint sees, and the drive, the record and the header.
    """
    back: dict[str, dict[str, Any]] = {}
    for topic in bench.settled:
        if topic == besides:
            continue
        for edit in edits(bench, topic):
            of, name = locate(topic, edit.field)
            back.setdefault(of, {})[name] = edit.then
    if not back:
        return bench
    fresh = {}
    for of, fields in back.items():
        page = getattr(bench.settings, of)
        fresh[of] = type(page).model_validate({**page.model_dump(), **fields})
    return bench.model_copy(update={"settings": bench.settings.model_copy(update=fresh)})


def with_family(bench: Bench, family: str, **fields: Any) -> Bench:
    """Return the bench with another kind of motor, and these ``fields`` of its plate set.

    What both plates can say is carried over; what only the old one can is kept, for when the motor is that kind again. What a current
    means belongs to the kind: a base that the new plate does not show would turn a figure into another in silence.
    """
    old, fresh = bench.settings.plate, PLATES[family]
    said = old.model_dump()
    others = dict(bench.other_plates)
    if fresh is not type(old):
        others[said["family"]] = {
            k: v for k, v in said.items() if (k not in fresh.model_fields or k == "current_base") and v is not None
        }
    kept = next((others.pop(k) for k in list(others) if PLATES[k] is fresh), {})
    shared = {k: v for k, v in said.items() if k in fresh.model_fields and (k != "current_base" or fresh is type(old))}
    plate = fresh.model_validate({**shared, **kept, "family": family, **fields})
    return bench.model_copy(
        update={"settings": bench.settings.model_copy(update={"plate": plate}), "other_plates": others}
    )
