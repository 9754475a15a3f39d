"""Starts without a sensor, played by the plant: one start, and what came of it."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.course.drive import with_biased_iron
from crisp_compass.course.sensorless import by_injection, driving_load, shaft_of, start_of, without_sensor
from crisp_compass.course.waypoints.start_up import StartDesign, design_start
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import LOST, NO_FAULT, NO_POLE, NO_START, SPEED, START_COLUMNS, Drive
from crisp_compass.plant.simulation import Simulation, join
from crisp_compass.sensorless.injection import Injected
from crisp_compass.sensorless.start import Row
from crisp_compass.studies.untuned_drive import untuned_drive

#: What a start came to; the order is that of the map's colours.
STARTED, FELL_OUT, TRIPPED, BACKWARDS = range(4)
OUTCOMES = ("started", "fell out", "tripped", "ran backwards")
#: A start counts once the closed loop has brought the rotor to this many times the hand-over speed and the estimate is right.
BEYOND = 1.4
#: Sampling periods of the longest start that is played.
MOST_PERIODS = 600_000
#: The estimate is wrong beyond this [rad].
_ASTRAY = math.radians(45.0)


@dataclass(frozen=True)
class Played:
    """A start as it went: ``outcome``, the fault's name, when the loop closed [s] (None: never), and over ``time`` (n,) [s] the true and the seen ``speed`` [rad/s], the
    ``forced`` speed, length of the ``current`` [A], ``deviation`` of the estimate [rad], the ``phase`` of the firmware, the rotor's ``true_angle`` and the forced
    ``field`` [rad, electrical]."""

    outcome: int
    fault: str
    closed: float | None
    time: FloatArray
    speed: FloatArray
    seen: FloatArray
    current: FloatArray
    deviation: FloatArray
    phase: FloatArray
    true_angle: FloatArray
    field: FloatArray
    forced: FloatArray


def drive_for_start(bench: Bench) -> tuple[Drive, StartDesign]:
    """Return the bench's drive with the start as designed now, stand-in loops where they are not settled; raises Refusal where something is missing."""
    design = design_start(bench)
    drive, run = untuned_drive(bench), bench.settings.run
    dead = settled_value(bench, "pwm.dead_time_voltage")
    limit = max(drive.control.i_limit, *(r.current for r in design.plan.rows))
    made = drive._replace(
        start=start_of(design.plan.rows, bench)._replace(retries=0.0), estimator=design.estimator,
        load=drive.load._replace(
            coulomb=shaft_of(bench).coulomb, quadratic=run.quadratic, breakaway=shaft_of(bench).breakaway, driving=driving_load(bench)
        ),
        inverter=drive.inverter._replace(dead_voltage=dead.value if dead else 0.0),
        control=drive.control._replace(i_limit=limit),
    )  # fmt: skip
    if by_injection(bench):
        made = made._replace(injected=design.injection.firmware, machine=with_biased_iron(bench, made.machine))
    else:
        made = made._replace(injected=Injected())
    require_short(made)
    return made, design


def require_short(drive: Drive) -> None:
    """Refuse a start that takes too many sampling periods to be played."""
    periods = longest(drive) / drive.control.ts
    if periods > MOST_PERIODS:
        raise Refusal(
            f"a start of {longest(drive):.3g} s at {1e-3 / drive.control.ts:.3g} kHz is too long to be simulated",
            f"up to {MOST_PERIODS * drive.control.ts:.3g} s can be: shorten alignment, ramp or waiting time, or quicken the ramp of the speed loop",
        )


def hand_over_of(drive: Drive) -> float:
    """Return the hand-over speed [rad/s, mechanical] of a drive's start."""
    return max(drive.start.rows[1::START_COLUMNS])


def longest(drive: Drive) -> float:
    """Return how long [s] a start can take before its outcome is certain: its rows, the wait, and the way to BEYOND along the ramp."""
    injected = drive.injected
    if injected.volts > 0:  # from rest along the speed loop's ramp
        before, climb = (
            2 * injected.settle + 2 * injected.pole_time,
            BEYOND * hand_over_of(drive) / drive.control.ramp,
        )
    else:
        before = sum(drive.start.rows[2::START_COLUMNS])
        climb = (BEYOND - 1) * hand_over_of(drive) / drive.control.ramp
    return drive.start.catch + before + drive.start.wait + 2.0 * climb + 0.3


