"""The scaling of a speed command: what each value asks for, how finely, what a broken wire does, and whether points that were read lie on it.

speed = lo + (x − x_lo)/(x_hi − x_lo)·span. Points that differ from it by one ratio say that the span is wrong, by one difference that the offset is; what remains is noise.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.settings.command import CommandSettings
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.quantities import grouped, show

Verdict = Literal["none", "agrees", "span", "offset", "both", "noise"]
#: Full range of a converter behind each source, in the source's unit: from zero to this (volts from minus where the span crosses zero).
_RANGES = {"volts": 10.0, "current": 0.020, "duty": 1.0, "potentiometer": 1.0}
#: Below this share of its low end a live zero is a broken wire (common practice: 3.6 of 4 mA).
_LIVE = 0.9
#: Share of the span within which a point counts as on the line (common practice).
_NEAR = 0.005
UNITS = {"volts": "V", "current": "A", "frequency": "Hz", "duty": "", "potentiometer": ""}
SOURCES = {"volts": "volts", "current": "mA loop", "frequency": "frequency", "duty": "duty", "potentiometer": "potentiometer"}
FIELDS = {"volts": "volts", "current": "amps", "frequency": "hertz", "duty": "duty", "potentiometer": "duty"}


@dataclass(frozen=True)
class Scale:
    """A command between ``low`` and ``high`` (in its unit) that asks for ``slow`` to ``fast`` [rad/s]; ``step`` is what the converter resolves of it."""

    source: str
    unit: str
    low: float
    high: float
    slow: float
    fast: float
    step: float
    dead: float

    def speed(self, x: float) -> float:
        """Return the speed [rad/s] that a command asks for, held at its ends, 0 within the dead band."""
        share = min(max((x - self.low) / (self.high - self.low), 0.0), 1.0)
        asked = self.slow + share * (self.fast - self.slow)
        return 0.0 if abs(asked) <= self.dead * abs(self.fast - self.slow) else asked

    def command(self, speed: float) -> float:
        """Return the command that asks for a speed [rad/s]; beyond the ends it goes on."""
        return self.low + (speed - self.slow) / (self.fast - self.slow) * (self.high - self.low)

    def shown(self, x: float) -> str:
        """Return a command as people read it."""
        return f"{100 * x:.4g} %" if not self.unit else show(x, self.unit, 3)


def scale_of(bench: Bench) -> Scale:
    """Return the scaling as it is set; raises Refusal where it has no span."""
    s: CommandSettings = bench.settings.command
    prefix = FIELDS[s.source]
    low, high = float(getattr(s, f"{prefix}_low")), float(getattr(s, f"{prefix}_high"))
    fast = s.speed_high if s.speed_high is not None else bench.settings.plate.top_speed
    if low == high:
        raise Refusal("the command has no span", "low and high end must differ")
    if fast == s.speed_low:
        raise Refusal("the speed has no span", "the speeds of both ends must differ")
    if s.source == "frequency":
        step = 0.0
    else:
        whole = _RANGES[s.source] * (2.0 if s.source == "volts" and min(low, high) < 0 else 1.0)
        step = max(whole, abs(high - low)) / 2**s.bits
    return Scale(s.source, UNITS[s.source], low, high, slow=s.speed_low, fast=fast, step=step, dead=s.dead_band)


@dataclass(frozen=True)
class Judged:
    """What points say: the verdict, and ``ratio`` and ``offset`` [rad/s] of what was read against what was expected, ``scatter`` [rad/s] of the rest."""

    verdict: Verdict
    ratio: float
    offset: float
    scatter: float
    text: str


def judge_points(scale: Scale, points: Sequence[tuple[float, float]]) -> Judged:
    """Judge points (command, speed read [rad/s]): the simplest of agreement, one ratio, one difference and both that leaves no more than noise."""
    inside = [(scale.speed(x), y) for x, y in points if min(scale.low, scale.high) <= x <= max(scale.low, scale.high)]
    expected, read = np.array([e for e, _ in inside]), np.array([r for _, r in inside])
    span = abs(scale.fast - scale.slow)
    if len(inside) < 2 or np.ptp(expected) < 0.1 * span:
        return Judged("none", 1.0, 0.0, 0.0, text="two points far apart at least" if len(inside) < 2 else "points further apart")
    near = _NEAR * span
    rest = read - expected
    if float(np.max(np.abs(rest))) <= near:
        return Judged("agrees", 1.0, float(np.mean(rest)), float(np.std(rest)), text=f"every point within {grouped(round(near * RPM_PER_RAD_S))} rpm")
    offset = float(np.mean(rest))
    ratio = float(expected @ read / (expected @ expected)) if expected @ expected > 0 else 1.0
    both = np.polyfit(expected, read, 1) if len(inside) > 2 else None
    left = {"offset": rest - offset, "span": read - ratio * expected}
    best = min(left, key=lambda k: float(np.max(np.abs(left[k]))))
    scatter = float(np.max(np.abs(left[best])))
    if scatter <= near:
        if best == "offset":
            return Judged("offset", 1.0, offset, scatter, text=f"one difference of {_rpm(offset)}: the low end is wrong, the span is right")
        return Judged("span", ratio, 0.0, scatter, text=f"one ratio of {ratio:.4g}: the span is wrong, the low end is right")
    if both is not None:
        scatter = float(np.max(np.abs(read - np.polyval(both, expected))))
        if scatter <= near:
            return Judged("both", float(both[0]), float(both[1]), scatter, text=f"a ratio of {both[0]:.4g} and a difference of {_rpm(float(both[1]))}: both ends are wrong")
    return Judged("noise", 1.0, 0.0, scatter, text=f"scatters by {_rpm(scatter)}: noise, a screen, or a speed that was not settled")


def _rpm(speed: float) -> str:
    return f"{speed * RPM_PER_RAD_S:.4g} rpm".replace("-", "−")


def mended(scale: Scale, judged: Judged) -> tuple[float, float]:
    """Return the speeds [rad/s] of both ends that make the drive read what is expected, where points say how it is wrong: those to be entered in the drive."""
    return tuple((v - judged.offset) / judged.ratio for v in (scale.slow, scale.fast))  # type: ignore[return-value]


def ramp_of(bench: Bench, scale: Scale) -> float:
    """Return the ramp [rad/s²] that seconds over a speed mean; infinite for none."""
    s: CommandSettings = bench.settings.command
    over = s.ramp_speed if s.ramp_speed is not None else max(abs(scale.fast), abs(scale.slow))
    return over / s.ramp_time if s.ramp_time > 0 else math.inf


def highest(bench: Bench, scale: Scale) -> float | None:
    """Return the command beyond which the machine would pass its safe speed; None where none is set or the span does not reach it."""
    s: CommandSettings = bench.settings.command
    if s.safe_speed is None:
        return None
    most = s.safe_speed * s.gear
    return scale.command(math.copysign(most, scale.fast)) if max(abs(scale.fast), abs(scale.slow)) > most else None


def lost(scale: Scale) -> tuple[str, bool]:
    """Return what a broken wire does (the command reads 0), and whether that can be told from a command."""
    if scale.source in ("current", "duty") and min(scale.low, scale.high) > 0:
        least = min(scale.low, scale.high)
        return f"below {scale.shown(_LIVE * least)} it is a broken wire: let the drive stop then", True
    if scale.source == "frequency" and min(scale.low, scale.high) > 0:
        return f"below {scale.shown(0.5 * min(scale.low, scale.high))} it is a broken wire: let the drive stop then", True
    if scale.source == "potentiometer":
        return "a broken wiper reads anything, a broken end runs to the other: no way to tell it", False
    return f"a broken wire reads {scale.shown(0.0)} and asks for {_rpm(scale.speed(0.0))}", False


def truth_table(bench: Bench) -> tuple[tuple[str, str, str], ...]:
    """Return what enable and direction make of a command: enable, direction, what the shaft does."""
    edge = bench.settings.command.enable == "edge"
    return (
        ("off", "either", "stands, or coasts to a stop"), ("given", "forwards", "turns A to B to C"), ("given", "backwards", "turns A to C to B"),
        ("on at power return", "either", "stands until enable is given anew" if edge else "STARTS BY ITSELF"),
    )  # fmt: skip


def findings_of(bench: Bench, scale: Scale) -> list[Finding]:
    """Return what a person must know of a scaling."""
    s: CommandSettings = bench.settings.command
    found, span = [], abs(scale.fast - scale.slow)
    if s.enable == "level":
        found.append(Finding("caution", "starts-by-itself", "With enable by level the shaft starts by itself when power returns and the command still stands: people at the machine do not expect it. Let the drive ask for a new enable, and follow your local rules for machines."))
    text, told = lost(scale)
    if not told and scale.speed(0.0) != 0.0 and scale.source == "volts":
        found.append(Finding("caution", "lost-signal-runs", f"{text[:1].upper()}{text[1:]}, and nothing tells it from a command: put standstill where a broken wire lands, or use a live zero."))
    beyond = highest(bench, scale)
    if beyond is not None:
        found.append(Finding("caution", "beyond-safe-speed", f"Beyond {scale.shown(beyond)} the machine passes its safe speed: lower the high end, or set the drive's highest reference."))
    top = bench.settings.plate.top_speed
    if max(abs(scale.fast), abs(scale.slow)) > 1.001 * top:
        found.append(Finding("caution", "beyond-top-speed", f"The high end asks for {_rpm(scale.fast)}, the plate's top speed is {_rpm(top)}."))
    if 0 < scale.dead * span < 2 * scale.step / abs(scale.high - scale.low) * span:
        found.append(Finding("info", "dead-band-small", "The dead band is less than two steps of the converter: the shaft may creep at standstill."))
    return found
