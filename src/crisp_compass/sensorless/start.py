"""The start sequence of a motor without a sensor: align, drag up, hand over. Rotor held by a current vector: a pendulum."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.quantities import grouped

#: Load angle usual for a ramp [rad], and the share of the acceleration limit that is proposed.
USUAL_LOAD_ANGLE, SHARE_OF_LIMIT = math.radians(50.0), 0.5
#: A ramp quicker than this many swings of the rotor would only excite them.
SWINGS_IN_RAMP = 3.0
#: Where the rotor counts as settled while aligning [rad, electrical], and the longest wait proposed [s].
SETTLED, LONGEST_WAIT = math.radians(12.0), 2.0
#: Electrical turns through which an estimate must hold.
TURNS_TO_TRUST = 10


@dataclass(frozen=True)
class Shaft:
    """Torque constant ``kt`` [N·m/A of the vector], pole pairs, inertia [kg·m²], Coulomb friction and what sticks at rest [N·m], viscous [N·m·s/rad] and quadratic [N·m·s²/rad²] load, and a ``driving`` one (a weight, wind) that pulls against the start, at rest too; negative where it helps."""

    kt: float
    pole_pairs: float
    inertia: float
    coulomb: float
    viscous: float = 0.0
    quadratic: float = 0.0
    breakaway: float = 0.0
    driving: float = 0.0

    @property
    def sticks(self) -> float:
        """What a torque must exceed to turn the resting shaft the wanted way, or to hold it against the load, N·m."""
        return max(self.coulomb, self.breakaway) + abs(self.driving)

    def load(self, speed: float) -> float:
        """Return the torque [N·m] that the motor must make at a mechanical speed [rad/s]; negative where the load drives it along."""
        return self.driving + self.coulomb + (self.viscous + self.quadratic * abs(speed)) * abs(speed)


@dataclass(frozen=True)
class Row:
    """One row of the sequence: ``current`` [A peak], ``speed`` at its end [rad/s, mechanical], ``duration`` [s], whether the ``estimator`` may take over."""

    current: float
    speed: float
    duration: float
    estimator: bool


def pendulum(shaft: Shaft, current: float) -> float:
    """Return the angular frequency [rad/s] with which the rotor swings in a held current vector: √(p·Kt·I/J)."""
    return math.sqrt(shaft.pole_pairs * shaft.kt * current / shaft.inertia)


@dataclass(frozen=True)
class Swing:
    """The rotor after the field jumped by a quarter: ``time`` (n,) [s], ``angle`` (n,) [rad, electrical] from where it is pulled to, ``settled`` [s] or None, ``rests`` [rad] by friction off its place."""

    time: FloatArray
    angle: FloatArray
    settled: float | None
    rests: float


def alignment_swing(shaft: Shaft, current: float, start: float = -0.5 * math.pi) -> Swing:
    """Let the rotor swing from ``start`` [rad, electrical] in the field of ``current`` [A]: J·ω' = −Kt·I·sin(x) − load, by small steps."""
    place = -math.asin(min(max(shaft.driving / (shaft.kt * current), -1.0), 1.0))
    own = pendulum(shaft, current)
    h = 0.02 / own
    steps = min(int(LONGEST_WAIT / h), 200_000)
    x, w = start, 0.0
    every = max(steps // 1500, 1)
    times, angles, last = [], [], 0.0
    for k in range(steps):
        torque = -shaft.kt * current * math.sin(x) - shaft.driving
        if w == 0.0 and abs(torque) <= max(shaft.coulomb, shaft.breakaway):
            times.append(k * h)
            angles.append(x)
            break
        side = math.copysign(1.0, w if w else torque)
        before = w
        w += h * (torque - side * shaft.coulomb - (shaft.viscous + shaft.quadratic * abs(w)) * w) / shaft.inertia
        if before * w < 0:
            w = 0.0
        x += h * shaft.pole_pairs * w
        if abs(x - place) > SETTLED:
            last = k * h
        if k % every == 0:
            times.append(k * h)
            angles.append(x)
    settled = last if last < (steps - 1) * h - 4 * math.pi / own or w == 0.0 else None
    friction = shaft.sticks / (shaft.kt * current)
    return Swing(np.array(times), np.array(angles), settled if friction < 1 else None, math.asin(min(friction, 1.0)))


def acceleration_limit(shaft: Shaft, current: float, load_angle: float, speed: float) -> float:
    """Return the most acceleration [rad/s²] that a current vector leading by ``load_angle`` [rad] leaves at a speed: (Kt·I·sin δ − load)/J.

    A load that drives the rotor along takes as much of the current to be held back."""
    return (shaft.kt * current * math.sin(load_angle) - abs(shaft.load(speed))) / shaft.inertia


@dataclass(frozen=True)
class StartPlan:
    """A start: its rows, the acceleration [rad/s²] of the ramp and the most it could be, its own frequency [rad/s] at the ramp's current, the alignment's swing, the jerk of the
    first alignment [rad, mechanical, at most, either way], and what is to be said."""

    rows: tuple[Row, ...]
    acceleration: float
    limit: float
    own: float
    swing: Swing
    jerk: float
    findings: tuple[Finding, ...]


def plan(
    shaft: Shaft, *, align_current: float, ramp_current: float, hand_over: float, load_angle: float = USUAL_LOAD_ANGLE, align_time: float | None = None,
    acceleration: float | None = None, hold: float | None = None,
) -> StartPlan:  # fmt: skip
    """Work out the sequence up to the mechanical ``hand_over`` speed [rad/s]; what is None is proposed.

    Raises Refusal where no current can turn the load, saying the number that would.
    """
    limit = acceleration_limit(shaft, ramp_current, load_angle, hand_over)
    if limit <= 0:
        needed = abs(shaft.load(hand_over)) / (shaft.kt * math.sin(load_angle))
        raise Refusal(
            f"{ramp_current:.3g} A cannot follow any ramp: at the hand-over speed the load takes all of its torque",
            f"at least {needed:.3g} A are needed, or a lower hand-over speed",
            field="start_up.ramp_current",
        )
    sticks = shaft.sticks
    if shaft.kt * align_current <= sticks:
        what = f"against friction and load of {sticks:.3g} N·m" if shaft.driving else f"it sticks up to {sticks:.3g} N·m"
        raise Refusal(
            f"{align_current:.3g} A cannot turn the resting rotor: {what}",
            f"more than {sticks / shaft.kt:.3g} A are needed",
            field="start_up.align_current",
        )
    own = pendulum(shaft, ramp_current)
    swing = alignment_swing(shaft, align_current)
    findings = []
    if align_time is None:
        align_time = swing.settled if swing.settled is not None else LONGEST_WAIT
        align_time = max(align_time, 2 * math.pi / pendulum(shaft, align_current))
    if swing.settled is None:
        text = f"The rotor hardly has friction: it still swings after {LONGEST_WAIT:.0f} s of alignment, and the start begins from where it happens to be."
        findings.append(Finding("caution", "swings-on", text))
    elif align_time < 0.8 * swing.settled:
        text = f"Aligning for {align_time:.3g} s is short: the rotor needs {swing.settled:.3g} s to settle within {math.degrees(SETTLED):.0f}°."
        findings.append(Finding("caution", "short-alignment", text))
    if swing.rests > math.radians(20):
        text = f"{'Friction and load hold' if shaft.driving else 'Friction holds'} the rotor up to {math.degrees(swing.rests):.0f}° (electrical) beside its place: align with more current."
        findings.append(Finding("caution", "friction-holds", text))
    if acceleration is None:
        acceleration = min(SHARE_OF_LIMIT * limit, hand_over / (SWINGS_IN_RAMP * 2 * math.pi / own))
    elif acceleration > limit:
        needed = (shaft.inertia * acceleration + abs(shaft.load(hand_over))) / (shaft.kt * math.sin(load_angle))
        raise Refusal(
            f"{acceleration:.4g} rad/s² is more than {ramp_current:.3g} A can follow",
            f"at most {limit:.4g} rad/s², or {needed:.3g} A",
            field="start_up.acceleration",
        )
    if hold is None:
        hold = 1.5 * TURNS_TO_TRUST * 2 * math.pi / (shaft.pole_pairs * hand_over)
    rows = (
        Row(align_current, 0.0, align_time, False),
        Row(align_current, 0.0, align_time, False),
        Row(ramp_current, hand_over, hand_over / acceleration, False),
        Row(ramp_current, hand_over, hold, True),
    )
    return StartPlan(rows, acceleration, limit, own, swing=swing, jerk=math.pi / shaft.pole_pairs, findings=tuple(findings))


def running_times(rows: Sequence[Row]) -> list[float]:
    """Return the time [s] at the end of each row."""
    return [float(x) for x in np.cumsum([r.duration for r in rows])]


HEADER = ("current_a", "end_speed_rpm", "duration_s", "running_time_s", "estimator")


def as_table(rows: Sequence[Row]) -> list[tuple[float, float, float, float, int]]:
    """Return the rows as firmware wants them: current [A peak], end speed [rpm], duration and running time [s], estimator 0 or 1."""
    return [
        (r.current, r.speed * 30 / math.pi, r.duration, end, int(r.estimator))
        for r, end in zip(rows, running_times(rows), strict=True)
    ]


def as_csv(rows: Sequence[Row]) -> str:
    """Return the rows as text, one line each under HEADER."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(HEADER)
    for row in as_table(rows):
        writer.writerow([f"{x:.6g}" for x in row])
    return out.getvalue()


def parse_rows(text: str, most: int = 6) -> tuple[Row, ...]:
    """Read a pasted table: current [A], end speed [rpm], duration [s], perhaps the running time [s], estimator 0 or 1; columns parted by comma, semicolon, tab or blanks.

    Raises Refusal naming the line that is not understood.
    """
    rows: list[Row] = []
    before = 0.0
    for number, line in enumerate(text.strip().splitlines(), 1):
        cells = [c for c in line.replace(";", " ").replace("\t", " ").replace(",", " ").split() if c]
        try:
            values = [float(c) for c in cells]
        except ValueError:
            if number == 1:  # a header
                continue
            raise Refusal(
                f"line {number} holds something that is no number",
                "write current, end speed, duration, running time, estimator",
            ) from None
        if len(values) not in (4, 5) or not all(math.isfinite(v) for v in values):
            raise Refusal(
                f"line {number} has {len(values)} numbers",
                "four or five are needed: current, end speed, duration, perhaps running time, estimator",
            )
        current, speed, duration, on = values[0], values[1], values[2], values[-1]
        if len(values) == 5 and abs(values[3] - before - duration) > 0.02 * max(values[3], 1e-3):
            raise Refusal(
                f"line {number}: the running time {values[3]:.4g} s is not that of the line before plus {duration:.4g} s",
                "correct one of them",
            )
        if current < 0 or speed < 0 or duration <= 0 or on not in (0, 1):
            raise Refusal(
                f"line {number} holds an impossible figure",
                "current and speed from 0, duration above 0, estimator 0 or 1",
            )
        before += duration
        rows.append(Row(current, speed * math.pi / 30, duration, bool(on)))
    if not rows:
        raise Refusal(
            "the table has no rows", "paste current, end speed, duration, running time, estimator, one row a line"
        )
    if len(rows) > most:
        raise Refusal(f"{len(rows)} rows are more than the firmware takes", f"at most {most}")
    if not any(r.estimator for r in rows):
        raise Refusal("the estimator is off in every row", "the last one at least needs it")
    return tuple(rows)


def judge_rows(shaft: Shaft, rows: Sequence[Row], load_angle: float, lowest: float) -> list[Finding]:
    """Judge a table against the motor: each ramp against what its current can follow, and where the estimator is on against the lowest speed [rad/s, mechanical] it is good for."""
    found: list[Finding] = []
    speed = 0.0
    for number, row in enumerate(rows, 1):
        a = abs(row.speed - speed) / row.duration
        most = acceleration_limit(shaft, row.current, load_angle, max(row.speed, speed)) if row.current > 0 else -1.0
        if row.speed != speed and a > max(most, 0.0):
            text = f"Row {number}: {a:.4g} rad/s² cannot be followed with {row.current:.3g} A; at most {max(most, 0.0):.4g} rad/s²."
            found.append(Finding("stop", "ramp-too-steep", text))
        if row.estimator and row.speed < lowest:
            text = f"Row {number}: the estimator is on at {grouped(row.speed * 30 / math.pi)} rpm; it is good from {grouped(lowest * 30 / math.pi)} rpm."
            found.append(Finding("caution", "estimator-too-early", text))
        speed = row.speed
    return found
