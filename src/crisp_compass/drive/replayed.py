"""A capture played again behind the port of every drive: its clock runs while it is armed, and nothing can be asked of it."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.capture.model import Capture
from crisp_compass.drive.port import Identity, Surroundings, Token
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

#: Most rows a second that are handed over.
_MOST_ROWS = 1000.0
#: Signals of which a run shows something.
#: The reference of the drive beside is renewed so often, s.
_PIECE = 0.005
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
        #: The simulated drive that is run over the recorded reference beside it, and its token.
        self._beside: SimulatedDrive | None = None
        self._held: Token | None = None

    @property
    def has_beside(self) -> bool:
        """Whether a simulated drive runs beside it."""
        return self._beside is not None

    def beside(self, bench: Bench) -> None:
        """Run the simulated drive of a bench over the recorded reference, from the beginning; nothing where either is missing."""
        self._beside, self.at, self._token = None, 0.0, None
        if "speed_ref" in self._columns:
            with contextlib.suppress(Refusal):
                self._beside = SimulatedDrive(bench)
                self._held = self._beside.arm("beside a capture")

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
        return {"t": self._t[part], **{name: values[part] for name, values in self._columns.items()}, **self._simulated(first, self._t[part])}

    def _simulated(self, first: float, at: FloatArray) -> dict[str, FloatArray]:
        """Run the drive beside from ``first`` to where it stands [s]; return its speed and torque current at times (n,)."""
        if self._beside is None or self._held is None or not len(at):
            return {}
        parts, now = [], first
        while now < self.at - 1e-9:
            step = min(_PIECE, self.at - now)
            with contextlib.suppress(Refusal):  # a trip, which its course shows
                self._beside.run_at(self._held, float(np.interp(now + 0.5 * step, self._t, self._columns["speed_ref"])))
            parts.append(self._beside.exchange(self._held, step))
            now += step
        t = np.concatenate([p["t"] for p in parts])
        known = len(t) > 0
        return {f"{name}_sim": np.interp(at - first, t - t[0], np.concatenate([p[name] for p in parts])) for name in ("speed", "i_q") if known}
