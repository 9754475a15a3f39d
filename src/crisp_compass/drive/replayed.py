"""A capture played again behind the port of every drive: its clock runs while it is armed, and nothing can be asked of it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.capture.model import Capture
from crisp_compass.drive.port import Identity, Surroundings, Token
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

#: Most rows a second that are handed over.
_MOST_ROWS = 1000.0
#: Signals of which a run shows something.
_SHOWN = ("speed", "i_q", "i_m", "i_a")


class ReplayedDrive:
    """The run that a capture holds. Raises Refusal where it holds no course of time that a run would show."""

    def __init__(self, capture: Capture) -> None:
        if len(capture.time) < 2:
            raise Refusal("this is no course of time", "a run with time, speed and current is needed", where=capture.source)
        if not any(name in capture for name in _SHOWN):
            raise Refusal("it holds neither a speed nor a current", "map channels to speed and i_q", where=capture.source, code="channels")
        self.identity = Identity(Path(capture.source).name, "replay")
        self.surroundings: Surroundings | None = None
        t = capture.time - capture.time[0]
        every = max(1, int(len(t) / (float(t[-1]) * _MOST_ROWS)))
        self._t = t[::every]
        self._columns = {name: values[::every] for name, values in capture.columns.items()}
        current = next((n for n in ("i_q", "i_m", "i_a") if n in capture), None)
        if current is not None:
            self._columns.setdefault("i_q", self._columns[current])
        #: Time [s] that it lasts, and where it stands.
        self.lasts, self.at = float(t[-1]), 0.0
        self._token: Token | None = None
        self.fault = ""

    @property
    def armed(self) -> bool:
        """Whether it is being played."""
        return self._token is not None

    @property
    def speed(self) -> float:
        """Speed [rad/s] where it stands; NaN where the capture tells none."""
        return float(np.interp(self.at, self._t, self._columns["speed"])) if "speed" in self._columns else float("nan")

    def parameters(self) -> Mapping[str, float]:
        """Return nothing: a capture holds none."""
        return {}

    def follow(self, bench: Bench) -> None:
        """Do nothing: what was recorded stays what it is."""

    def arm(self, holder: str) -> Token:
        """Play on, from the beginning once the end was reached."""
        if self.at >= self.lasts:
            self.at = 0.0
        self._token = Token(holder)
        return self._token

    def run_at(self, token: Token, speed: float) -> None:
        """Refuse: what was recorded cannot be told a speed."""
        raise Refusal("a capture cannot be told a speed", "choose the simulation or a drive on the link", code="replay")

    def disarm(self) -> None:
        """Stand still."""
        self._token = None

    def acknowledge(self) -> None:
        """Do nothing: it has no fault."""

    def exchange(self, token: Token | None, seconds: float) -> dict[str, FloatArray]:
        """Return the rows of the next ``seconds``: signal → (n,), SI."""
        if self._token is None:
            return {name: np.empty(0) for name in ("t", *self._columns)}
        first, self.at = self.at, min(self.at + seconds, self.lasts)
        part = (self._t >= first) & ((self._t < self.at) if self.at < self.lasts else (self._t <= self.at))
        if self.at >= self.lasts:
            self._token = None
        return {"t": self._t[part], **{name: values[part] for name, values in self._columns.items()}}
