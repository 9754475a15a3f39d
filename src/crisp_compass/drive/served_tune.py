"""The simulated drive's own auto-tune: it takes time, needs a shaft that is free, errs as such routines do, and on request ends without having run."""

from __future__ import annotations

import random
from collections.abc import Mapping

#: What may be asked: nothing, at standstill, with the shaft turning.
STANDSTILL, ROTATING = 1, 2
#: What it reports.
NEVER, RUNS, ENDED, BROKE_OFF = range(4)
#: Seconds that each takes, and share of the top speed at which it turns.
TAKES_S = {STANDSTILL: 2.5, ROTATING: 4.0}
SHARE = 0.5
#: What each finds, with the share by which it is off every time (cable and switches count as winding) and from run to run.
_FINDS = {
    STANDSTILL: {"resistance": (0.03, 0.004), "ld": (0.0, 0.01), "lq": (0.0, 0.01)}, ROTATING: {"flux_linkage": (0.0, 0.007)},
}  # fmt: skip


class AutoTune:
    """One routine at a time; ``truth`` are the motor's constants by the names of the parameters. ``skips`` makes it end at once, as if it had run."""

    def __init__(self, truth: Mapping[str, float], *, skips: bool = False, seed: int = 1) -> None:
        self._truth, self._skips = dict(truth), skips
        self._random = random.Random(seed)
        self.kind = 0
        self.state = NEVER
        self._left = 0.0

    @property
    def kinds(self) -> tuple[int, ...]:
        """The routines that find anything of this motor."""
        return tuple(k for k, finds in _FINDS.items() if finds.keys() & self._truth.keys())

    def begin(self, kind: int) -> None:
        """Begin a routine."""
        self.kind, self.state = kind, RUNS
        self._left = 0.3 if self._skips else TAKES_S[kind]

    def break_off(self) -> None:
        """End it without a result."""
        if self.state == RUNS:
            self.kind, self.state = 0, BROKE_OFF

    def pass_time(self, seconds: float, *, turned: bool) -> dict[str, float]:
        """Let time pass; return what was found once it has ended. One that needs the shaft to have ``turned`` finds nothing where it did not, and does not say so."""
        if self.state != RUNS:
            return {}
        self._left -= seconds
        if self._left > 0:
            return {}
        kind, self.kind, self.state = self.kind, 0, ENDED
        if self._skips or (kind == ROTATING and not turned):
            return {}
        return {
            name: self._truth[name] * (1 + bias) * (1 + spread * self._random.gauss(0.0, 1.0)) for name, (bias, spread) in _FINDS[kind].items() if name in self._truth
        }  # fmt: skip
