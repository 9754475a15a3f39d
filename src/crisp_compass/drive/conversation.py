"""A conversation with a drive in a thread of its own: telemetry at a steady rate, requests between, a stop before everything else.

Whoever started it shows again and again that he is there (:meth:`Conversation.alive`); when he does not, nothing is sent any more, and the drive's own watchdog stops
the motor. So a window that hangs is as good as one that is gone.
"""

from __future__ import annotations

import contextlib
import queue
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from crisp_compass.drive.bus_load import look_s, period_s, portions
from crisp_compass.drive.cia402 import next_word, state_of
from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.link import AnyLink, DeniedError, open_link
from crisp_compass.drive.registers import raw_of
from crisp_compass.drive.stream import StreamLink
from crisp_compass.drive.writing import Written, write_and_check
from crisp_compass.errors import Refusal
from crisp_compass.quantities import UNITS, to_si

#: Time between two looks at the telemetry, s, and silence of the owner after which nothing is sent any more, s.
PERIOD_S, OWNER_S = 0.05, 0.3
#: Time between two looks at a stream, s: what came meanwhile is taken at once, and no more than a look takes may gather.
_STREAM_S = 0.02
#: Rounds over which the time of an answer is averaged.
_AVERAGED = 20
#: Most steps that arming by a control word takes.
_MOST_STATES = 12


@dataclass(frozen=True)
class Telemetry:
    """Values by name at a time [s] since the conversation began, and how the line does: frames ``asked`` and ``failed``, share of its time that is taken (0: not known)."""

    t: float
    values: dict[str, float]
    answer_s: float
    rounds: int
    asked: int = 0
    failed: int = 0
    load: float = 0.0


@dataclass(frozen=True)
class Event:
    """Something that happened: ``connected``, ``lost``, ``telemetry``, ``rows`` of a stream (their numbers or times, and values), ``values``, ``written``, ``refused``, ``occupied`` and what an occupation told, ``free`` (``text``: what it
    was refused for)."""

    kind: str
    text: str = ""
    told: Any = None
    telemetry: Telemetry | None = None
    values: dict[str, float] = field(default_factory=dict)
    written: tuple[Written, ...] = ()


@dataclass(frozen=True)
class Occupied:
    """What work that has the line to itself is given: ``pass_time`` [s], which may refuse, and whom it tells what it ``saw`` and what it does."""

    pass_time: Callable[[float], None]
    saw: Callable[[dict[str, float]], None]
    tell: Callable[[Any], None]


def _forgotten() -> None:
    """Do nothing about what a stop drops."""


@dataclass(frozen=True)
class _Job:
    """What is asked for, and what is done where a stop comes before it."""

    run: Callable[[AnyLink], None]
    dropped: Callable[[], None] = _forgotten


def factor_to_si(entry: Entry) -> float:
    """Return what a physical value of an entry is multiplied with to be SI; 1 for a unit that nobody knows."""
    return to_si(1.0, entry.unit) if entry.unit in UNITS else 1.0


