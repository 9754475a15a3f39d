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
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture, Progress, read_capture
from crisp_compass.capture.preview import header_of
from crisp_compass.course.captures import Evaluated, add_evidence, evaluate, guess_kind, without
from crisp_compass.course.channels import remember, remembered
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.course.waypoints.commutation import uses_halls
from crisp_compass.errors import Refusal


@dataclass(frozen=True)
class Arrival:
    """A capture to be taken: ``topic`` where it was loaded on purpose, ``here`` the waypoint whose page was open when it was dropped,
    ``columns`` the mappings of its channels; ``asked`` once a person has said which channel is which; ``instead`` the evidence that it takes the place of."""

    path: Path
    topic: str = ""
    here: str = ""
    columns: tuple[str, ...] = ()
    asked: bool = False
    instead: Evidence | None = None


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
        columns = arrival.columns if arrival.asked else arrival.columns or self._remembered(arrival)
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
        arrival, self._now = self._now, None
        name, bench = Path(evaluated.evidence.file).name, self._document.bench
        if arrival is not None and arrival.instead is not None:
            bench = without(bench, arrival.instead)
        self._document.edit(f"load {name}", add_evidence(bench, evaluated.evidence), by_hand=False)
        self.taken.emit(evaluated)
        self._next()

    def _on_refused(self, refusal: Refusal) -> None:
        arrival, self._now = self._now, None
        if arrival is not None:
            known = bool(arrival.topic or arrival.here) and not arrival.asked
            (self.asks if refusal.code == "channels" and known else self.refused).emit(arrival, refusal)
        self._next()

    # ---- mappings of a scope, kept on the bench for its next files

    def _remembered(self, arrival: Arrival) -> tuple[str, ...]:
        return remembered(self._document.bench, arrival.topic or arrival.here, header_or_nothing(arrival.path))

    def remember_mappings(self, arrival: Arrival, columns: tuple[str, ...]) -> None:
        """Keep what was said of a file's columns for this bench's and leg's next file that has the same ones."""
        header = header_or_nothing(arrival.path)
        if header:
            topic = arrival.topic or arrival.here
            self._document.amend(remember(self._document.bench, topic, header, columns))


def header_or_nothing(path: Path) -> str:
    """Return what a file's header says of its columns, nothing where it cannot be read."""
    try:
        return header_of(path)
    except (Refusal, OSError):
        return ""


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
    if topic == "commutation" and "hall_1" in capture and not uses_halls(bench):
        raise Refusal(
            "the capture holds hall signals, but the plate says encoder",
            "set the angle sensor on the plate to halls first",
            where=str(arrival.path),
        )
    return topic
