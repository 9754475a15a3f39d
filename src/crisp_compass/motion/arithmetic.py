"""Ways and rates in every base that a drive counts in, the gear of whole numbers between pulses and counts, and what a pulse input can take.

A quadrature encoder of N lines gives N, 2N or 4N counts a turn, as one, two or all edges of both channels are counted; a two-phase stepper of P pole pairs makes 4P full steps a turn.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction

from crisp_compass.errors import Refusal

#: Moves of one turn for which a drift is told.
MANY = 1_000_000


@dataclass(frozen=True)
class Bases:
    """What a turn is: ``steps`` full steps and ``entries`` table entries to each (None: no stepper), ``lines`` of an encoder (None: none), ``travel`` [m] a radian at the load (None: not said)."""

    steps: int | None = None
    entries: int = 1
    lines: float | None = None
    travel: float | None = None

    def all_of(self, angle: float) -> dict[str, float]:
        """Return an angle of the shaft [rad] in every base there is: turns, degrees, full steps, table entries, counts at ×1, ×2 and ×4, metres at the load."""
        turns = angle / (2 * math.pi)
        found = {"turns": turns, "degrees": 360 * turns}
        if self.steps is not None:
            found |= {"full steps": turns * self.steps, "table entries": turns * self.steps * self.entries}
        if self.lines is not None:
            found |= {f"counts ×{k}": turns * self.lines * k for k in (1, 2, 4)}
        if self.travel is not None:
            found["metres"] = angle * self.travel
        return found

    def angle_of(self, value: float, base: str) -> float:
        """Return an angle [rad] from a value in a base; raises Refusal for a base that is not there."""
        one = self.all_of(2 * math.pi).get(base)
        if not one:
            raise Refusal(f"there are no {base} here", "enter what makes them on the plate")
        return 2 * math.pi * value / one


@dataclass(frozen=True)
class Gear:
    """A gear of whole numbers: ``up`` counts for ``down`` pulses; ``wanted`` counts a pulse; ``drift`` counts that it is off after a turn of ``counts``, and after a MANY of them."""

    up: int
    down: int
    wanted: float
    counts: float

    @property
    def exact(self) -> bool:
        """Whether nothing is lost."""
        return abs(self.up / self.down / self.wanted - 1.0) < 1e-13

    @property
    def drift(self) -> float:
        """Counts that a turn is off."""
        return 0.0 if self.exact else self.counts * (self.up / self.down / self.wanted - 1.0)

    @property
    def drift_of_many(self) -> float:
        """Counts that a million moves of a turn, all the same way, are off."""
        return MANY * self.drift


def gear(counts: float, pulses: float, most: int = 65535) -> Gear:
    """Return the gear of ``counts`` to ``pulses`` a turn with integers up to ``most``: reduced, the nearest where they do not fit (best rational approximation).

    Raises Refusal for what is not above zero, or a ratio beyond ``most``.
    """
    if not (counts > 0 and pulses > 0 and math.isfinite(counts) and math.isfinite(pulses)):
        raise Refusal("a gear needs counts and pulses above zero", "check the way a pulse is to be")
    if most < 1:
        raise Refusal(f"integers up to {most} make no gear", "1 or more", where="--most")
    ratio = Fraction(counts).limit_denominator(10**9) / Fraction(pulses).limit_denominator(10**9)
    if ratio > most or 1 / ratio > most:
        raise Refusal(f"{float(ratio):.4g} counts a pulse are beyond integers up to {most}", "another way for a pulse")
    found = ratio.limit_denominator(most)
    while found.numerator > most:  # the numerator binds: fewer pulses below
        found = ratio.limit_denominator(max(found.denominator - 1, 1)) if ratio < 1 else 1 / (1 / ratio).limit_denominator(most)
    return Gear(found.numerator, found.denominator, float(ratio), counts)


@dataclass(frozen=True)
class PulseInput:
    """What a pulse input takes: highest frequency [Hz], shortest pulse [s], time that the direction stands before the first pulse [s], and a filter that swallows what is shorter [s]; NaN or 0 where not said."""

    most_hz: float = math.nan
    shortest: float = 0.0
    setup: float = 0.0
    filtered: float = 0.0
    form: str = "step-direction"

    @property
    def reach(self) -> tuple[float, str]:
        """Return the highest rate [Hz] of square pulses that it takes, and what ends it; infinite where nothing is said.

        A pulse and its pause are each half a period: both must be as long as the shortest pulse, and longer than what the filter swallows. Of two tracks a quarter apart every edge is a pulse: each track
        has a fourth of the rate, and half of its period is two pulses long.
        """
        tracks = 4.0 if self.form == "quadrature" else 1.0
        ends = [(tracks * self.most_hz, "the input's frequency")] if self.most_hz > 0 else []
        ends += [(0.5 * tracks / t, name) for t, name in ((self.shortest, "the shortest pulse"), (self.filtered, "the pulse filter")) if t > 0]
        return min(ends) if ends else (math.inf, "nothing that is said")


@dataclass(frozen=True)
class Timing:
    """Levels (0 or 1) of the two lines of a command over ``time`` (n,) [s] around a reversal, three pulses to either side: ``first`` and ``second`` (n,); ``waits`` [s] between the last pulse of the one way and the first of the other."""

    time: tuple[float, ...]
    first: tuple[int, ...]
    second: tuple[int, ...]
    waits: float


def reversal(limits: PulseInput, rate: float) -> Timing:
    """Return the two lines around a reversal at ``rate`` [Hz] of pulses; the direction stands its set-up time before a pulse, and two trains keep that time apart.

    Raises Refusal for a rate that is not above zero.
    """
    if not (rate > 0 and math.isfinite(rate)):
        raise Refusal(f"{rate:g} pulses a second make no train", "a way and a speed above zero")
    period, pulses = 1.0 / rate, 3
    events: list[tuple[float, int, int]] = []  # when, which line, its level then
    if limits.form == "quadrature":
        # four edges a period of the tracks; backwards the other track leads
        edges = [(0, 1), (1, 1), (0, 0), (1, 0)]
        forward = [(k * period, *edges[k % 4]) for k in range(pulses + 1)]
        back = [(line, 1 - level) for _, line, level in reversed(forward)]
        waits = max(period, limits.setup)
        start = forward[-1][0] + waits
        events = [*forward, *((start + k * period, line, level) for k, (line, level) in enumerate(back))]
    else:
        for k in range(pulses):
            events += [(k * period, 0, 1), ((k + 0.5) * period, 0, 0)]
        end = (pulses - 0.5) * period
        waits = max(0.5 * period, limits.setup, limits.shortest)
        line = 0
        if limits.form == "step-direction":
            events.append((end + 0.5 * (waits - limits.setup), 1, 1))
        else:
            line = 1
        for k in range(pulses):
            events += [(end + waits + k * period, line, 1), (end + waits + (k + 0.5) * period, line, 0)]
    levels, at = [0, 0], events[0][0] - period
    time, lines = [at], ([0], [0])
    for moment, line, level in sorted(events, key=lambda e: e[0]):
        for _ in range(2):  # a vertical edge: before and after it
            time.append(moment)
            for own, now in zip(lines, levels, strict=True):
                own.append(now)
            levels[line] = level
    time.append(time[-1] + period)
    for own, now in zip(lines, levels, strict=True):
        own.append(now)
    return Timing(tuple(time), tuple(lines[0]), tuple(lines[1]), waits)
