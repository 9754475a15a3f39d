"""A move of the simulated drive: where the shaft is beside its profile, what it takes, and what the motor has."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.envelope import plane_of
from crisp_compass.course.position import Move, as_designed, design_of, move_of
from crisp_compass.course.speed_design import torque_constant
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.loops.position import PositionDesign
from crisp_compass.plant.control.watching import LEAVES
from crisp_compass.plant.parameters import MOVE, SPEED
from crisp_compass.plant.simulation import Simulation
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.scenarios import open_simulation

#: Seconds that a move may take, and rows that are shown of it.
_PATIENCE, _ROWS = 60.0, 4000


@dataclass(frozen=True)
class Played:
    """A move that was played: ``time`` (n,) s from its begin, profile and shaft ``wanted``, ``angle`` (n,) rad from where it began, ``speed`` (n,) rad/s, torque current ``current`` (n,) A.

    ``error`` [rad] is the most that the shaft is off while it moves, ``left`` [rad] the most of the last tenth of a second, ``settled`` [s] after the profile's end within a count, or the standing window, and there from then on (NaN: not),
    ``peak`` [A] the most torque current, ``rms`` [A] over the move, ``limited`` the part of the move at the current limit; ``fault`` ended it, or is empty."""

    time: FloatArray
    wanted: FloatArray
    angle: FloatArray
    speed: FloatArray
    current: FloatArray
    error: float
    left: float
    settled: float
    peak: float
    rms: float
    limited: float
    fault: str


@dataclass(frozen=True)
class MoveOutlook:
    """All of the page: ``design``, ``move``, what the drive did, torque ``needed`` and ``there`` [N·m] over the profile's ``speed`` (n,) [rad/s], and the least of there over needed (``margin``, infinite where none is needed)."""

    design: PositionDesign
    move: Move
    played: Played
    speed: FloatArray
    needed: FloatArray
    there: FloatArray
    margin: float
    count: float
    findings: tuple[Finding, ...]


def play(sim: Simulation, move: Move, *, tail: float = 0.3) -> Played:
    """Make one move with a drive that holds a position, from where it stands."""
    c = sim.drive.control
    start = float(sim.advance(c.ts)["angle"][-1])
    begin = sim.time
    counts = sim.drive.sensing.counts_per_rev
    count = 2 * math.pi / counts
    at = math.floor(start / count) * count
    sim.command(MOVE, position=at + round(move.distance / count) * count)
    seconds = move.duration + tail
    every = max(round(seconds / c.ts / c.speed_divider / _ROWS), 1) * int(c.speed_divider)  # at the beat of the loop: between its steps the shaft moves on and the profile does not
    trace = sim.advance(seconds, every)
    t = trace["t"] - begin
    off = np.abs(trace["angle_ref"] - trace["angle"])
    late = t > move.duration
    outside = np.flatnonzero(late & (off > max(1.5 * count, LEAVES * c.window)))
    inside = late.any() and not (len(outside) and outside[-1] >= len(t) - 2)
    settled = (float(t[outside[-1]]) - move.duration if len(outside) else 0.0) if inside else math.nan
    moving = ~late if (~late).any() else np.ones(len(t), bool)
    current = trace["i_q"]
    most = sim.drive.control.i_limit
    return Played(
        t, trace["angle_ref"] - at, trace["angle"] - at, trace["speed"], current=current, error=float(off[moving].max()), left=float(off[t > t[-1] - 0.1].max()), settled=settled,
        peak=float(np.max(np.abs(current[moving]))), rms=float(np.sqrt(np.mean(current[moving] ** 2))), limited=float(np.mean(np.abs(trace["i_q_ref"][moving]) > 0.97 * most)), fault=sim.fault,
    )  # fmt: skip


def ready(bench: Bench) -> Simulation:
    """Return the drive of a bench whose position loop is settled, at rest, magnetized and holding its place."""
    sim = open_simulation(bench)
    c = sim.drive.control
    sim.command(SPEED, speed=0.0)
    sim.skip((5 / c.rotor_rate if c.rotor_rate > 0 else 0.0) + 0.2)
    return sim


