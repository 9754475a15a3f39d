"""How finely an encoder tells speed, by counting and by timing, and how fast it may turn.

Counting over one period T of a loop sees steps of 2π/(N·T). Timing one count with a timer of f hertz sees, at the speed
ω, steps of ω²·N/(2π·f) (one tick of the period 2π·f/(N·ω)). The two are alike at ω = 2π·√(f/T)/N.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.errors import Refusal

#: Timer clocks that a filtered input needs for one edge (common practice).
CLOCKS_PER_EDGE = 4


@dataclass(frozen=True)
class SpeedResolution:
    """All rad/s, mechanical: ``counting`` step, ``alike`` speed below which timing is finer, ``top`` the input follows."""

    counting: float
    alike: float
    top: float
    counts: int
    timer_hz: float

    def timing(self, speed: float) -> float:
        """Return the step that timing one count sees at ``speed`` [rad/s]."""
        return speed**2 * self.counts / (2 * math.pi * self.timer_hz)


def speed_resolution(counts: int, loop_hz: float, timer_hz: float) -> SpeedResolution:
    """Return the resolution of ``counts`` a turn (×4) at a loop of ``loop_hz`` and a timer of ``timer_hz``.

    Raises Refusal for figures that are not above zero.
    """
    if counts < 1 or not loop_hz > 0 or not timer_hz > 0:
        raise Refusal(
            "the speed resolution cannot be computed", "counts, loop rate and timer clock must be above zero"
        )
    one = 2 * math.pi / counts
    return SpeedResolution(
        one * loop_hz, one * math.sqrt(timer_hz * loop_hz), one * timer_hz / CLOCKS_PER_EDGE, counts, timer_hz=timer_hz
    )
