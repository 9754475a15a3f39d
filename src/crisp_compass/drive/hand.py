"""A hand on a drive that tests itself: arms it, sizes a test, watches what it does, and reads its capture memory.

Whatever waits here looks at the drive meanwhile: a fault, a drive that disarmed by itself, a speed beyond what was meant ends the test with the reason, and the drive is stopped.
"""

from __future__ import annotations

import contextlib
import math
import time
from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np

from crisp_compass.drive.conversation import factor_to_si
from crisp_compass.drive.description import Channel, Description, Entry, limits
from crisp_compass.drive.faults import faults_of
from crisp_compass.drive.link import AnyLink, Count, DeniedError
from crisp_compass.drive.registers import physical, raw_of
from crisp_compass.drive.served import ServedDrive
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

#: Time between two looks at the drive while a test runs, s: well within the watchdog.
_LOOK_S = 0.05
#: Commands that a drive must have for the program's own captures.
_NEEDED = (
    "arm", "stop", "test", "test_level", "test_swing", "test_half", "scope_channels", "scope_every", "scope_start", "scope_page",
)  # fmt: skip
#: What else a motor whose field turns needs.
TURNED = ("test_across", "test_angle", "test_speed", "test_ramp")
#: What a motor needs whose field is a voltage that turns.
CAGE = ("test_speed", "test_ramp", "hold")
#: What a current that swings faster and faster needs.
SWEPT = ("test_low", "test_high", "test_sweep")


class PagedLine(AnyLink, Protocol):
    """A line over which the window of a capture memory can be read."""

    def words(self, address: int, count: int) -> list[int]:
        """Return input registers."""


class LocalLine:
    """The simulated drive in this process, at the other end of no wire: its time passes when it is told to."""

    def __init__(self, drive: ServedDrive) -> None:
        self.drive, self._client, self.count = drive, object(), Count()
        self._passed = 0.0

    def read(self, entries: Sequence[Entry]) -> dict[str, float]:
        """Return the physical values of entries by name."""
        return {e.name: physical(e, self.drive.read(e)) for e in entries}

    def write(self, entry: Entry, raw: float) -> None:
        """Write a raw number; raises DeniedError where the drive refuses."""
        denied = self.drive.deny(entry, raw, self._client)
        if denied is not None:
            raise DeniedError({"address": 2, "limits": 3, "state": 6}[denied.value])
        self.drive.write(entry, raw, self._client)
        self.drive.fed(self._client)

    def words(self, address: int, count: int) -> list[int]:
        """Return words of the capture memory's window."""
        scope = self.drive.description.scope
        assert scope is not None
        return [int(self.drive.word(address - scope.window + k)) for k in range(count)]

    def pass_time(self, seconds: float) -> None:
        """Let the drive's time pass."""
        self._passed += seconds
        left = seconds
        while left > 1e-9:
            self.drive.tick(min(left, 0.005))
            left -= 0.005


    def clock(self) -> float:
        """Return the time that has passed, s."""
        return self._passed


def lacks(description: Description, needs: Sequence[str]) -> str:
    """Return what a drive lacks for the program's own captures, with the commands that its motor ``needs`` beside the usual ones, as a sentence without a full stop; empty if nothing."""
    if description.scope is None:
        return "its description names no capture memory (scope)"
    wanted = (*_NEEDED, *needs)
    missing = [n for n in wanted if description.role("commands", n) is None]
    missing += [n for n in ("armed", "scope_rows") if description.role("telemetry", n) is None]
    return f"its description names no {', '.join(missing)}" if missing else ""


