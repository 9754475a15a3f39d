"""What was entered, what is only presumed, and what is entered but not settled yet.

A bench opens with figures in its fields so that every page can show something. Until a person enters or confirms one of them
it is *presumed*. Settling keeps the fields it was made from (:attr:`Settled.settings`): an entry made later waits, *edited but not
settled*, and everything after this waypoint goes on with what was settled.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from crisp_compass.bench.models import Bench, Settings, Topic

#: Fields that state a fact of this bench's hardware: their defaults are presumed until somebody says that they are right.
PRESUMABLE: dict[str, tuple[str, ...]] = {
    "plate": ("pole_pairs", "v_bus", "rated_current", "top_speed", "counts_per_rev", "mains_hz", "steps_per_turn"),
    "supply": ("mains_v", "command_volts"),
    "pwm": ("timer_hz", "carrier_hz", "dead_time", "settling", "sample_time", "r_switch", "t_on", "t_off"),
    "current_loop": ("i_base", "v_base", "bits"),
    "run": ("i_limit", "i_trip", "v_min"),
}
#: Fields that settling a topic is made from.
SETTLES: dict[str, tuple[str, ...]] = {
    "plate": (
        "pole_pairs", "v_bus", "rated_current", "current_base", "top_speed", "inertia", "viscous", "coulomb", "counts_per_rev",
    ),
    "pwm": (
        "timer_hz", "carrier_hz", "aligned", "dead_time", "min_pulse", "scheme", "loop_divider", "updates", "shunts", "settling",
        "sample_time",
    ),
    "current_loop": ("method", "bandwidth_hz", "damping", "delay_samples"),
    "speed_loop": ("method", "a", "bandwidth_hz", "filter_hz", "divider", "ramp", "lowest_speed"),
}  # fmt: skip


def enter(bench: Bench, topic: str, fields: Mapping[str, Any]) -> Bench:
    """Return the bench with fields of one topic set and known as entered; raises ValueError for what the model refuses."""
    page = getattr(bench.settings, topic)
    fresh = type(page).model_validate({**page.model_dump(), **fields})
    known = {*bench.entered.get(topic, ()), *(f for f in fields if f in PRESUMABLE.get(topic, ()))}
    entered = {**bench.entered, topic: tuple(sorted(known))} if known else bench.entered
    settings = bench.settings.model_copy(update={topic: fresh})
    return bench.model_copy(update={"settings": settings, "entered": entered})


def presumed(bench: Bench, topic: str, field: str) -> bool:
    """Tell whether a field holds its default and nobody has entered or confirmed it."""
    if field not in PRESUMABLE.get(topic, ()) or field in bench.entered.get(topic, ()):
        return False
    return bool(getattr(getattr(bench.settings, topic), field) == getattr(getattr(_defaults(), topic), field))


@lru_cache(maxsize=1)
def _defaults() -> Settings:
    return Settings()


def untouched(bench: Bench) -> bool:
    """Tell whether nobody has said anything of this motor and its supply yet."""
    return (
        "plate" not in bench.settled and not bench.entered.get("plate") and bench.settings.plate == _defaults().plate
    )


def presumed_for(bench: Bench, topic: Topic) -> tuple[str, ...]:
    """Return the presumed fields that settling a topic would rest on."""
    plate = bench.settings.plate
    unused: tuple[str, ...] = ()
    if topic == "plate":
        unused = ("counts_per_rev",) if plate.sensor != "encoder" else ()
        unused += (
            () if plate.family in ("sinusoidal", "trapezoidal") else ("pole_pairs", "top_speed", "counts_per_rev")
        )
    return tuple(f for f in SETTLES.get(topic, ()) if f not in unused and presumed(bench, topic, f))


def snapshot(bench: Bench, topic: Topic) -> dict[str, Any]:
    """Return the fields that settling a topic is made from, as they stand."""
    page = getattr(bench.settings, topic, None)
    return {f: getattr(page, f) for f in SETTLES.get(topic, ())}


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
    return [
        Edit(topic, f, then, now[f]) for f, then in settled.settings.items() if f in now and not _same(then, now[f])
    ]


def _same(a: Any, b: Any) -> bool:
    if isinstance(a, int | float) and isinstance(b, int | float):
        return math.isclose(a, b, rel_tol=1e-9, abs_tol=1e-300)
    return bool(a == b)


def standing(bench: Bench, besides: str = "") -> Bench:
    """Return the bench as settled: fields edited since are put back, those of the topic ``besides`` excepted.

    This is the bench that everything after a waypoint sees, and the drive, the record and the header.
    """
    back: dict[str, Any] = {}
    for topic in SETTLES:
        if topic == besides or topic not in bench.settled:
            continue
        changed = edits(bench, topic)
        if changed:
            page = getattr(bench.settings, topic)
            back[topic] = type(page).model_validate({**page.model_dump(), **{e.field: e.then for e in changed}})
    return bench.model_copy(update={"settings": bench.settings.model_copy(update=back)}) if back else bench