class Conversation:
    """One conversation over ``link``; ``tell`` is called from its thread with every event."""

    def __init__(self, link: str, description: Description, tell: Callable[[Event], None]) -> None:
        self.link, self.description = link, description
        self._tell = tell
        self._jobs: queue.SimpleQueue[_Job] = queue.SimpleQueue()
        self._ended, self._stop = threading.Event(), threading.Event()
        self._alive = self._began = time.monotonic()
        self._beat = 0
        self._armed = self._asked = self._denied = False
        self._thread = threading.Thread(target=self._work, name="drive", daemon=True)
        self._telemetry = [e for lot in (description.telemetry, description.faults) for e in lot if e.readable]

    def start(self) -> None:
        """Begin: ``connected`` or ``lost`` tells how it went."""
        self._thread.start()

    def close(self, *, wait: float = 2.0) -> None:
        """Hang up; the motor is stopped first where it was armed from here, and somebody else's is left alone."""
        self._ended.set()
        if self._thread.is_alive():
            self._thread.join(wait)

    @property
    def commands(self) -> bool:
        """Whether the drive was armed from here, and neither stopped nor disarmed since."""
        return self._armed

    @property
    def may_command(self) -> bool:
        """Whether it is armed from here, or was asked to be."""
        return self._armed or self._asked

    def alive(self) -> None:
        """Show that the owner is there."""
        self._alive = time.monotonic()

    # ---- requests

    def stop(self) -> None:
        """Stop the motor before anything else is done."""
        self._stop.set()

    def arm(self) -> None:
        """Take command."""
        self._asked, self._denied = True, False
        self._jobs.put(_Job(lambda line: self._command(line, "arm", 1.0)))

    def run_at(self, speed: float) -> None:
        """Ask for a speed [rad/s]."""
        self._jobs.put(_Job(lambda line: self._command(line, "speed", speed)))

    def send(self, name: str, value: float = 1.0) -> None:
        """Write a command by its name: acknowledge, restart, restore, or the switches of simulated inputs."""
        self._jobs.put(_Job(lambda line: self._command(line, name, value)))

    def read(self, entries: Sequence[Entry]) -> None:
        """Read entries; ``values`` brings them."""
        wanted = list(entries)
        self._jobs.put(_Job(lambda line: self._tell(Event("values", values=line.read(wanted)))))

    def write(self, values: Sequence[tuple[Entry, float]]) -> None:
        """Write values and read them back; ``written`` tells what became of them."""
        wanted = list(values)
        self._jobs.put(_Job(lambda line: self._tell(Event("written", written=tuple(write_and_check(line, self.description, e, v) for e, v in wanted)))))

    def _by_word(self, line: AnyLink, word: Entry, role: str) -> None:
        """Arm or acknowledge through the control word of CiA 402, one state after the other."""
        status = self.description.role("telemetry", "statusword")
        try:
            if role == "acknowledge":
                for value in (0x00, 0x80, 0x00):
                    line.write(word, float(value))
                return
            for _ in range(_MOST_STATES):
                told = line.read([status]) if status is not None else {}
                following = next_word(state_of(int(next(iter(told.values()), 0.0))))
                if following is None:
                    self._armed = True
                    return
                line.write(word, float(following))
                time.sleep(0.02)
            raise Refusal("it does not come to operation enabled", "look at its enable input and at what it reports")
        except (DeniedError, Refusal) as error:
            self._arming_refused(role)
            text = error.text if isinstance(error, DeniedError) else error.sentence.rstrip(".")
            self._tell(Event("refused", text=f"The drive refuses to {role}: {text}."))

    def occupy(self, work: Callable[[AnyLink, Occupied], None]) -> None:
        """Let ``work`` have the line to itself: it tells what it does by ``occupied``, and ``free`` ends it. A stop breaks it off."""
        self._asked = True
        self._jobs.put(_Job(lambda line: self._occupy(line, work), self._never_began))

    def borrow(self, work: Callable[[AnyLink, Occupied], None]) -> None:
        """Let ``work`` have the line for a while; the drive goes on doing what it does, and is stopped only where somebody stops it."""
        self._jobs.put(_Job(lambda line: self._borrow(line, work), self._never_began))

    def _never_began(self) -> None:
        self._tell(Event("free", text=Refusal("stopped", "it had not begun", code="stopped").sentence))

    def _borrow(self, line: AnyLink, work: Callable[[AnyLink, Occupied], None]) -> None:
        refused = ""
        try:
            work(line, Occupied(lambda seconds: self._pass_on(line, seconds), self._saw, lambda told: self._tell(Event("occupied", told=told))))
        except Refusal as refusal:
            refused = refusal.sentence
        self._tell(Event("free", text=refused))

    def _occupy(self, line: AnyLink, work: Callable[[AnyLink, Occupied], None]) -> None:
        refused = ""
        try:
            work(line, Occupied(self._pass, self._saw, lambda told: self._tell(Event("occupied", told=told))))
        except Refusal as refusal:
            refused = refusal.sentence
        finally:
            self._halt(line)
        self._tell(Event("free", text=refused))

    def _pass(self, seconds: float) -> None:
        """Let time pass for an occupation; raises Refusal once it has to end."""
        until = time.monotonic() + seconds
        while True:
            if self._stop.is_set() or self._ended.is_set():
                raise Refusal("stopped", "what was found until then stays", code="stopped")
            if time.monotonic() - self._alive > OWNER_S:
                raise Refusal("the window did not answer", "the drive was stopped; begin again", code="stopped")
            left = until - time.monotonic()
            if left <= 0:
                return
            time.sleep(min(left, 0.02))

    def _pass_on(self, line: AnyLink, seconds: float) -> None:
        """Let time pass for work that only looks on: what is asked meanwhile is done."""
        with contextlib.suppress(queue.Empty):
            while not self._stop.is_set():
                self._jobs.get_nowait().run(line)
        self._pass(seconds)

    def _saw(self, values: dict[str, float]) -> None:
        """Tell what an occupation read."""
        self._tell(Event("telemetry", telemetry=Telemetry(time.monotonic() - self._began, values, 0.0, 0)))

    # ---- the thread

    def _command(self, line: AnyLink, role: str, value: float) -> None:
        entry = self.description.role("commands", role)
        word = self.description.role("commands", "controlword")
        if entry is None and word is not None and role in ("arm", "acknowledge"):
            self._by_word(line, word, role)
            return
        if entry is None:
            self._arming_refused(role)
            self._tell(Event("refused", text=f"The description names no command “{role}”: add it, or do it at the drive."))
            return
        arms = word is not None or self.description.role("commands", "arm") is not None
        if role == "speed" and arms and not self._armed:  # a speed that is left in the drive would run it once somebody else arms it
            if not self._denied:
                self._tell(Event("refused", text="The drive is not armed: arm it before it is told a speed."))
            return
        physical = value / factor_to_si(entry) if role == "speed" else value
        try:
            line.write(entry, raw_of(entry, physical))
        except DeniedError as denied:
            self._tell(Event("refused", text=f"The drive refuses to {'run at that speed' if role == 'speed' else role}: {denied.text}."))
            self._arming_refused(role)
        else:
            self._armed = self._armed or role == "arm"

    def _arming_refused(self, role: str) -> None:
        if role == "arm":
            self._asked, self._denied = False, True

    def _work(self) -> None:
        try:
            with open_link(self.link, self.description) as line:
                first = self._telemetry[:1] or list(self.description.parameters[:1])
                if first:
                    line.read(first)  # whoever answers nothing is not connected
                self._tell(Event("connected"))
                self._talk(line)
        except Refusal as refusal:
            self._tell(Event("lost", text=refusal.sentence))
        except Exception as error:  # whatever a device sends: the window lives on, and the drive's watchdog stops the motor
            self._tell(Event("lost", text=f"The conversation broke off ({type(error).__name__}); connect again."))

    def _talk(self, line: AnyLink) -> None:
        began, due, rounds, answer = self._began, time.monotonic(), 0, 0.0
        busy = look_s(self.description, self._telemetry, serial=self.link.startswith(("serial:", "pty:"))) if not self.description.streams else 0.0
        period, fed = period_s(busy, PERIOD_S) if not self.description.streams else _STREAM_S, 0.0
        feed_every = 0.3 * self.description.watchdog.seconds if self.description.watchdog is not None else period
        parts = portions(self.description, self._telemetry, serial=self.link.startswith(("serial:", "pty:")), most_s=feed_every) if not self.description.streams else []
        while True:
            if self._stop.is_set():
                self._halt(line)
            if self._ended.is_set():
                if self._armed or self._asked:
                    self._halt(line)
                return
            if time.monotonic() - self._alive > OWNER_S:
                time.sleep(0.02)  # nothing is sent: the drive's watchdog does the rest
                continue
            if self._armed and time.monotonic() - fed > feed_every:  # looks may come more seldom than a slow line's drive wants to hear of somebody
                self._feed(line)
                fed = time.monotonic()
            try:
                job = self._jobs.get(timeout=max(min(due - time.monotonic(), 0.02), 0.0))
            except queue.Empty:
                job = None
            if job is not None:
                job.run(line)
                continue
            if time.monotonic() < due:
                continue
            asked = time.monotonic()
            self._feed(line)
            fed = time.monotonic()
            values = self._rows(line) if isinstance(line, StreamLink) else {}
            for part in parts:
                if self._stop.is_set() or time.monotonic() - self._alive > OWNER_S:
                    break  # a slow line must not hold a stop up, nor an owner's silence
                if time.monotonic() - fed > feed_every:
                    self._feed(line)
                    fed = time.monotonic()
                values |= line.read(part)
            if len(values) < len(self._telemetry) and (self._stop.is_set() or time.monotonic() - self._alive > OWNER_S):
                continue
            if self._armed and not self.description.armed(values):
                self._armed = self._asked = False  # it disarmed by itself
            took = time.monotonic() - asked
            rounds += 1
            answer += (took - answer) / min(rounds, _AVERAGED)
            due = asked + max(period, took)
            count, load = line.count, busy / max(period, took)
            self._tell(Event("telemetry", telemetry=Telemetry(asked - began, values, answer, rounds, asked=count.asked, failed=count.failed, load=load)))

    def _rows(self, line: StreamLink) -> dict[str, float]:
        """Take every row that a stream has sent, tell them, and return the newest."""
        numbers, values = line.rows()
        self._tell(Event("rows", told=(numbers, values)))
        return {e.name: float(v) for e, v in zip(self.description.telemetry, values[-1], strict=True)}

    def _feed(self, line: AnyLink) -> None:
        """Send a heartbeat while armed."""
        beat = self.description.role("commands", "heartbeat")
        word = self.description.role("commands", "controlword")
        if self._armed and beat is None and word is not None:
            with contextlib.suppress(DeniedError):
                line.write(word, float(0x0F))
        if beat is None or not self._armed:
            return
        self._beat = (self._beat + 1) % 1000
        with contextlib.suppress(DeniedError):
            line.write(beat, float(self._beat))

    def _halt(self, line: AnyLink) -> None:
        """Stop and disarm, and drop what was asked before."""
        self._stop.clear()
        self._armed = self._asked = False
        while not self._jobs.empty():
            self._jobs.get_nowait().dropped()
        word = self.description.role("commands", "controlword")
        if word is not None and self.description.role("commands", "arm") is None:
            with contextlib.suppress(DeniedError):
                line.write(word, float(0x02))  # quick stop; the drive lets go at its end
        for role, value in (("stop", 1.0), ("arm", 0.0)):
            entry: Any = self.description.role("commands", role)
            if entry is not None:
                with contextlib.suppress(DeniedError):
                    line.write(entry, value)