class Hand:
    """A hand on one drive. ``pass_time`` lets seconds pass by ``clock``; it may raise Refusal to break a test off. ``saw`` is told what was read."""

    def __init__(
        self, line: PagedLine, description: Description, pass_time: Callable[[float], None], *, clock: Callable[[], float] = time.monotonic, saw: Callable[[dict[str, float]], None] = lambda _: None,
    ) -> None:  # fmt: skip
        self.line, self.description, self._pass, self.clock, self._saw = line, description, pass_time, clock, saw
        self._beat = 0
        #: Speed [rad/s] beyond which a test is broken off.
        self.most_speed = math.inf
        #: Whether it only looks on: a fault is then something to be seen, and ends nothing.
        self.looks_on = False
        self.now: dict[str, float] = {}
        self._looked = [e for lot in (description.telemetry, description.faults) for e in lot if e.readable]
        self._armed = False

    # ---- commands

    def command(self, role: str, value: float) -> None:
        """Write a command in SI; raises Refusal where the drive refuses or has none."""
        entry = self.description.role("commands", role)
        if entry is None:
            raise Refusal(f"the drive has no command {role}", "add it to its description")
        low, high = limits(entry)
        told = value / factor_to_si(entry)
        if not low - 1e-9 * abs(low) <= told <= high + 1e-9 * abs(high):
            raise Refusal(f"{role.replace('_', ' ')} of {told:.6g} {entry.unit} is outside what the drive takes, {low:.6g} to {high:.6g}", "choose a smaller test")
        try:
            self.line.write(entry, raw_of(entry, told))
        except DeniedError as denied:
            raise Refusal(f"the drive refuses {role.replace('_', ' ')}: {denied.text}", "look at what it reports, then try again") from None

    def arm(self) -> None:
        """Take command of the drive."""
        self.command("arm", 1.0)
        self._armed = True

    def go_on(self) -> None:
        """Go on showing a drive that is armed already that somebody is there."""
        self._armed = True

    def ready(self) -> None:
        """Wait until the shaft rests, and take command of the drive."""
        self.settle_down(20.0)
        self.arm()

    def stop(self) -> None:
        """Stop and disarm, whatever was going on."""
        self._armed = False
        for role, value in (("stop", 1.0), ("arm", 0.0)):
            with contextlib.suppress(Refusal):
                self.command(role, value)

    def begin(self, kind: int, **sizes: float) -> None:
        """Size a test and begin it; sizes that are not named are zero."""
        known = ("test_level", "test_swing", "test_half", *(n for n in TURNED[:3] if self.description.role("commands", n) is not None))
        for role in known:
            self.command(role, sizes.get(role.removeprefix("test_"), 0.0))
        if self.description.role("commands", "test_sweep") is not None:
            for role in SWEPT:
                self.command(role, sizes.get(role.removeprefix("test_"), 0.0))
        if "ramp" in sizes:
            self.command("test_ramp", sizes["ramp"])
        self.command("test", float(kind))

    def look(self) -> dict[str, float]:
        """Read the telemetry [SI where its unit is known]; raises Refusal where the drive tripped, disarmed or runs away."""
        values = self.line.read(self._looked)
        self._saw(values)
        self.now = {e.name: values[e.name] * factor_to_si(e) for e in self._looked if e.name in values}
        if self.looks_on:
            return self.now
        tripped = [f.name for f in faults_of(self.description, values) if f.stands]
        if tripped:
            raise Refusal(f"the drive tripped: {', '.join(tripped)}", "look at the motor's wiring and at its limits, acknowledge, and try with less current", code="tripped")
        armed = self.description.role("telemetry", "armed")
        if self._armed and armed is not None and values.get(armed.name) == 0.0:
            raise Refusal("the drive disarmed by itself", "look at its watchdog and at who else commands it", code="disarmed")
        if abs(self.speed) > self.most_speed:
            raise Refusal(f"the shaft ran faster than {self.most_speed:.4g} rad/s, which was not meant", "look at the pole pairs and at the load", code="too-fast")
        return self.now

    @property
    def speed(self) -> float:
        """Speed at the last look, rad/s; 0 where none is told."""
        entry = self.description.role("telemetry", "speed")
        return self.now.get(entry.name, 0.0) if entry is not None else 0.0

    def signal(self, name: str) -> float | None:
        """Return the telemetry that is a signal of the capture format at the last look [SI], or None."""
        entry = next((e for e in self.description.telemetry if e.signal == name), None)
        return self.now.get(entry.name) if entry is not None else None

    def wait(self, seconds: float) -> None:
        """Let time pass, look at the drive meanwhile and show it that somebody is there."""
        left = seconds
        while left > 1e-9:
            span = min(left, _LOOK_S)
            self._pass(span)
            left -= span
            self._feed(self._armed)
            self.look()

    def _feed(self, armed: bool) -> None:
        """Show an armed drive that somebody is there."""
        if armed and self.description.role("commands", "heartbeat") is not None:
            self._beat = (self._beat + 1) % 1000
            self.command("heartbeat", float(self._beat))

    def wait_armed(self, seconds: float) -> None:
        """Let time pass while the drive may disarm by itself at the end of what it does."""
        armed, self._armed = self._armed, False
        try:
            self._feed(armed)
            self.wait(seconds)
        finally:
            self._armed = armed

    def settle_down(self, longest: float) -> None:
        """Wait until the shaft rests, at most ``longest`` s."""
        waited, calm = 0.0, 0
        while waited < longest and calm < 4:
            self.wait(_LOOK_S)
            waited += _LOOK_S
            calm = calm + 1 if abs(self.speed) < 0.2 else 0

    # ---- captures

    def has(self, *names: str) -> bool:
        """Tell whether the memory captures all of these channels, or signals that are bits of one."""
        return all(self._channel(n) is not None for n in names)

    def _channel(self, name: str) -> int | None:
        channels = self.description.scope.channels if self.description.scope is not None else ()
        return next((k for k, c in enumerate(channels) if name in (c.name, c.signal, *c.bits)), None)

    @property
    def period(self) -> float:
        """The drive's sampling period, s."""
        assert self.description.scope is not None
        return self.description.scope.period_s

    def most_rows(self, names: Sequence[str]) -> int:
        """Return how many rows of these channels the memory holds."""
        assert self.description.scope is not None
        return self.description.scope.words // max(len({self._channel(n) for n in names}), 1)

    def trigger_on(self, name: str | None, level: float = 0.0, *, rising: bool = True, before: int = 0) -> None:
        """Let the next captures begin where a channel crosses a level (in the channel's unit), with ``before`` rows of before; None begins at once."""
        if name is None and self.description.role("commands", "scope_trigger") is None:
            return
        place = self._channel(name) if name is not None else -1
        if place is None:
            raise Refusal(f"the drive's capture memory has no {name}", "look at its description")
        self.command("scope_level", level)
        self.command("scope_before", float(before))
        self.command("scope_trigger", float((place + 1) * (1 if rising else -1)))

    def open_scope(self, names: Sequence[str], rows: int, every: int = 1) -> None:
        """Begin a capture of channels."""
        places = []
        for name in names:
            place = self._channel(name)
            if place is None:
                raise Refusal(f"the drive's capture memory has no {name}", "look at its description")
            places.append(place)
        self.command("scope_channels", float(sum(1 << k for k in set(places))))
        self.command("scope_every", float(every))
        self.command("scope_start", float(rows))
        self._taking = (sorted(set(places)), rows, every)

    def close_scope(self, patience: float = 0.0) -> dict[str, FloatArray]:
        """Wait until the memory is full, ``patience`` [s] longer where a trigger is awaited, and return it: t [s] and every channel by its signals [SI, a position in rad unwrapped], (n,)."""
        assert self.description.scope is not None
        places, rows, every = self._taking
        told = self.description.role("telemetry", "scope_rows")
        assert told is not None
        self.wait(2 * self.period)
        for _ in range(2 + math.ceil((4.0 * rows * every * self.period + patience) / _LOOK_S)):
            self.look()
            if self.now.get(told.name, 0.0) >= rows:
                break
            self.wait(_LOOK_S)
        else:
            raise Refusal("the drive's capture memory does not fill", "look at the trigger" if patience else "look at its description: period, rows and channels")
        scope = self.description.scope
        wanted, words = rows * len(places), list[int]()
        for page in range(math.ceil(wanted / scope.page)):
            self.command("scope_page", float(page))
            words += self.line.words(scope.window, min(scope.page, wanted - len(words)))
            if page % 20 == 19:
                self.wait(1e-3)
        table = np.array(words, dtype=np.float64).reshape(rows, len(places))
        found: dict[str, FloatArray] = {"t": np.arange(float(rows)) * (every * self.period)}
        for column, place in enumerate(places):
            found |= _signals(scope.channels[place], table[:, column])
        return found


def _signals(channel: Channel, words: FloatArray) -> dict[str, FloatArray]:
    """Return the signals [SI] of one channel's words, 0 to 65535."""
    if channel.bits:
        whole = words.astype(np.int64)
        return {name: (whole >> k & 1).astype(np.float64) for k, name in enumerate(channel.bits)}
    raw = np.where(words >= 32768, words - 65536, words) if channel.type == "int16" and not channel.wraps else words
    if channel.wraps:
        steps = np.diff(raw, prepend=raw[:1])
        raw = raw[0] + np.cumsum((steps + 32768) % 65536 - 32768)
    entry = Entry(name=channel.name, type=channel.type, unit=channel.unit)
    return {channel.signal or channel.name: raw * (channel.scale * factor_to_si(entry))}
