"""Below the hand-over speed: a current at a forced angle, reversal through standstill, catching a motor that turns, and which mode fits the lowest needed speed."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.course.sensorless import by_injection, shaft_of
from crisp_compass.course.waypoints.start_up import StartDesign
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import NO_FAULT, SPEED, Drive
from crisp_compass.plant.simulation import Simulation, join
from crisp_compass.quantities import grouped
from crisp_compass.studies.start import MOST_PERIODS, drive_for_start, hand_over_of

#: Speed of the reversal, of the hand-over speed; of the flying start, of top speed.
_REVERSED, _FLYING = 1.6, 0.5
_POINTS = 2000


@dataclass(frozen=True)
class LowSpeed:
    """``reversed_`` over ``time`` (n,) [s]: true ``speed`` and reference (n,) [rad/s] of a reversal through standstill and its ``fault``; ``caught`` [s] it takes to catch a turning motor (None:
    not, with ``flying_fault``), and how long at zero current it ``needs``; the forced ``current`` [A peak] with the torque [N·m] it holds; speeds [rad/s] between which the modes change; ``mode`` proposed with ``reason``."""

    design: StartDesign
    time: FloatArray
    speed: FloatArray
    reference: FloatArray
    phase: FloatArray
    fault: str
    caught: float | None
    flying_fault: str
    needs: float | None
    current: float
    torque: float
    down: float
    up: float
    mode: str
    reason: str
    findings: tuple[Finding, ...]


def low_speed_outlook(bench: Bench) -> LowSpeed:
    """Play a reversal and a flying start; raises Refusal as the start's design does."""
    drive, design = drive_for_start(bench)
    shaft, s = shaft_of(bench), bench.settings.start_up
    time, speed, reference, phase, fault = _reversal(drive)
    top = bench.settings.plate.top_speed
    caught, flying_fault = _flying(drive, top)
    needs, _ = _flying(drive._replace(start=drive.start._replace(catch=1.0)), top)
    current = drive.start.low_current
    torque = shaft.kt * current
    findings = []
    if current > 0 and torque * math.sin(math.radians(70)) < abs(shaft.load(drive.start.low_up)):
        needed = abs(shaft.load(drive.start.low_up)) / (shaft.kt * math.sin(math.radians(70)))
        findings.append(
            Finding(
                "caution",
                "forced-current-small",
                f"The forced current holds {torque:.3g} N·m; {needed:.3g} A would carry the load with a margin.",
            )
        )
    mode, reason = _mode(s.lowest, design, current, injects=by_injection(bench))
    return LowSpeed(
        design,
        time,
        speed,
        reference,
        phase=phase,
        fault=fault,
        caught=caught,
        flying_fault=flying_fault,
        needs=needs,
        current=current,
        torque=torque,
        down=drive.start.low_down,
        up=drive.start.low_up,
        mode=mode,
        reason=reason,
        findings=tuple(findings),
    )


def _reversal(drive: Drive) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray, str]:
    sim = Simulation(drive, seed=4)
    sim.state[state.THETA] = 0.8 / drive.machine.pole_pairs
    goal = _REVERSED * hand_over_of(drive)
    # the ramp of a reversal is that of the start: the forced part must be able to follow it
    sim.command(SPEED, speed=goal)
    rows = sum(drive.start.rows[2::4])
    before = rows + drive.start.catch + drive.start.wait
    while sim.time < before + 1.0 and not (
        sim.state[state.PHASE] == state.CLOSED and abs(sim.speed - goal) < 0.05 * goal
    ):
        sim.skip(0.02)
        if sim.state[state.FAULT] != NO_FAULT:
            break
    span = min(2.2 * 2 * goal / drive.control.ramp + 0.6, MOST_PERIODS * drive.control.ts)
    every = max(int(span / drive.control.ts / _POINTS), 1)
    first = sim.advance(0.05, every=every)
    sim.command(SPEED, speed=-goal)
    trace = join([first, sim.advance(span, every=every)])
    return trace["t"] - trace["t"][0], trace["speed"], trace["speed_ref"], trace["phase"], sim.fault


def _flying(drive: Drive, top: float) -> tuple[float | None, str]:
    """Command a speed to a motor that turns already; return how long it took until the loop closed without having stopped it, or None."""
    sim = Simulation(drive, seed=6)
    turning = _FLYING * top
    sim.turn_at(turning)
    sim.command(SPEED, speed=turning)
    step = max(0.002, 4 * drive.control.ts)
    while sim.time < drive.start.catch + 0.3:
        sim.skip(step)
        if sim.state[state.FAULT] != NO_FAULT:
            return None, sim.fault
        if sim.state[state.PHASE] == state.CLOSED:
            return (
                (sim.time, "") if sim.speed > 0.6 * turning else (None, "it was braked to the start sequence first")
            )
        if sim.state[state.PHASE] == state.STARTING and drive.start.catch == 0:
            return None, "it aligns first, against the turning rotor"
    return None, "the estimate was not valid in time"


def _mode(lowest: float | None, design: StartDesign, current: float, *, injects: bool) -> tuple[str, str]:
    """Return which mode fits the lowest needed speed, and why."""
    rpm = 30 / math.pi
    if lowest is None:
        return "", "Enter the lowest speed that is needed under load."
    if lowest >= design.hand_over:
        return (
            "sensorless",
            f"{grouped(lowest * rpm)} rpm lie above the hand-over speed: the estimate is there whenever it is needed.",
        )
    if injects and design.injection.works:
        return (
            "injection",
            f"{grouped(lowest * rpm)} rpm lie below the hand-over speed, where injection tells the angle: {design.injection.reason}.",
        )
    if lowest >= 0.25 * design.hand_over:
        text = "with the forced current set here" if current > 0 else "with a forced current, which is not set yet"
        return (
            "forced angle",
            f"{grouped(lowest * rpm)} rpm lie below the hand-over speed: {text}, as long as the load stays below its torque; volts per hertz would do the same without holding the current.",
        )
    if design.injection.works:
        return (
            "injection",
            f"{grouped(lowest * rpm)} rpm are next to standstill: injection can find the angle there, {design.injection.reason}.",
        )
    return (
        "sensor",
        f"{grouped(lowest * rpm)} rpm are next to standstill and injection is {design.injection.reason.split(':')[0]}: under load that takes a sensor.",
    )


def electrical_hertz(speed: float, pole_pairs: float) -> float:
    """Return the electrical frequency [Hz] of a mechanical speed [rad/s]."""
    return pole_pairs * speed / (2 * math.pi)


def forced_rms(current: float) -> float:
    """Return what an rms meter in one phase reads of a forced current [A peak] while it turns."""
    return current / math.sqrt(2)


def forced_phases(current: float) -> FloatArray:
    """Return what a DC meter reads in A, B and C (3,) while the forced current stands along phase A."""
    return current * np.array([1.0, -0.5, -0.5])
