"""A speed as a drive's display shows it, in a person's own unit, and ramps that lie one behind the other."""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction

from crisp_compass.bench.models import Bench
from crisp_compass.bench.settings.display import Ramp
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.estimates import Finding
from crisp_compass.quantities import grouped, show

#: Largest numerator and denominator that drives commonly take for a factor (16 bits), and the share of the lowest speed that one count may be.
_MOST_FACTOR, _COARSE = 32767, 0.02


@dataclass(frozen=True)
class Display:
    """``factor`` figure per rpm of the motor, ``ratio`` the same in whole numbers of counts per rpm, ``error`` of that ratio as a share, one ``count`` [rad/s], ``most`` [rad/s] that fits
    into its figures."""

    unit: str
    decimals: int
    factor: float
    ratio: Fraction
    error: float
    count: float
    most: float

    def shown(self, speed: float) -> str:
        """Return what stands on the display at a speed [rad/s of the motor]; dashes where it does not fit."""
        if abs(speed) > self.most * (1 + 1e-9):
            return "----"
        return f"{speed * RPM_PER_RAD_S * self.factor:.{self.decimals}f} {self.unit}".replace("-", "−").strip()


def display_of(bench: Bench) -> Display:
    """Return the display of a bench; without a figure of its own it shows rpm."""
    s, top = bench.settings.display, bench.settings.plate.top_speed
    at = s.at or top
    factor = s.shows / (at * RPM_PER_RAD_S) if s.shows is not None and at else 1.0
    counts = factor * 10**s.decimals
    ratio = best_ratio(counts)
    return Display(s.unit, s.decimals, factor, ratio, error=float(ratio) / counts - 1.0, count=1.0 / counts / RPM_PER_RAD_S, most=(10**s.figures - 1) / counts / RPM_PER_RAD_S)


def best_ratio(value: float, most: int = _MOST_FACTOR) -> Fraction:
    """Return the fraction nearest to a positive value whose numerator and denominator a drive takes (best approximations by continued fractions, ``fractions``)."""
    if value <= 1.0:
        return max(Fraction(value).limit_denominator(most), Fraction(1, most))
    return 1 / max(Fraction(1.0 / value).limit_denominator(most), Fraction(1, most))


def ramp_rate(bench: Bench, ramp: Ramp) -> float:
    """Return the rate of a ramp [rad/s²]; infinite for none."""
    over = ramp.speed or bench.settings.plate.top_speed
    return over / ramp.seconds if ramp.seconds > 0 else math.inf


def time_to_top(bench: Bench) -> float:
    """Return the time [s] from rest to top speed behind all ramps: the slowest gives it, and the others round its ends."""
    rates = [ramp_rate(bench, r) for r in bench.settings.display.ramps]
    return bench.settings.plate.top_speed / min(rates) if rates and min(rates) > 0 else 0.0


def findings_of(bench: Bench) -> list[Finding]:
    """Return what a person must know of display, trims and ramps."""
    s, display, top = bench.settings.display, display_of(bench), bench.settings.plate.top_speed
    found = []
    if top > display.most:
        found.append(Finding("caution", "figures", f"The display ends at {grouped(display.most * RPM_PER_RAD_S)} rpm of the motor, and the plate's top speed is {grouped(top * RPM_PER_RAD_S)} rpm: a decimal less, or a larger unit."))
    if abs(display.error) * top * RPM_PER_RAD_S * display.factor > 0.5 * 10**-s.decimals:
        found.append(Finding("caution", "ratio", f"As {display.ratio.numerator}/{display.ratio.denominator} the figure is {100 * abs(display.error):.2g} % off at top speed, more than half a count: a decimal less."))
    lowest = bench.settings.run.speed
    if abs(lowest) > 0 and display.count > _COARSE * abs(lowest):
        found.append(Finding("info", "coarse", f"One count is {grouped(display.count * RPM_PER_RAD_S, 1)} rpm, {100 * display.count / abs(lowest):.0f} % of the speed on Run: a decimal more shows it."))
    active = [r for r in s.ramps if r.seconds > 0]
    if len(active) > 1:
        slow = min(active, key=lambda r: ramp_rate(bench, r))
        others = ", ".join(r.where for r in active if r is not slow)
        found.append(Finding("caution", "nested", f"{len(active)} ramps lie one behind the other: the loop outside of a ramp winds up against it and overshoots. Keep one, {slow.where} with {show(time_to_top(bench), 's')} to top speed, and set {others} to none."))
    moved = [t.name for t in s.trims if t.stands == "neutral"]
    if moved:
        found.append(Finding("caution", "neutral", f"{', '.join(moved)} {'stands' if len(moved) == 1 else 'stand'} at neutral for the measurement: put back, or note that it stays."))
    nowhere = [t.name for t in s.trims if not t.found]
    if nowhere:
        found.append(Finding("caution", "not-noted", f"Nobody noted where {', '.join(nowhere)} was found: note it before it is moved."))
    return found
