"""A move of a stepped field that an encoder watches, with an obstacle dropped in its way for a while: whether the shaft finds its place again, what that takes, and what it ends with where it does not."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.course.open_loop import full_step, stepping_current
from crisp_compass.course.position import Move, as_designed, count_of, move_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import PULSE
from crisp_compass.plant.simulation import Simulation, Trace, join
from crisp_compass.quantities import counted, show
from crisp_compass.studies.scenarios import check_sound, open_simulation

#: Seconds that the whole may take, between two looks at the run, and between two rows that are shown.
_PATIENCE, _PART, _ROW = 30.0, 5e-3, 2e-3
#: Counts within which lost steps must be told apart from jitter, and full steps beyond which a rotor is already drawn on.
_LEAST_COUNTS, _DRAWN_ON = 2.0, 2.0


@dataclass(frozen=True)
class Watched:
    """``time`` (n,) s, ``commanded`` and ``real`` (n,) rad from the begin; when corrections ``began`` [s]; ``arrived`` [s] within its window, NaN if never; ``off`` [rad] at the end; ``fault`` ended it, or is empty."""

    time: FloatArray
    commanded: FloatArray
    real: FloatArray
    began: tuple[float, ...]
    arrived: float
    off: float
    fault: str


@dataclass(frozen=True)
class WatchOutlook:
    """All of the page: the move as set, what came of it with the obstacle ``between`` two moments [s], a full ``step`` and a ``count`` of the encoder [rad], the ``lag`` behind the field that load and friction alone make [rad], and the band beyond which steps are lost (``limit`` [rad])."""

    move: Move
    played: Watched
    between: tuple[float, float]
    step: float
    count: float
    lag: float
    limit: float
    window: float
    findings: tuple[Finding, ...]


def _blocked(sim: Simulation) -> Simulation:
    """Drop an obstacle on the axis: friction that nothing overcomes, whatever hangs on it besides."""
    base, m = sim.drive, sim.drive.machine
    torque = 20.0 * m.torque_factor * m.pole_pairs * m.psi * base.control.i_limit + 4.0 * abs(float(sim.inputs[state.IN_LOAD]))
    sim.retune(base._replace(load=base.load._replace(coulomb=base.load.coulomb + torque, breakaway=base.load.breakaway + torque)))
    return sim


def play_watched(sim: Simulation, move: Move, current: float, count: float, between: tuple[float, float], patience: float) -> Watched:
    """Make one move, blocked ``between`` two moments from its begin [s], and wait up to ``patience`` [s] for it to arrive."""
    x, free, c = sim.state, sim.drive, sim.drive.control
    load, drives = float(sim.inputs[state.IN_LOAD]), bool(sim.inputs[state.IN_DRIVES])
    sim.set_load(0.0)
    sim.command(PULSE, position=0.0, i_d=current)
    sim.advance(c.settle + 0.05, 1000)
    for part in range(11):  # a load is let down on a rotor that is held, as a brake does
        sim.set_load(0.1 * part * load, drives=drives)
        sim.advance(0.02, 1000)
    sim.advance(3.0 * c.settle, 1000)
    start, tried, began, arrived = sim.time, 0.0, [], math.nan
    target = round(move.distance / count) * count
    sim.command(PULSE, position=target, i_d=current)
    every = max(round(_ROW / c.ts / c.speed_divider), 1) * int(c.speed_divider)
    span = max(_PART, every * c.ts)
    parts: list[Trace] = []
    while sim.time - start < patience:
        inside = between[0] <= sim.time - start < between[1]
        if inside and sim.drive is free:
            _blocked(sim)
        elif not inside and sim.drive is not free:
            sim.drive = free
        parts.append(sim.advance(span, every))
        if x[state.TRIED] > tried:
            began.append(sim.time - start)
        tried = float(x[state.TRIED])
        off = abs(target - float(x[state.THETA]))
        rests = x[state.MOVING] != 0.0 and x[state.QUIET] >= c.move_steps and x[state.PLANNED] == target
        there = rests and (x[state.STANDS] != 0.0 if c.window > 0 else off < c.lost_limit)
        arrived = (arrived if not math.isnan(arrived) else sim.time - start) if there else math.nan
        if sim.fault or (not math.isnan(arrived) and sim.time - start > arrived + 2.0 * c.settle and not inside):
            break
    check_sound(sim)
    trace = join(parts)
    return Watched(trace["t"] - start, trace["angle_ref"], trace["angle"], tuple(began), arrived=arrived, off=float(target - x[state.THETA]), fault=sim.fault)


def watch_outlook(bench: Bench) -> WatchOutlook:
    """Play the page's move; raises Refusal where something is missing, nothing moves, or the encoder is too coarse to tell a lost step."""
    move, s = move_of(bench), bench.settings.stepping
    if move.distance == 0.0:
        raise Refusal("no distance is asked for", "enter how far the shaft is to turn", field="motion.distance")
    step, count = full_step(bench), 2 * math.pi / bench.settings.sensor.counts_per_rev
    limit = s.lost_after * step
    if limit < _LEAST_COUNTS * count:
        raise Refusal(
            f"{s.lost_after:.3g} full steps are {limit / count:.2g} counts of this encoder, which cannot tell them", f"a band of {_LEAST_COUNTS * count / step:.2g} full steps at least, or a finer encoder",
            field="stepping.lost_after",
        )  # fmt: skip
    tried = standing(as_designed(bench))
    sim, entry, current = open_simulation(tried), count_of(tried), stepping_current(tried)
    c, m, ld = sim.drive.control, sim.drive.machine, sim.drive.load
    slowest = c.slower ** min(s.corrections, 6)
    patience = min(move.duration * (1.0 + s.corrections) / max(math.sqrt(slowest), 0.05) + s.obstacle + (s.corrections + 6) * (s.settle + 0.2) + 1.0, _PATIENCE)
    if move.duration + s.obstacle + 2.0 * s.settle > _PATIENCE:
        raise Refusal(f"the move takes {move.duration + s.obstacle:.3g} s with its obstacle", f"one of up to {_PATIENCE:.0f} s is played: a shorter way, or more speed", field="motion.distance")
    half = 0.5 * move.duration
    played = play_watched(sim, move, current, entry, between=(half, half + s.obstacle), patience=patience)
    pull = min((abs(bench.settings.run.load) + ld.coulomb) / max(m.pole_pairs * m.psi * current * min(c.idle_share, 1.0), 1e-12), 1.0)
    found = WatchOutlook(move, played, (half, half + s.obstacle), step, count=count, lag=math.asin(pull) / m.pole_pairs, limit=limit, window=c.window, findings=())
    return replace(found, findings=tuple(_findings(tried, found)))


