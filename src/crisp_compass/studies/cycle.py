"""The cycle of a table of points: what each row takes and whether the motor has it, the cycle as a whole, and the simulated drive that runs it."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.drive import build_drive, running_current
from crisp_compass.course.envelope import plane_of
from crisp_compass.course.heat import air_factor, bodies_of, friction_loss, limit_of, rotor_loss
from crisp_compass.course.open_loop import stepping_current, steps_open
from crisp_compass.course.points import rows_of
from crisp_compass.course.position import Move, as_designed, count_of, move_of, moving_mode
from crisp_compass.course.speed_design import torque_constant
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.motion.duty import duty
from crisp_compass.motion.points import Order, Row, order_of, places, reached
from crisp_compass.plant import state
from crisp_compass.plant.parameters import SPEED, Drive
from crisp_compass.plant.simulation import join
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.scenarios import check_sound, open_simulation
from crisp_compass.studies.stepping import step_motor
from crisp_compass.thermal.model import steady

#: Points of a course in each third of a move.
_SAMPLES = 24
#: Seconds of a cycle that is run, and before it begins; rows that are shown.
_PATIENCE, _SETTLES, _ROWS = 90.0, 0.3, 6000


@dataclass(frozen=True)
class Step:
    """One row as it runs: its ``index`` from 0, the move, when it begins [s], torque ``needed`` and ``there`` [N·m] where it is shortest of it, and at which speed [rad/s]; what stands against it, or nothing."""

    index: int
    move: Move
    begin: float
    needed: float
    there: float
    at_speed: float
    reason: str


@dataclass(frozen=True)
class Cycle:
    """The table as it runs once: ``steps``, whether it is a ring, ``time`` (n,) s with ``position`` [rad], ``speed`` [rad/s] and ``torque`` [N·m]; ``seconds`` of it, ``rms`` and ``peak`` torque [N·m], energy that braking gives back [J], and the torque that may last [N·m, NaN: not known]; ``winding`` [°C] in the mean after many cycles (NaN: nothing tells) with what it may have (``limit``, NaN: not entered)."""

    steps: tuple[Step, ...]
    order: Order
    time: FloatArray
    position: FloatArray
    speed: FloatArray
    torque: FloatArray
    seconds: float
    rms: float
    peak: float
    braking: float
    lasting: float
    winding: float
    limit: float
    findings: tuple[Finding, ...]


def _move(bench: Bench, row: Row, begin: float, end: float) -> Move:
    usual = move_of(bench)
    return Move(end - begin, row.speed or usual.speed, row.accel or usual.accel, usual.rounding)


def cycle_of(bench: Bench) -> Cycle:
    """Return the cycle of the table; raises Refusal where it is empty, leads nowhere, or something of the drive is missing."""
    rows = rows_of(bench)
    if not rows:
        raise Refusal("the table is empty", "add a row, paste some, or open a file")
    order, bench = order_of(rows), standing(bench)
    drive = build_drive(bench)
    has = _available(bench, drive)
    load, now = drive.load, 0.0
    steps: list[Step] = []
    low, high = bench.settings.motion.low, bench.settings.motion.high
    parts: list[tuple[FloatArray, ...]] = []
    for index, (begin, end) in zip(order.rows, places(rows, order), strict=True):
        move = _move(bench, rows[index], begin, end)
        if move.duration > 3600.0:
            raise Refusal(f"row {index + 1} takes {move.duration:.3g} s", "more speed, or a shorter way")
        profile = move.trapezoid
        t = np.concatenate([np.linspace(a, b, _SAMPLES) for a, b in _thirds(profile.phases)]) if move.distance else np.zeros(1)
        at, speed, accel = profile.at(t)
        torque = load.whole * accel + np.sign(speed) * (load.coulomb + load.quadratic * speed**2) + load.viscous * speed + _pull(bench, speed)
        needed, there = np.abs(torque), has(np.abs(speed))
        limit_here = rows[index].torque
        if limit_here is not None and not steps_open(bench):
            there = np.minimum(there, limit_here)
        worst = int(np.argmin(there - needed)) if len(t) else 0
        short = bool(move.distance) and bool(needed[worst] > there[worst])
        reason = _reason(end, low, high) or (f"needs {show(float(needed[worst]), 'N·m', 3)} at {grouped(abs(float(speed[worst])) * RPM_PER_RAD_S)} rpm, and there are {show(float(there[worst]), 'N·m', 3)}" if short else "")
        steps.append(Step(index, move, now, float(needed[worst]), there=float(there[worst]), at_speed=abs(float(speed[worst])), reason=reason))
        parts.append((now + t, begin + at, speed, torque))
        now += move.duration
        held = float(_pull(bench, np.zeros(1))[0])
        parts.append((np.array([now, now + rows[index].dwell]), np.full(2, end), np.zeros(2), np.full(2, held)))
        now += rows[index].dwell
    time, position, speed, torque = (np.concatenate(c) for c in zip(*parts, strict=True))
    span = max(now, 1e-9)
    told = duty(time, torque, speed, continuous=1e12, peak=1e12) if len(time) > 1 and time[-1] > time[0] else None
    kt = torque_constant(bench)
    rated = rated_peak(bench.settings.plate) * kt
    findings = list(_findings(rows, order, steps))
    if steps_open(bench) and any(r.torque is not None for r in rows):
        findings.append(Finding("caution", "no-torque-limit", "A stepped field holds its current whatever torque comes of it: the torque limits of rows do nothing here."))
    if told is not None and told.rms_torque > rated:
        findings.append(Finding("caution", "rms-above-rated", f"The rms torque of {show(told.rms_torque, 'N·m', 3)} is above the {show(rated, 'N·m', 3)} of the rated current: longer dwells, or less acceleration."))
    winding, limit = _heat(bench, drive, time, speed, torque=torque)
    if winding > limit:
        hot = "without end" if math.isinf(winding) else f"{winding:.0f} °C"
        findings.append(Finding("caution", "cycle-too-hot", f"Cycle after cycle the winding gets {hot} in the mean, and {limit:.0f} °C are allowed: longer dwells, less acceleration, or less current at rest."))
    return Cycle(
        tuple(steps), order, time, position, speed=speed, torque=torque, seconds=span, rms=told.rms_torque if told else 0.0, peak=told.peak_torque if told else 0.0, braking=told.braking_energy if told else 0.0, lasting=rated, winding=winding, limit=limit, findings=tuple(findings),
    )  # fmt: skip


def _heat(bench: Bench, drive: Drive, time: FloatArray, speed: FloatArray, torque: FloatArray) -> tuple[float, float]:
    """Return what the winding gets to in the mean when the cycle is run again and again, and what it may have [°C]; NaN where nothing tells.

    By the mean of the current's square and of friction: right where a cycle is short against the winding's time constant (thermal.model, steady state).
    """
    known, limit = bodies_of(bench), limit_of(bench)
    span = float(time[-1] - time[0]) if len(time) > 1 else 0.0
    if known is None or span <= 0.0:
        return math.nan, math.nan if limit is None else limit

    def mean(values: FloatArray) -> float:
        return float(np.trapezoid(values, time)) / span

    if steps_open(bench):  # the table's current flows whatever is asked of it
        idle = np.where(speed == 0.0, drive.control.idle_share, 1.0) * stepping_current(bench)
        square = mean(idle**2)
    else:
        flux = drive.control.i_flux
        square = mean((torque / torque_constant(bench)) ** 2 + flux**2)
    current = math.sqrt(square)
    lost = mean(np.array([friction_loss(bench, float(w)) for w in speed])) + rotor_loss(bench, current)
    turning = math.sqrt(mean(speed**2))
    winding, _ = steady(known.bodies, current, bench.settings.heat.ambient, housing_loss=lost, air_factor=air_factor(bench, turning))
    return winding, math.nan if limit is None else limit


def _thirds(phases: tuple[float, ...]) -> list[tuple[float, float]]:
    ends = np.cumsum([0.0, *phases])
    inside = 1e-9  # at the very change of phase the acceleration would be that of the next
    return [(float(a + inside * (b - a)), float(b - inside * (b - a))) for a, b in itertools.pairwise(ends)]


def _pull(bench: Bench, speed: FloatArray) -> FloatArray:
    """Return the torque [N·m] that the load of Run asks for at speeds (n,) [rad/s], with its sign."""
    run = bench.settings.run
    return np.full(len(speed), run.load) if run.load_kind == "drives" else abs(run.load) * np.sign(speed)


def _available(bench: Bench, drive: Drive) -> Callable[[FloatArray], FloatArray]:
    """Return what drive and motor have for a moment over the speed, N·m with its friction."""
    if steps_open(bench):
        volts = drive.inverter.v_supply * drive.control.volts_per_bus - drive.inverter.dead_voltage
        return lambda speed: step_motor(drive.machine).most_torque(stepping_current(bench), volts, speed)
    plane = plane_of(bench)
    known = np.isfinite(plane.peak.torque)
    friction = drive.load.coulomb
    return lambda speed: np.asarray(np.interp(speed, plane.peak.speed[known], plane.peak.torque[known] + friction + drive.load.viscous * plane.peak.speed[known], right=0.0))


def _reason(end: float, low: float | None, high: float | None) -> str:
    for limit, beyond, word in ((low, low is not None and end < low, "below"), (high, high is not None and end > high, "above")):
        if beyond and limit is not None:
            return f"goes to {end / (2 * math.pi):.6g} turns, {word} the limit of {limit / (2 * math.pi):.6g}"
    return ""


def _findings(rows: list[Row], order: Order, steps: list[Step]) -> list[Finding]:
    found = [Finding("stop", "row-fails", f"Row {s.index + 1} {s.reason}.") for s in steps if s.reason]
    left = sorted(set(range(len(rows))) - reached(rows))
    if left:
        found.append(Finding("caution", "rows-unreached", f"Row {left[0] + 1}{f' and {len(left) - 1} more are' if len(left) > 1 else ' is'} never reached."))
    if order.ring and sum(rows[k].dwell for k in order.rows) == 0 and not any(s.move.distance for s in steps):
        found.append(Finding("stop", "ring-of-nothing", "The table runs in a ring without a move or a dwell: it never ends and does nothing."))
    elif order.ring:
        found.append(Finding("info", "ring", f"After row {order.rows[-1] + 1} it begins again at row {(rows[order.rows[-1]].follows or order.rows[-1] + 2)}: it runs until it is stopped."))
    waits = [k for k in order.rows if rows[k].branch is not None]
    if waits:
        found.append(Finding("info", "branches", f"{'Row' if len(waits) == 1 else 'Rows'} {', '.join(str(k + 1) for k in waits[:6])} branch on an input: the cycle shown is the one without any."))
    by = sum(s.move.distance for s in steps if rows[s.index].way == "by")
    if order.ring and abs(by) > 1e-9 and not any(rows[k].way == "to" for k in order.rows):
        found.append(Finding("info", "ring-goes-on", f"Each round goes on by {by / (2 * math.pi):.6g} turns."))
    return found



@dataclass(frozen=True)
class Run:
    """The table as the simulated drive runs it once: ``time`` (n,) s, profile and shaft ``wanted``, ``angle`` (n,) rad; ``off`` [rad] at the end of each row's dwell, in its order; ``lost`` full steps of a field that is stepped; ``fault`` ended it, or is empty."""

    time: FloatArray
    wanted: FloatArray
    angle: FloatArray
    off: tuple[float, ...]
    lost: int
    fault: str


