"""What was measured, found, settled and noted."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from crisp_compass.bench.base import Frozen, Quantity
from crisp_compass.bench.ranges import Digest, Finite, HallCode, Key, Long, Name, Text, When


class FoundNote(Frozen):
    """A finding kept with the evidence."""

    level: Literal["info", "caution", "stop"]
    code: Name
    text: Long


class HallSector(Frozen):
    """One row of the hall table, degrees of electrical angle for positive rotation."""

    center_deg: Finite
    from_deg: Finite
    to_deg: Finite
    drive: Literal["A+B-", "A+C-", "B+C-", "B+A-", "C+A-", "C+B-"]


class HallRecord(Frozen):
    """A hall table as found."""

    spacing_deg: Literal[60, 120]
    direction: Literal[-1, 1]
    states: dict[HallCode, HallSector]
    edge_errors_deg: tuple[Finite, Finite, Finite, Finite, Finite, Finite]


class Evidence(Frozen):
    """A capture and what was estimated from it."""

    file: Text = Field(description="Path relative to the bench file")
    sha256: Digest
    kind: Key = Field(description="Kind of capture, e.g. staircase")
    columns: tuple[str, ...] = Field(default=(), description="Column mappings NAME=[-]SOURCE[*FACTOR]")
    when: When
    method: Text = ""
    estimates: dict[Key, Quantity] = {}
    findings: tuple[FoundNote, ...] = ()
    halls: HallRecord | None = None


class Settled(Frozen):
    """What a person settled: the values, the reason, and the inputs they rest on (``topic.name`` → value then)."""

    values: dict[Key, Quantity]
    method: Text = ""
    reason: Text
    when: When
    rests_on: dict[str, Finite] = {}
    settings: dict[str, float | int | str | None] = Field(
        default={}, description="fields as they stood when this was settled"
    )
    halls: HallRecord | None = None
    origin: Literal["measured", "data-sheet"] = Field(
        default="measured", description="data-sheet: stated by plate or data sheet, not measured"
    )


class LedgerEntry(Frozen):
    """One line of the ledger: a typed reading, a settled value, a note or a verdict."""

    when: When
    kind: Name
    text: Text
    value: Quantity | None = None


class Lead(Frozen):
    """One lead of motor or sensor cable: what it is, its colour, the connector's pin, the drive's terminal."""

    name: Name
    colour: Literal["", "BK", "BN", "RD", "OG", "YE", "GN", "BU", "VT", "GY", "WH", "PK", "TQ", "GNYE"] = ""
    pin: Name = ""
    terminal: Name = ""


CheckChoice = Literal["", "in-order", "not-in-order", "not-applicable"]


class CheckRecord(Frozen):
    """What was measured or found for one check before power; ``skipped`` holds the reason if it was left out.

    A check without a reading is judged by its ``choice`` alone; ``said`` is the remark beside it. Files of older versions hold a
    remark only: there the check is open again.
    """

    values: dict[str, Finite] = {}
    choice: CheckChoice = ""
    said: Text = ""
    skipped: Text = ""
    when: When


class CommissioningRecord(Frozen):
    """What was said of one step of putting the drive into service; ``skipped`` holds the reason if it was left out."""

    done: bool = False
    skipped: Text = ""
    read: Text = Field(default="", description="what the drive said when it was done")
    value: Finite | None = Field(default=None, description="what was typed, e.g. rad/s of a tachometer")
    when: When


class SpikeReading(Frozen):
    """Peak of an interference, V, with what was changed since the first reading (empty for that one)."""

    remedy: Text = ""
    peak: float = Field(ge=1e-6, le=1e6, allow_inf_nan=False)
    loaded: bool
    on_top: bool = Field(default=False, description="what was changed before this reading was still in place")
    when: When


ScopeShape = Literal["", "flat", "square", "square-with-pull-up", "opposite", "pulse", "sine"]


class CableAgain(Frozen):
    """A reading taken once more: Ω, V of the diode test, A, or what the scope showed."""

    kind: Literal["ohms", "diode", "current", "scope"]
    other: str = ""
    value: Finite = 0.0
    shape: ScopeShape = ""


class CableWire(Frozen):
    """Readings on one wire of an unknown sensor cable. None where not read yet.

    ``ohms`` are resistances to other wires by name, ``diode`` the meter's diode test in V with the red probe on this wire and
    the black one on the other (infinity is written as 1e12 in both), ``supply_current`` is what it drew at 5 V against the 0 V
    found, ``scope`` what it showed while the shaft was turned, ``again`` readings repeated, ``known`` a role from elsewhere.
    """

    name: str
    ohms: dict[str, Finite] = {}
    diode: dict[str, Finite] = {}
    supply_current: Finite | None = None
    scope: ScopeShape = ""
    again: tuple[CableAgain, ...] = ()
    known: Literal["", "screen", "ground", "supply", "thermistor", "channel", "index"] = ""


Symptom = Literal["", "smooth", "nudge", "vibrates", "still", "wrong-way", "hot"]


class Trial(Frozen):
    """What was seen with the leads in one order: symptom and supply current [A] at equal speed in each commanded direction."""

    forward: Symptom = ""
    backward: Symptom = ""
    current_forward: Finite | None = None
    current_backward: Finite | None = None
    speed_forward: Finite | None = Field(default=None, description="rad/s, mechanical")
    speed_backward: Finite | None = Field(default=None, description="rad/s, mechanical")


StartSymptom = Literal["rocks", "falls-back", "trips", "wrong-way", "no-more", "howls"]


class StartTrial(Frozen):
    """A start that failed: what was seen, and which cause's change (its key) had been made before it; empty for none."""

    symptom: StartSymptom
    changed: Annotated[str, StringConstraints(pattern=r"^[a-z-]{0,20}$")] = ""
    when: When