def _findings(bench: Bench, found: WatchOutlook) -> list[Finding]:
    p, s, said = found.played, bench.settings.stepping, []
    falls = bench.settings.run.load_kind == "drives" and bench.settings.run.load != 0.0
    if p.fault and falls and s.on_lost == "off":
        said.append(Finding("stop", "gives-up-and-falls", "Where it gives up the bridge is off, and a load that drives falls: let the field hold it, and a mechanical brake hold it besides."))
    if p.fault and p.fault != "following error":
        said.append(Finding("stop", "tripped", f"The move ends in a trip: {p.fault}."))
    elif p.fault:
        ends = "the field holds the shaft where it is" if s.on_lost == "hold" else "the bridge is off"
        said.append(Finding("caution", "gives-up", f"After {counted(s.corrections, 'correction')} it gives up, {ends}, and the fault “following error” stands: more of them, or a longer time to settle, outlast a longer obstacle."))
    elif math.isnan(p.arrived):
        window = f"within its window of {show(found.window, 'deg', 2)}" if found.window else "at its place"
        said.append(Finding("caution", "never-stands", f"The shaft does not come to stand {window}: it is {show(abs(p.off), 'deg', 2)} off at the end. More current, less friction, or a wider window."))
    if found.lag + 2.0 * found.count > found.limit:
        said.append(Finding("caution", "lag-is-lost", f"Load and friction alone can draw the resting shaft {found.lag / found.step:.2g} full steps off its field: with {found.limit / found.step:.2g} as the band that is taken for lost. Widen it, or give more current at rest."))
    if found.limit > _DRAWN_ON * found.step:
        said.append(Finding("info", "late", "Beyond two full steps the field draws the rotor on to another place: it is seen, and later than it could be."))
    if found.window and found.window < found.count:
        said.append(Finding("caution", "window-below-count", f"A window of {show(found.window, 'deg', 2)} is less than a count of {show(found.count, 'deg', 2)}: the shaft may never stand in it. At least one count and the backlash (common practice)."))
    if not found.window:
        said.append(Finding("info", "no-window", "Without a standing window the shaft is left where load and friction let it come to rest."))
    if s.counts == "against":
        said.append(Finding("info", "counts-against", "The firmware is told that this encoder counts against the field; a short move by hand shows it."))
    said.append(Finding("caution", "begins-anew", "A shaft that is stopped begins anew by itself, several times: hands out of it until the drive is off, and an emergency stop within reach."))
    if falls:
        said.append(Finding("caution", "falls", "A load that drives falls when the motor lets go or falls out: a mechanical brake holds it, blocked for every test."))
    return said


def behind(found: WatchOutlook) -> FloatArray:
    """Return how far the shaft is behind its field over the move, in full steps (n,)."""
    return np.asarray((found.played.commanded - found.played.real) / found.step)
