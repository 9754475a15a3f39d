"""What is shown of a capture, as data: panes of curves, words, boxes of figures, the dial. The window and the record draw it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.estimates import Finding, FloatArray

#: What a curve means; one look each: measured, its fit, what was expected, what the fit left out.
Role = Literal["measured", "fit", "expected", "left out", "here"]


@dataclass(frozen=True)
class Curve:
    """A curve: ``x`` (n,) and ``y`` (n,); ``title`` names it in the legend.

    ``shape`` is ``line``, ``points``, ``up`` or ``down`` (triangles); ``dense`` keeps the spikes of many samples, ``wide`` lies under
    or over another one.
    """

    title: str
    role: Role
    x: FloatArray
    y: FloatArray
    shape: Literal["line", "points", "up", "down"] = "line"
    dense: bool = False
    wide: bool = False


@dataclass(frozen=True)
class Pane:
    """Curves over the same axes (name, unit); ``zero`` draws the line y = 0, ``turn`` puts ticks at every 60° of a turn, ``log`` spreads x by its
    logarithm.

    ``printed`` panes stand in the record.
    """

    name: str
    x: tuple[str, str]
    y: tuple[str, str]
    curves: tuple[Curve, ...]
    zero: bool = False
    turn: bool = False
    printed: bool = False
    log: bool = False


@dataclass(frozen=True)
class Sector:
    """A hall sector: bounds in degrees and the code written into it."""

    start: float
    stop: float
    text: str


@dataclass(frozen=True)
class DialView:
    """What the dial shows. Angles in electrical degrees, vector lengths relative to the limit circle.

    ``frame`` is where the firmware believes the rotor's flux. ``hand`` names the arrow that a drag moves: ``rotor``, ``current`` or ``voltage``; ``axes`` are the phases drawn: their names.
    """

    caption: str = ""
    rotor: float | None = None
    frame: float | None = None
    current: tuple[float, float] | None = None
    voltage: tuple[float, float] | None = None
    hexagon: bool = True
    sectors: tuple[Sector, ...] = field(default=())
    draggable: bool = False
    hand: str = "rotor"


@dataclass(frozen=True)
class Box:
    """Names and figures under a heading."""

    heading: str
    rows: tuple[tuple[str, str], ...] = ()
    note: str = ""


@dataclass(frozen=True)
class Said:
    """The words of a page: its answer, the error bar beside it, the reason below; what the main button settles."""

    answer: str
    doubt: str = ""
    reason: str = ""
    button: str = "Settle…"
    can_settle: bool = False
    findings: tuple[Finding, ...] = ()
    dial: DialView = field(default=DialView())
    boxes: tuple[Box, ...] = ()


@dataclass(frozen=True)
class View:
    """How a kind of capture is shown.

    Attributes
    ----------
    said
        Words for a bench and one of its captures, or for none yet; the result is given where it is at hand.
    panes
        Panes of a capture and its result.
    """

    said: Callable[[Bench, Evidence | None, Any], Said]
    panes: Callable[[Capture, Any], tuple[Pane, ...]]
