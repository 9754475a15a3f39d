"""What a kind of capture is: what it accepts, how it is evaluated, what it estimates and how that is shown."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence, HallRecord
from crisp_compass.capture import Capture
from crisp_compass.estimates import Estimate

if TYPE_CHECKING:
    from crisp_compass.course.waypoint import Proposal

#: The axis that a kind of capture is of; the others are of none.
AXIS = {"steps_d": "d", "steps_q": "q"}
#: Line and phase voltages of a motor.
LINES = {"v_ab", "v_bc", "v_ca", "v_a", "v_b", "v_c"}


def _anything(_: Capture) -> bool:
    return True


def _nothing(_: Capture, __: str) -> bool:
    return False


@dataclass(frozen=True)
class CaptureKind:
    """A kind of capture.

    Attributes
    ----------
    key, topic
        Its key in the bench file, and the waypoint it belongs to.
    title
        Added to the waypoint's name where captures are listed, e.g. ``, d axis``.
    section
        The page that shows it.
    signals
        Signals that a mapping of foreign channels offers.
    rank, claims
        Among all kinds, the one of the lowest rank that claims a dropped capture gets it; ``claims`` is told the capture and the
        waypoint whose page is open. The default claims none: such a kind is found by ``refine`` of another.
    fits
        Whether a capture that was loaded at this waypoint is of this kind; the first that fits is taken.
    table
        Whether it may be a table without a time column.
    read
        The estimator: bench and capture to a result; raises Refusal.
    refine
        The kind that the result makes of it.
    quantities
        Estimates as the bench keeps them, from bench, capture and result.
    halls
        The hall table of a result, where it is one.
    needs
        Estimates that evidence must hold: with an interval, and without a need of one.
    gained, gains
        Estimates that the instruments' gains scale, and the gains (fields of the instruments' settings).
    headline
        Its main figure as a short text.
    propose
        What settling would settle from this evidence; None where nothing is, or not from this one.
    sketch
        The drawing of how to connect, on the empty page.
    families
        The motors it is of, as captures call them.
    view
        The module of :mod:`crisp_compass.views` that says how it is shown.
    """

    key: str
    topic: str
    read: Callable[[Bench, Capture], Any]
    headline: Callable[[Evidence], str]
    title: str = ""
    section: str = ""
    signals: tuple[str, ...] = ()
    rank: int = 1000
    claims: Callable[[Capture, str], bool] = _nothing
    fits: Callable[[Capture], bool] = _anything
    table: bool = False
    refine: Callable[[Capture, Any], str] | None = None
    quantities: Callable[[Bench, Capture, Any], dict[str, Quantity]] | None = None
    halls: Callable[[Any], HallRecord] | None = None
    needs: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
    gained: tuple[str, ...] = ()
    gains: tuple[str, ...] = ()
    propose: Callable[[Bench, Evidence], Proposal | None] | None = None
    sketch: str = ""
    families: tuple[str, ...] = ("pm",)
    view: str = ""


def to_quantity(estimate: Estimate) -> Quantity:
    """Return the bench form of an estimate."""
    return Quantity(value=estimate.value, unit=estimate.unit, u=estimate.u, interval95=(estimate.low, estimate.high))
