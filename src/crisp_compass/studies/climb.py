"""The climb to top speed: which speeds to hold, what is expected at each, and whether what was read there says go on or stop."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.bench.settings.start_up import ClimbPoint
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.sensorless import plant_of, shaft_of
from crisp_compass.course.waypoints.start_up import FEW_SAMPLES, StartDesign, design_start
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.quantities import grouped
from crisp_compass.sensorless.design import Doubts, Plant, accuracy

#: The first speed held, of the hand-over speed; current read beyond this share over the expected one stops the climb (common practice).
FIRST, OVER = 1.3, 0.2
#: Voltage left below which the current loop has nothing to work with, as a share of what there is.
LEAST_RESERVE = 0.1
#: A wander of the angle this many times the predicted one is worth a change of gains.
_WANDERS = 2.0
#: Speeds at which the ripple is looked at.
_LOOKED = 10


@dataclass(frozen=True)
class Stage:
    """One speed of the climb: mechanical [rad/s], torque ``current`` [A peak], ``voltage`` [V] needed and the ``reserve`` share left, ``samples`` a turn, and the ``ripple`` of the estimate [rad rms]."""

    speed: float
    current: float
    voltage: float
    reserve: float
    samples: float
    ripple: float


@dataclass(frozen=True)
class Climb:
    """The stages, the curve of the expected current (n,) over ``speed`` (n,), the voltage that there is [V], the design, what was read, and the verdict."""

    stages: tuple[Stage, ...]
    speed: FloatArray
    current: FloatArray
    voltage: FloatArray
    available: float
    design: StartDesign
    points: tuple[ClimbPoint, ...]
    findings: tuple[Finding, ...]
    next_speed: float | None


def climb_of(bench: Bench) -> Climb:
    """Plan the climb and judge what was read; raises Refusal as the start's design does."""
    design, motor, shaft = design_start(bench), plant_of(bench), shaft_of(bench)
    top, s = bench.settings.plate.top_speed, bench.settings.start_up
    available, ts = usable_voltage(bench).motor, 1 / need(bench, "pwm.loop_hz")
    first = min(FIRST * design.hand_over, top)
    count = max(math.ceil(math.log(top / first) / math.log(s.climb_step)), 0)
    speeds = np.array([first * s.climb_step**k for k in range(count)] + [top])
    seen = Doubts(0, 0, 0, design.doubts.dead, offset=design.doubts.offset, noise=design.doubts.noise)
    steady = replace(seen, dead=0.5 * seen.dead, offset=0.5 * seen.offset)
    looked = np.geomspace(first, top, _LOOKED) if top > first else np.array([top])
    found = accuracy(
        motor, design.estimator, steady, motor.pole_pairs * looked, currents=1j * max(abs(shaft.load(top)) / shaft.kt, 1e-3)
    )
    ripple = np.interp(speeds, looked, found.together)
    stages = []
    for speed, error in zip(speeds, ripple, strict=True):
        current = abs(shaft.load(float(speed))) / shaft.kt
        volts = _voltage(motor, current, float(speed))
        stages.append(
            Stage(
                float(speed),
                current,
                volts,
                1 - volts / available,
                samples=2 * math.pi / (motor.pole_pairs * speed * ts),
                ripple=float(error),
            )
        )
    fine = np.linspace(0.3 * first, top, 120)
    currents = np.array([abs(shaft.load(float(w))) / shaft.kt for w in fine])
    needed = np.array([_voltage(motor, float(i), float(w)) for i, w in zip(currents, fine, strict=True)])
    points = tuple(sorted([*s.climb, *_captured(bench)], key=lambda p: p.speed))
    findings, next_speed = _judge(stages, points, available)
    return Climb(tuple(stages), fine, currents, needed, available=available, design=design, points=points, findings=tuple(findings), next_speed=next_speed)


def _captured(bench: Bench) -> list[ClimbPoint]:
    """Return the ends of measured runs as points of the climb."""
    found = []
    for evidence in bench.evidence.get("start_up", ()):
        speed, current = evidence.estimates["end_speed"].value, evidence.estimates["end_current"].value
        if speed >= 1e-3 and current >= 1e-4:
            found.append(ClimbPoint(speed=speed, current=current))
    return found


def _voltage(motor: Plant, current: float, speed: float) -> float:
    w = motor.pole_pairs * speed
    return math.hypot(motor.r * current + w * motor.psi, w * motor.lq * current)


def _judge(
    stages: list[Stage], points: tuple[ClimbPoint, ...], available: float
) -> tuple[list[Finding], float | None]:
    rpm = 30 / math.pi
    found: list[Finding] = []
    for stage in stages:
        if stage.reserve < LEAST_RESERVE:
            text = f"At {grouped(stage.speed * rpm)} rpm only {100 * stage.reserve:.0f} % of the {available:.3g} V are left: the current loop cannot hold there. More link voltage, or a lower top speed."
            found.append(Finding("stop" if stage.reserve < 0 else "caution", "no-voltage-left", text))
            break
    low = next((s for s in stages if s.samples < FEW_SAMPLES), None)
    if low is not None:
        found.append(
            Finding(
                "caution",
                "few-samples-per-turn",
                f"From {grouped(low.speed * rpm)} rpm on there are fewer than {grouped(FEW_SAMPLES)} samples a turn.",
            )
        )
    reached = 0.0
    for point in points:
        expected = expected_current(stages, point.speed)
        over = point.current / expected - 1 if expected > 0 else 0.0
        if over > OVER:
            text = f"At {grouped(point.speed * rpm)} rpm {point.current:.3g} A were read, {100 * over:.0f} % more than expected: stop the climb; look for friction, a slipping estimate (L, dead time) or a heavier load."
            found.append(Finding("stop", "current-above-expected", text))
        ripple = expected_ripple(stages, point.speed)
        if point.ripple is not None and point.ripple > _WANDERS * max(ripple, math.radians(0.3)):
            slow = over > 0.05
            text = f"At {grouped(point.speed * rpm)} rpm the angle wanders by {math.degrees(point.ripple):.1f}° rms, expected {math.degrees(ripple):.1f}°: "
            text += (
                "raise the loop's frequency, it lags the speed loop."
                if slow
                else "lower the loop's frequency first; if it then swings slowly, lower the speed loop's Kp."
            )
            found.append(Finding("caution", "angle-wanders", text))
        reached = max(reached, point.speed)
    if any(f.level == "stop" and f.code == "current-above-expected" for f in found):
        return found, None
    return found, next((s.speed for s in stages if s.speed > 1.02 * reached), None)


def expected_current(stages: list[Stage] | tuple[Stage, ...], speed: float) -> float:
    """Return the expected current [A peak] at a speed between the stages."""
    return float(np.interp(speed, [s.speed for s in stages], [s.current for s in stages]))


def expected_ripple(stages: list[Stage] | tuple[Stage, ...], speed: float) -> float:
    """Return the expected ripple of the estimate [rad rms] at a speed between the stages."""
    return float(np.interp(speed, [s.speed for s in stages], [s.ripple for s in stages]))


def add_point(bench: Bench) -> tuple[ClimbPoint, ...]:
    """Return the points with the one that is being entered; raises Refusal where it is not whole."""
    s = bench.settings.start_up
    if s.climb_speed is None or s.climb_current is None:
        raise Refusal("speed and current are needed", "enter both as they were read")
    kept = [p for p in s.climb if abs(p.speed - s.climb_speed) > 0.01 * s.climb_speed]
    point = ClimbPoint(speed=s.climb_speed, current=s.climb_current, ripple=s.climb_ripple)
    return tuple(sorted([*kept, point], key=lambda p: p.speed))
