"""What a step of the voyage is, and what settling it would settle. The screen calls a waypoint a leg of the course."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import HallRecord, Settled
from crisp_compass.course.kind import CaptureKind


@dataclass(frozen=True)
class Proposal:
    """What settling would settle now: the values, what to call them in the ledger, a reason that fits, the method, and the
    settled values (``topic.name``) that they rest on, and whether they are measured or only stated."""

    values: dict[str, Quantity]
    headline: str
    reason: str
    method: str = ""
    rests_on: tuple[str, ...] = ()
    halls: HallRecord | None = None
    origin: Literal["measured", "data-sheet"] = "measured"


def _always(_: Bench) -> bool:
    return True


def _never(_: Bench) -> bool:
    return False


def _nothing(_: Bench) -> tuple[str, ...]:
    return ()


@dataclass(frozen=True)
class Section:
    """A page of a waypoint, by its name beside the question; ``applies`` tells whether a bench has use for it."""

    name: str
    applies: Callable[[Bench], bool] = _always


@dataclass(frozen=True)
class Waypoint:
    """One step of the voyage: everything the course, the settling, the record and the window know of it.

    Attributes
    ----------
    key
        Also the topic it settles, where it ``settles`` something.
    order
        Its place on the course: the smaller comes first.
    name, question
        On the course, and the question its main page answers.
    first_step
        What to do here first, in one sentence.
    settles
        Values that settling must settle: name → unit, least and most magnitude; None where nothing is settled here.
    needs, also_needs
        Waypoints that must be settled before, as far as the bench's motor has them, and those that depend on the bench.
    applies, optional
        Whether a bench has this waypoint, and whether the course passes it by while it has no capture: something else stands in.
    headline
        Its figure on the course, from what is settled; may be empty.
    propose
        What settling would settle now, by design; raises Refusal where it cannot. None where captures propose.
    captures
        Kinds of capture that it takes.
    sections
        Its pages, the main one first.
    """

    key: str
    order: int
    name: str
    question: str
    first_step: str = ""
    settles: Mapping[str, tuple[str, float, float]] | None = None
    needs: tuple[str, ...] = ()
    also_needs: Callable[[Bench], tuple[str, ...]] = _nothing
    applies: Callable[[Bench], bool] = _always
    optional: Callable[[Bench], bool] = _never
    headline: Callable[[Settled], str] = lambda _: ""
    propose: Callable[[Bench], Proposal] | None = None
    captures: tuple[CaptureKind, ...] = ()
    sections: tuple[Section, ...] = field(default=(Section(""),))

    @property
    def topic(self) -> str | None:
        """The topic that it settles, if any."""
        return None if self.settles is None else self.key

    @property
    def inline_name(self) -> str:
        """The name within a sentence: ``resistance``, ``PWM``."""
        return self.name if self.name.isupper() else self.name.lower()
