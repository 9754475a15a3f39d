"""Settling and staleness. A settled value remembers its inputs; when one of them changes, it is stale."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from crisp_compass.bench.base import Quantity, Topic
from crisp_compass.bench.entered import snapshot
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import HallRecord, LedgerEntry, Settled
from crisp_compass.errors import Refusal

_PLATE_NAMES = {"viscous_friction": "viscous", "coulomb_friction": "coulomb"}


@dataclass(frozen=True)
class StaleInput:
    """An input that is no longer what it was: ``topic.name``, its value then and now (None if withdrawn)."""

    key: str
    then: float
    now: float | None
    unit: str


def settled_value(bench: Bench, key: str) -> Quantity | None:
    """Return a settled quantity by ``topic.name``, or None.

    Until the mechanics are measured and settled, the plate's figures stand in for them.
    """
    topic, _, name = key.partition(".")
    if topic == "mechanics" and "mechanics" not in bench.settled:
        topic, name = "plate", _PLATE_NAMES.get(name, name)
    settled = bench.settled.get(topic)
    return None if settled is None else settled.values.get(name)


def family_gap(bench: Bench, topic: str) -> str:
    """Return why a waypoint is none of this bench's motor; empty where it is one."""
    plate = bench.settings.plate
    if plate.reach is None or topic in plate.reach:
        return ""
    return f"the plate says {plate.called}, which has no such leg"


def require_built(bench: Bench, topic: str) -> None:
    """Raise Refusal where the motor's family has no such waypoint: another family's arithmetic would give wrong numbers."""
    gap = family_gap(bench, topic)
    if gap:
        raise Refusal(
            gap, "correct the kind of motor on the plate if it is another", code="family", field="plate.family"
        )


def need(bench: Bench, key: str) -> float:
    """Return a settled value in SI; raises Refusal naming the leg where it is missing, or a motor that is not computed."""
    require_built(bench, key.partition(".")[0])
    quantity = settled_value(bench, key)
    if quantity is None:
        topic, _, name = key.partition(".")
        waypoint = topic.replace("_", " ")
        raise Refusal(
            f"the {name.replace('_', ' ')} is not settled",
            f"settle it on the {waypoint} leg first",
            code="not-settled",
            field=key,
        )
    return quantity.value


def settle(
    bench: Bench,
    topic: Topic,
    values: Mapping[str, Quantity],
    *,
    reason: str,
    when: str,
    method: str = "",
    rests_on: tuple[str, ...] = (),
    halls: HallRecord | None = None,
    headline: str = "",
    origin: Literal["measured", "data-sheet"] = "measured",
) -> Bench:
    """Return the bench with a topic settled and a ledger line added.

    Raises Refusal if no reason is given or an input it rests on is itself not settled.
    """
    if topic != "plate":
        require_built(bench, topic)
    if not reason.strip():
        raise Refusal("no reason is given", "say in a few words why this value is the right one", code="no-reason")
    inputs = {key: need(bench, key) for key in rests_on}
    entry = Settled(
        values=dict(values), method=method, reason=reason.strip(), when=when, rests_on=inputs, halls=halls,
        settings=snapshot(bench, topic), origin=origin,
    )  # fmt: skip
    line = LedgerEntry(when=when, kind="settled", text=f"{headline or topic.replace('_', ' ')}: {reason.strip()}")
    return bench.model_copy(update={"settled": {**bench.settled, topic: entry}, "ledger": (*bench.ledger, line)})


def stale_inputs(bench: Bench, topic: Topic) -> list[StaleInput]:
    """Return the inputs of a settled topic that have changed since; empty if none or not settled."""
    settled = bench.settled.get(topic)
    if settled is None:
        return []
    changed = []
    for key, then in settled.rests_on.items():
        now = settled_value(bench, key)
        if now is None or not math.isclose(now.value, then, rel_tol=1e-9, abs_tol=1e-15):
            changed.append(StaleInput(key, then, None if now is None else now.value, "" if now is None else now.unit))
    return changed