def move_outlook(bench: Bench) -> MoveOutlook:
    """Play the page's move with the page's loop; raises Refusal where something is missing, nothing moves, or the move takes too long."""
    design, move = design_of(bench), move_of(bench)
    if move.distance == 0.0:
        raise Refusal("no distance is asked for", "enter how far the shaft is to turn", field="motion.distance")
    if move.duration > _PATIENCE:
        raise Refusal(f"the move takes {move.duration:.3g} s", f"one of up to {_PATIENCE:.0f} s is played: a shorter way, or more speed", field="motion.distance")
    tried = standing(as_designed(bench))
    sim = ready(tried)
    played = play(sim, move)
    speed, needed, there = _torques(tried, move, sim)
    least = needed > 1e-3 * torque_constant(tried) * sim.drive.control.i_limit
    margin = float(np.min(there[least] / needed[least])) if least.any() else math.inf
    count = 2 * math.pi / sim.drive.sensing.counts_per_rev
    found = MoveOutlook(design, move, played, speed, needed=needed, there=there, margin=margin, count=count, findings=())
    return MoveOutlook(design, move, played, speed, needed=needed, there=there, margin=margin, count=count, findings=tuple(_findings(tried, found)))


def _torques(bench: Bench, move: Move, sim: Simulation) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return torque at the shaft over the speeds of the move, accelerating against the load: needed, and what drive and motor have there for a moment."""
    run, plane = bench.settings.run, plane_of(bench)
    speed: FloatArray = np.linspace(0.0, move.trapezoid.peak_speed, 60)
    needed = sim.drive.load.whole * move.trapezoid.peak_accel + abs(run.load) + run.quadratic * speed**2
    known = np.isfinite(plane.peak.torque)
    there = np.interp(speed, plane.peak.speed[known], plane.peak.torque[known], right=0.0)
    return speed, np.asarray(needed), np.asarray(there)


def _findings(bench: Bench, found: MoveOutlook) -> list[Finding]:
    p, move, said = found.played, found.move, []
    if p.fault:
        said.append(Finding("stop", "tripped", f"The move ends in a trip: {p.fault}."))
    if found.margin < 1.0:
        k = int(np.argmin(found.there / np.maximum(found.needed, 1e-12)))
        text = f"The move needs {show(float(found.needed[k]), 'N·m', 3)} at {grouped(float(found.speed[k]) * RPM_PER_RAD_S)} rpm, and drive and motor have {show(float(found.there[k]), 'N·m', 3)}: less acceleration, or less speed."
        said.append(Finding("caution", "torque-short", text))
    if p.limited > 0.02:
        said.append(Finding("caution", "at-the-limit", f"The current stands at its limit for {100 * p.limited:.0f} % of the move: the shaft falls behind, and catches up too fast."))
    if not math.isfinite(found.design.overshoot):
        said.append(Finding("stop", "unstable", f"This gain is not stable: {show(found.design.most, '1/s', 3)} is the most."))
    elif found.design.overshoot > 10.0:
        said.append(Finding("caution", "overshoots", f"A step of position overshoots by {found.design.overshoot:.0f} %: less gain for what must not pass its place."))
    if math.isnan(p.settled) and not p.fault and math.isfinite(found.design.overshoot):
        said.append(Finding("caution", "does-not-settle", f"After the move the shaft stays {show(p.left / found.count, '', 2)} counts off, or swings by so much: friction holds it there, and a standing window ends the hunting."))
    if bench.settings.run.load_kind == "drives" and bench.settings.run.load:
        said.append(Finding("caution", "falls", "A load that drives falls when the motor lets go: a mechanical brake holds it, blocked for every test."))
    said.append(Finding("caution", "moves-at-once", "A move starts at once and ends by itself: hands, hair and tools out of reach of everything that moves, travel free, and an emergency stop within reach."))
    if move.distance and abs(bench.settings.motion.distance) < 2 * found.count:
        said.append(Finding("info", "few-counts", "The way is less than two counts of the sensor."))
    return said