def row_limit(bench: Bench, row: Row, i_limit: float) -> float:
    """Return the current limit [A peak] while a row moves."""
    return i_limit if row.torque is None or steps_open(bench) else min(row.torque / torque_constant(bench), i_limit)


def run_table(bench: Bench, found: Cycle) -> Run:
    """Run one cycle of the table from its first row, each row with its own speed and acceleration; raises Refusal where it takes too long."""
    if found.seconds > _PATIENCE:
        raise Refusal(f"the cycle takes {found.seconds:.3g} s", f"one of up to {_PATIENCE:.0f} s is run")
    tried = standing(as_designed(bench))
    rows = rows_of(bench)
    sim, mode, current, count = open_simulation(tried), moving_mode(tried), running_current(tried), count_of(tried)
    base, p = sim.drive, sim.drive.machine.pole_pairs
    sim.command(mode, position=0.0, i_d=current) if steps_open(tried) else sim.command(SPEED)
    sim.skip(_SETTLES + base.control.settle * (base.control.lost_limit > 0) + (5 / base.control.rotor_rate if base.control.rotor_rate > 0 else 0.0))
    at, parts, off, began = 0.0, [], [], sim.time
    every = max(round(found.seconds / base.control.ts / base.control.speed_divider / _ROWS), 1) * int(base.control.speed_divider)
    for step in found.steps:
        at += step.move.distance
        sim.retune(base._replace(control=base.control._replace(move_speed=step.move.speed, move_accel=step.move.accel, i_limit=row_limit(tried, rows[step.index], base.control.i_limit))))
        sim.command(mode, position=round(at / count) * count, i_d=current)
        parts.append(sim.advance(max(step.move.duration + rows[step.index].dwell, 2 * base.control.ts * base.control.speed_divider), every))
        off.append(float(sim.state[state.AT] - sim.state[state.THETA]))
        if sim.fault:
            break
    check_sound(sim)
    trace = join(parts)
    lost = 4 * round(float(sim.state[state.FIELD] / p - sim.state[state.THETA]) / (2 * math.pi / p)) if steps_open(tried) else 0
    return Run(trace["t"] - began, trace["angle_ref"], trace["angle"], tuple(off), lost=lost, fault=sim.fault)
