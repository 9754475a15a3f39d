"""Captures on their way in: read and evaluated one after the other, wherever the person goes meanwhile."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, replace
from pathlib import Path

from PySide6.QtCore import QObject, QSettings, Signal

from crisp_compass.app.autosave import now
from crisp_compass.app.bench_files import keep_picked
from crisp_compass.app.document import Document
from crisp_compass.app.jobs import Job
from crisp_compass.app.widgets.pyramid import prepare_pyramids
from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.capture import Capture, Progress, read_capture
from crisp_compass.capture.dialect import detect
from crisp_compass.course.captures import Evaluated, add_evidence, evaluate, guess_kind
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.errors import Refusal


@dataclass(frozen=True)
class Arrival:
    """A capture to be taken: ``topic`` where it was loaded on purpose, ``here`` the waypoint whose page was open when it was dropped,
    ``columns`` the mappings of its channels; ``asked`` once a person has said which channel is which."""

    path: Path
    topic: str = ""
    here: str = ""
    columns: tuple[str, ...] = ()
    asked: bool = False


class Intake(QObject):
    """A queue of captures. ``taken`` carries what was found, ``refused`` an arrival and its refusal, ``asks`` the same where its
    channels have names that nobody here knows; ``busy`` a text while something is read, empty when nothing is."""

    taken = Signal(object)
    refused = Signal(object, object)
    asks = Signal(object, object)
    busy = Signal(str)

    def __init__(self, document: Document, settings: QSettings) -> None:
        super().__init__(document)
        self._document, self._settings = document, settings
        self._remember_picked = keep_picked(document, settings)
        self._queue: deque[Arrival] = deque()
        self._now: Arrival | None = None
        self._part = 0.0
        self._job = Job(self)
        self._job.done.connect(self._on_done)
        self._job.refused.connect(self._on_refused)
        self._job.progress.connect(self._on_progress)
        document.replaced.connect(self.clear)

    def add(self, arrival: Arrival, *, first: bool = False) -> None:
        """Queue a capture; ``first`` puts it before those that wait."""
        self._remember_picked(arrival.path)
        (self._queue.appendleft if first else self._queue.append)(arrival)
        self._next()

    def cancel(self) -> None:
        """Drop the capture that is being read; the others go on."""
        self._job.cancel()
        self._now = None
        self._next()

    def clear(self) -> None:
        """Drop everything: another bench is open."""
        self._queue.clear()
        self.cancel()

    @property
    def idle(self) -> bool:
        """Whether nothing is being read and nothing waits."""
        return self._now is None and not self._queue

    def _next(self) -> None:
        if self._now is not None:
            self._on_progress(self._part)  # one more waits
            return
        if not self._queue:
            self.busy.emit("")
            return
        arrival = self._now = self._queue.popleft()
        bench, base = standing(self._document.bench), self._document.base
        columns = arrival.columns or self._remembered(arrival)
        self._on_progress(0.0)
        self._job.ask_reporting(lambda report: _take(bench, replace(arrival, columns=columns), base, report))

    def _on_progress(self, part: float) -> None:
        self._part = part
        if self._now is not None:
            name = self._now.path.name
            doing = f"Reading {name}: {100 * part:.0f} %" if part < 0.995 else f"Fitting {name}"
            waiting = f", {len(self._queue)} more waiting" if self._queue else ""
            self.busy.emit(doing + waiting)

    def _on_done(self, evaluated: Evaluated) -> None:
        self._now = None
        name, bench = Path(evaluated.evidence.file).name, self._document.bench
        self._document.edit(f"load {name}", add_evidence(bench, evaluated.evidence), by_hand=False)
        self.taken.emit(evaluated)
        self._next()

    def _on_refused(self, refusal: Refusal) -> None:
        arrival, self._now = self._now, None
        if arrival is not None:
            known = bool(arrival.topic or arrival.here) and not arrival.asked
            (self.asks if refusal.code == "channels" and known else self.refused).emit(arrival, refusal)
        self._next()

    # ---- mappings of a scope, kept for its next files

    def _mappings(self) -> dict[str, list[str]]:
        stored = self._settings.value("mappings")
        return dict(stored) if isinstance(stored, dict) else {}

    def _remembered(self, arrival: Arrival) -> tuple[str, ...]:
        """Return the mappings said on this leg for a file with these very columns, if any: a scope's CH2 is a current on one
        leg and a voltage on another."""
        return tuple(self._mappings().get(_head(arrival), ()))

    def remember_mappings(self, arrival: Arrival, columns: tuple[str, ...]) -> None:
        """Keep what was said of a file's columns for the leg's next file that has the same ones."""
        head = _head(arrival)
        if head:
            kept = {**self._mappings(), head: list(columns)}
            self._settings.setValue("mappings", dict(list(kept.items())[-40:]))


def _head(arrival: Arrival) -> str:
    """Return the leg and what the header says of its columns, or an empty text where either is not known."""
    topic = arrival.topic or arrival.here
    try:
        dialect = detect(arrival.path)
    except (Refusal, OSError):
        return ""
    return topic and f"{topic}\n" + "\t".join(
        f"{n} [{u or ''}]" for n, u in zip(dialect.names, dialect.units, strict=True)
    )


def _take(bench: Bench, arrival: Arrival, base: Path, report: Progress) -> Evaluated:
    """Read a capture, find out where it belongs, evaluate it; runs off the window's thread."""
    capture = read_capture(arrival.path, arrival.columns, need_time=False, progress=report)
    topic = _topic_of(bench, arrival, capture)
    prepare_pyramids(capture.time, capture.columns)
    return evaluate(
        bench, topic, arrival.path, base=base, when=now(), columns=arrival.columns, progress=report, capture=capture
    )


def _topic_of(bench: Bench, arrival: Arrival, capture: Capture) -> str:
    """Return the waypoint that a capture goes to; raises Refusal where it fits none."""
    said = BY_KEY.get(arrival.topic or arrival.here)
    here = said.key if said is not None and said.captures else ""
    if arrival.topic and here:
        topic = here
    else:
        try:
            topic = guess_kind(bench, capture, arrival.here).topic
        except Refusal:
            if not here:
                raise
            topic = here  # the open page says what is wrong, or asks for the channels
    if topic == "commutation" and "hall_1" in capture and bench.settings.sensor.kind != "halls":
        raise Refusal(
            "the capture holds hall signals, but the plate says encoder",
            "set the angle sensor on the plate to halls first",
            where=str(arrival.path),
        )
    return topic
