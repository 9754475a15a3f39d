"""Ways, pulses and counts of this bench: what a way is in every base, the gear from pulses to counts, and how fast pulses may come."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.bridge import travel_of
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.position import count_of, move_of
from crisp_compass.estimates import Finding
from crisp_compass.motion.arithmetic import Bases, Gear, PulseInput, gear
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.quantities import grouped, show
from crisp_compass.sensing import SENSORS


@dataclass(frozen=True)
class Pulses:
    """``way`` [rad] of the move in every base (``told``), its speed [rad/s], the way of a pulse [rad], the gear to counts (None: a pulse is a table entry), the input's ``reach`` [Hz] with what ends it, and ``rate`` [Hz] of the move."""

    way: float
    told: dict[str, float]
    speed: float
    pulse: float
    gear: Gear | None
    reach: tuple[float, str]
    rate: float
    findings: tuple[Finding, ...]

    @property
    def fastest(self) -> float:
        """Speed [rad/s] at which the input ends."""
        return self.reach[0] * self.pulse


def bases_of(bench: Bench) -> Bases:
    """Return what a turn is on this bench."""
    sensor, steps = bench.settings.sensor, None
    if family_of(bench).open_loop:
        steps = 4 * round(pole_pairs_of(bench.settings.plate))
    counted = SENSORS[sensor.kind].counted
    return Bases(steps, bench.settings.stepping.microsteps, sensor.counts_per_rev / 4 if counted else None, travel_of(bench))


def input_of(bench: Bench) -> PulseInput:
    """Return what the pulse input takes, as far as it is said."""
    s = bench.settings.motion
    return PulseInput(s.input_hz or math.nan, s.input_shortest or 0.0, s.input_setup or 0.0, s.input_filter or 0.0, form=s.pulse_form)


def pulses_of(bench: Bench) -> Pulses:
    """Return what the page shows; raises Refusal naming what is missing or does not fit."""
    s, move = bench.settings.motion, move_of(bench)
    count = count_of(bench)
    pulse = count if steps_open(bench) or s.pulse_way is None else s.pulse_way
    found = None if steps_open(bench) else gear(2 * math.pi / count, 2 * math.pi / pulse, s.gear_most)
    limits = input_of(bench)
    speed = move.trapezoid.peak_speed if move.distance else move.speed
    rate, reach = speed / pulse, limits.reach
    said = []
    if rate > reach[0]:
        said.append(Finding("caution", "pulses-too-fast", f"The move takes {show(rate, 'Hz', 3)}, and {reach[1]} ends at {show(reach[0], 'Hz', 3)}: {grouped(reach[0] * pulse * RPM_PER_RAD_S)} rpm. Longer ways for a pulse, or slower; pulses are swallowed without a word."))
    if found is not None and not found.exact:
        text = f"The gear is off by {show(abs(found.drift_of_many), '', 3)} counts after a million turns the same way: come back the same way, or choose a way for a pulse that divides."
        said.append(Finding("caution", "gear-drifts", text))
    if s.input_filter and s.input_shortest and s.input_filter >= s.input_shortest:
        said.append(Finding("caution", "filter-swallows", f"A filter of {show(s.input_filter, 's')} swallows the shortest pulse of {show(s.input_shortest, 's')}."))
    if limits.setup > 0 and rate > 0 and limits.setup > 0.5 / rate:
        text = f"At {show(rate, 'Hz', 3)} half a period is {show(0.5 / rate, 's', 2)}, shorter than the {show(limits.setup, 's', 2)} that a change of direction takes: the first pulse after it must wait, or it counts the wrong way."
        said.append(Finding("info", "direction-waits", text))
    return Pulses(move.distance, bases_of(bench).all_of(move.distance), speed, pulse, gear=found, reach=reach, rate=rate, findings=tuple(said))


def gear_text(found: Gear) -> str:
    """Return a gear in words."""
    return f"{grouped(found.up)} counts for {grouped(found.down)} pulse{'s' if found.down != 1 else ''}"


def drift_text(found: Gear) -> str:
    """Return what is lost by a gear."""
    return "exact: nothing drifts" if found.exact else f"{show(found.drift_of_many, '', 3)} counts in a million turns".replace("-", "−")