def outcome_of(sim: Simulation, sense: float = 1.0) -> int | None:
    """Return what has come of a running start, or None while that is open."""
    x, speed = sim.state, sim.speed * sense
    fault = int(x[state.FAULT])
    hand_over = hand_over_of(sim.drive)
    if fault != NO_FAULT:
        if speed < -0.1 * hand_over:
            return BACKWARDS
        return FELL_OUT if fault in (LOST, NO_START, NO_POLE) else TRIPPED
    if x[state.PHASE] != state.CLOSED:
        return None
    if speed < -0.3 * hand_over:
        return BACKWARDS
    if speed < 0.97 * BEYOND * hand_over:
        return None
    astray = math.remainder(x[state.ANGLE_SEEN] - sim.drive.machine.pole_pairs * x[state.THETA], 2 * math.pi)
    return STARTED if abs(astray) < _ASTRAY else FELL_OUT


def attempt(drive: Drive, *, angle: float, seed: int, chunk: float = 0.01) -> int:
    """Try a start from a rotor angle [rad, mechanical]; return its outcome. Stops as soon as that is certain."""
    sim = Simulation(drive, seed=seed)
    sim.state[state.THETA] = angle
    sim.command(SPEED, speed=BEYOND * hand_over_of(drive))
    most = longest(drive)
    while sim.time < most:
        sim.skip(chunk)
        found = outcome_of(sim)
        if found is not None:
            return found
    return FELL_OUT


def play(
    drive: Drive,
    *,
    angle: float = 1.0,
    seed: int = 1,
    target: float | None = None,
    points: int = 2500,
) -> Played:
    """Play a start to its end and a little beyond, for a plot."""
    sim = Simulation(drive, seed=seed)
    sim.state[state.THETA] = angle
    goal = target if target is not None else BEYOND * hand_over_of(drive)
    sim.command(SPEED, speed=goal)
    most = longest(drive)
    every = max(int(most / drive.control.ts / points), 1)
    chunk = max(most / 60, drive.control.ts * every)
    traces, found, after = [], None, 0
    while sim.time < most and after < 4:
        traces.append(sim.advance(chunk, every=every))
        found = outcome_of(sim, math.copysign(1.0, goal)) if found is None else found
        after += found is not None
    trace = join(traces)
    closed = np.flatnonzero(trace["phase"] == state.CLOSED)
    deviation = np.remainder(trace["theta_est"] - trace["theta_e"] + math.pi, 2 * math.pi) - math.pi
    seen = np.where(trace["valid"] > 0, trace["speed_seen"], np.nan)
    return Played(
        FELL_OUT if found is None else found, sim.fault, float(trace["t"][closed[0]]) if len(closed) else None,
        trace["t"], speed=trace["speed"], seen=seen, current=np.hypot(trace["i_d"], trace["i_q"]), deviation=np.where(trace["valid"] > 0, deviation, np.nan), phase=trace["phase"],
        true_angle=trace["theta_e"], field=trace["theta_seen"], forced=np.where(trace["phase"] < state.CLOSED, trace["speed_seen"], np.nan),
    )  # fmt: skip


@dataclass(frozen=True)
class StartOutlook:
    """The design, the start played from an unlucky rotor angle, and how many of ``tried`` angles started with the constants exact."""

    design: StartDesign
    played: Played
    started: int
    tried: int


#: Rotor angles from which the outlook starts, electrical turns.
_ANGLES = 6


def start_outlook(bench: Bench, rows: tuple[Row, ...] | None = None) -> StartOutlook:
    """Design the start and play it, or other ``rows``, from angles all round; the one shown is the worst of them. Raises Refusal as the design does."""
    drive, design = drive_for_start(bench)
    if rows is not None:
        most = max(drive.control.i_limit, *(r.current for r in rows))
        drive = drive._replace(start=start_of(rows, bench)._replace(retries=0.0), control=drive.control._replace(i_limit=most))
        require_short(drive)
    turns = [2 * math.pi * k / _ANGLES / drive.machine.pole_pairs for k in range(_ANGLES)]
    outcomes = [attempt(drive, angle=angle + 0.05, seed=k + 1) for k, angle in enumerate(turns)]
    worst = max(range(_ANGLES), key=lambda k: (outcomes[k] != STARTED, k == _ANGLES // 2))
    shown = play(drive, angle=turns[worst] + 0.05, seed=worst + 1)
    return StartOutlook(design, shown, sum(o == STARTED for o in outcomes), _ANGLES)


def require_start(bench: Bench) -> None:
    """Refuse a bench whose motor is not started without a sensor."""
    if not without_sensor(bench):
        raise Refusal(
            "this bench starts with its sensor",
            "choose “none” as the angle sensor of a three-phase magnet motor on the plate",
            field="sensor.kind",
        )