class Point(Frozen):
    """One row of the table of points: ``target`` in rad ``to`` which, or ``by`` which, it goes; speed [rad/s] and acceleration [rad/s²] (as settled if missing), dwell [s], the row that follows (0: the end, missing: the one below), a limit of the torque [N·m], and an input with the row that comes next where it is on."""

    target: float = Field(ge=-6.3e6, le=6.3e6, allow_inf_nan=False)
    way: Literal["to", "by"] = "to"
    speed: float | None = Field(default=None, ge=1e-3, le=2.1e5)
    accel: float | None = Field(default=None, ge=1e-3, le=1e8)
    dwell: float = Field(default=0.0, ge=0, le=3600)
    follows: int | None = Field(default=None, ge=0, le=500)
    torque: float | None = Field(default=None, gt=0, le=1e6)
    branch: tuple[Annotated[int, Field(ge=1, le=8)], Annotated[int, Field(ge=0, le=500)]] | None = None


class SpeedTrial(Frozen):
    """Gains tried on the speed loop: A/(rad/s) and A/rad, whether the drive found them by itself.

    A measured trial keeps the ``step`` [rad/s] of its reference, its ``overshoot`` (ratio), ``rise`` and ``settling`` [s], and its ``curve`` as pairs of time from
    the step [s] and speed over the step; a trial without a curve is designed.
    """

    kp: float = Field(ge=1e-12, le=1e7, allow_inf_nan=False)
    ki: float = Field(ge=1e-12, le=1e9, allow_inf_nan=False)
    step: Finite | None = None
    automatic: bool = False
    overshoot: Finite | None = None
    rise: Finite | None = None
    settling: Finite | None = None
    curve: tuple[tuple[Finite, Finite], ...] = ()
    when: When


class CurrentTrial(Frozen):
    """Gains tried on the current loop: V/A and V/(A·s), the test current [A], whether the drive found them by itself.

    A measured trial keeps its ``overshoot`` (ratio), ``ringing`` [Hz], ``rise`` and ``settling`` [s], and its ``curve`` as
    pairs of time from the step [s] and current over the step; a trial without a curve is simulated.
    """

    kp: float = Field(ge=1e-9, le=1e7, allow_inf_nan=False)
    ki: float = Field(ge=1e-9, le=1e11, allow_inf_nan=False)
    current: Finite | None = None
    automatic: bool = False
    overshoot: Finite | None = None
    ringing: Finite | None = None
    rise: Finite | None = None
    settling: Finite | None = None
    curve: tuple[tuple[Finite, Finite], ...] = ()
    when: When
