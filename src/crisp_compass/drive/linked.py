"""A drive on a wire behind the port of every drive: its conversation goes on in a thread of its own, and its telemetry is handed over as it came."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.drive.conversation import Conversation, factor_to_si
from crisp_compass.drive.description import Description
from crisp_compass.drive.faults import faults_of
from crisp_compass.drive.port import Identity, Surroundings, Token
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

#: Rows that wait for whoever shows them; older ones are forgotten while nobody looks.
_MOST_ROWS = 1000


class LinkedDrive:
    """What is connected. :meth:`take` is fed with each look at its telemetry; the watchdog is the drive's own, which the conversation keeps content."""

    def __init__(self, talk: Conversation, description: Description) -> None:
        self.identity = Identity(description.name or talk.link, "link")
        self.surroundings: Surroundings | None = None
        self._talk, self._description = talk, description
        self._token: Token | None = None
        self._now: dict[str, float] = {}
        self._new: deque[tuple[float, dict[str, float]]] = deque(maxlen=_MOST_ROWS)
        entries = {e.signal: e for e in description.telemetry if e.signal}
        own = description.role("telemetry", "speed")
        if own is not None:
            entries.setdefault("speed", own)
        if "i_m" in entries:
            entries.setdefault("i_q", entries["i_m"])  # a brushed motor's torque current
        #: Signal → its name in the telemetry and what makes it SI.
        self._signals = {signal: (e.name, factor_to_si(e)) for signal, e in entries.items()}

    def take(self, t: float, values: Mapping[str, float]) -> None:
        """Take telemetry that was read at a time [s]."""
        self._now = dict(values)
        self._new.append((t, self._now))

    @property
    def armed(self) -> bool:
        """Whether it is commanded from here, or was asked to be."""
        return self._token is not None and self._talk.may_command

    @property
    def fault(self) -> str:
        """Names of the faults that stand, or an empty text."""
        return ", ".join(f.name for f in faults_of(self._description, self._now) if f.stands)

    @property
    def speed(self) -> float:
        """Mechanical speed as it was told last, rad/s; NaN where it is not told."""
        name, factor = self._signals.get("speed", ("", 1.0))
        return self._now.get(name, float("nan")) * factor

    def parameters(self) -> Mapping[str, float]:
        """Return nothing: what it holds is read by its own names."""
        return {}

    def follow(self, bench: Bench) -> None:
        """Do nothing: what is settled reaches it by being written, not by itself."""

    def arm(self, holder: str) -> Token:
        """Ask it to be armed; raises Refusal while a fault stands or somebody else commands it."""
        if self.fault:
            raise Refusal(f"the fault “{self.fault}” stands", "acknowledge it first", code="fault")
        if self._description.armed(self._now) and not self._talk.commands:
            raise Refusal("somebody else commands this drive", "let him disarm it first", code="armed")
        self._talk.arm()
        self._token = Token(holder)
        return self._token

    def run_at(self, token: Token, speed: float) -> None:
        """Ask for a speed [rad/s]; raises Refusal for a void token."""
        if token is not self._token or not self.armed:
            raise Refusal("the drive is disarmed", "arm it before commanding it", code="disarmed")
        self._talk.run_at(speed)

    def disarm(self) -> None:
        """Stop it, before anything else is said on the line."""
        self._token = None
        if self._talk.may_command:
            self._talk.stop()

    def acknowledge(self) -> None:
        """Clear the fault; the drive stays disarmed."""
        self.disarm()
        self._talk.send("acknowledge")

    def exchange(self, token: Token | None, seconds: float) -> dict[str, FloatArray]:
        """Return what came since the last call: signal → (n,), SI, NaN where it was not told."""
        rows = list(self._new)
        self._new.clear()
        columns = {"t": np.array([t for t, _ in rows])}
        for signal, (name, factor) in self._signals.items():
            columns[signal] = np.array([values.get(name, np.nan) for _, values in rows]) * factor
        return columns
