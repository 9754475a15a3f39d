"""What a drive is to the program: identity, parameters, telemetry, faults, and commands that only an armed caller can give.

Nothing moves until somebody arms the drive. Arming hands out a token, and every command shows it: a newer token, a fault, a stop
or a caller who falls silent for longer than the watchdog makes it void, and the drive lets the shaft go. Stopping needs no token.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal, Protocol

from crisp_compass.bench.models import Bench
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

#: A caller silent for longer is taken for lost, s.
WATCHDOG_S = 0.25


@dataclass(frozen=True)
class Identity:
    """What answers: its name, and whether it is a simulation, a drive on a link, or a capture that is replayed."""

    name: str
    kind: Literal["simulation", "link", "replay"]


@dataclass(frozen=True, eq=False)
class Token:
    """Leave to command one drive, until it is disarmed; equal to nothing but itself."""

    holder: str = ""


class Surroundings(Protocol):
    """What stands around a drive on the bench and can be set from here; a real bench has none."""

    @property
    def supply(self) -> float:
        """Supply voltage, V."""

    def set_load(self, torque: float, *, drives: bool = False) -> None:
        """Set the load torque [N·m]; it brakes unless it ``drives``."""

    def set_supply(self, voltage: float) -> None:
        """Set the supply voltage [V]."""


class Port(Protocol):
    """A drive. Its telemetry has the names of the capture format, SI; what it does not tell is missing or NaN."""

    identity: Identity
    surroundings: Surroundings | None

    @property
    def armed(self) -> bool:
        """Whether somebody may command it now."""

    @property
    def fault(self) -> str:
        """Name of the latched fault, or an empty text."""

    @property
    def speed(self) -> float:
        """Mechanical speed, rad/s."""

    def parameters(self) -> Mapping[str, float]:
        """Return what the drive holds: gains and limits in SI by the names of :class:`plant.parameters.Control`."""

    def follow(self, bench: Bench) -> None:
        """Take over what is settled, without stopping; raises Refusal naming what is missing."""

    def arm(self, holder: str) -> Token:
        """Enable the drive at rest; raises Refusal while a fault stands. A token given before is void."""

    def run_at(self, token: Token, speed: float) -> None:
        """Ask for a speed [rad/s]; raises Refusal with code ``disarmed`` for a void token."""

    def disarm(self) -> None:
        """Let the shaft go, whoever holds the token."""

    def acknowledge(self) -> None:
        """Clear the fault; the drive stays disarmed."""

    def exchange(self, token: Token | None, seconds: float) -> dict[str, FloatArray]:
        """Take the telemetry of the last ``seconds``: name → (n,). With a valid token this also tells that its holder is there."""


@dataclass
class Arming:
    """The rules of arming, for every port: who holds the token, and for how long he has been silent."""

    watchdog: float = WATCHDOG_S
    token: Token | None = field(default=None)
    _silent: float = 0.0

    def arm(self, holder: str) -> Token:
        """Hand out a fresh token."""
        self.token, self._silent = Token(holder), 0.0
        return self.token

    def drop(self) -> None:
        """Make the token void."""
        self.token = None

    def check(self, token: Token) -> None:
        """Refuse a void token; a valid one shows that its holder is there."""
        if self.token is None or token is not self.token:
            raise Refusal("the drive is disarmed", "arm it before commanding it", code="disarmed")
        self._silent = 0.0

    def pass_time(self, token: Token | None, seconds: float) -> float:
        """Let time pass up to a sign of a holder (None: no sign); return the seconds of it for which the command still held."""
        if self.token is None:
            return 0.0
        held = min(max(self.watchdog - self._silent, 0.0), seconds)
        self._silent += seconds
        if self._silent > self.watchdog:
            self.drop()
        elif token is self.token:
            self._silent = 0.0
        return held
