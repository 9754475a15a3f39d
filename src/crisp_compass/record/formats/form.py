"""What a format of the settings is: nothing else asks which there are."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Settled
from crisp_compass.course.course import waypoints_of


@dataclass(frozen=True)
class Form:
    """One format: its ``key`` on the command line, its ``label`` on a button, the ending of its files and the stem that is proposed,
    its ``place`` among the others, what writes it, and which benches it ``suits``."""

    key: str
    label: str
    suffix: str
    stem: str
    place: int
    write: Callable[[Bench], str]
    suits: Callable[[Bench], bool] = lambda _: True


def own_settled(bench: Bench) -> dict[str, Settled]:
    """Return what is settled of the legs that this motor and firmware have: another kind's values are not handed over."""
    own = {w.key for w in waypoints_of(bench)}
    return {topic: settled for topic, settled in bench.settled.items() if topic in own}
