"""A move of a motor that is stepped, and nothing tells whether it follows: where it is commanded, where it is, and how little current or how much acceleration still keeps its place.

A rotor that falls back by more than half an electrical turn is drawn to the next stable place: what is lost are whole electrical turns, four full steps each.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.open_loop import stepping_current
from crisp_compass.course.position import Move, as_designed, count_of, move_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import PULSE, Drive
from crisp_compass.plant.simulation import Simulation
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.scenarios import check_sound, open_simulation
from crisp_compass.studies.stepping import step_motor

#: Seconds that a move may take, rows that are shown, and seconds for which the shaft settles before and after.
_PATIENCE, _ROWS, _SETTLES = 30.0, 4000, 0.2
#: Friction and supply over what they are believed, among which a current or an acceleration must keep its place.
_DOUBTS = ((1.0, 1.0), (1.5, 1.0), (1.0, 0.9), (1.5, 0.9))
#: Seconds at speed that are enough to see whether it falls out there.
_CRUISES = 0.3
#: What an acceleration keeps of the largest one that just holds (common practice: 1.5 to 2).
MARGIN = 1.5


@dataclass(frozen=True)
class Stepped:
    """``time`` (n,) s, ``commanded`` and ``real`` (n,) rad from the begin, ``speed`` (n,) rad/s; ``lost`` full steps at the end with the sign of what is missing, ``behind`` the most that the rotor was off before, in full steps; ``fault`` ended it, or is empty."""

    time: FloatArray
    commanded: FloatArray
    real: FloatArray
    speed: FloatArray
    lost: int
    behind: float
    fault: str


@dataclass(frozen=True)
class SteppedOutlook:
    """All of the page: the move as set, torque ``needed`` and ``there`` [N·m] over the profile's ``axis`` (m,) [rad/s], the least current [A peak] and the most acceleration [rad/s²] that keep place whatever friction and supply
    do (NaN: none does), ``rate`` entries of the table a second, ``resonance`` [Hz] of the rotor in its field, ``step`` [rad], ``heat`` [W] while moving and at rest."""

    move: Move
    played: Stepped
    axis: FloatArray
    needed: FloatArray
    there: FloatArray
    least_current: float
    most_accel: float
    current: float
    rate: float
    resonance: float
    step: float
    heat: tuple[float, float]
    findings: tuple[Finding, ...]


def play_steps(sim: Simulation, move: Move, current: float, count: float) -> Stepped:
    """Make one move with a stepped field from where it stands; ``current`` A peak, ``count`` [rad] the least way."""
    x, p = sim.state, sim.drive.machine.pole_pairs
    begin = round(float(x[state.FIELD]) / p / count) * count
    load, drives = float(sim.inputs[state.IN_LOAD]), bool(sim.inputs[state.IN_DRIVES])
    sim.command(PULSE, position=begin, i_d=current)
    for part in range(11):  # a load is let down on a rotor that is held, as a brake does: at once it would swing by twice its lag
        sim.set_load(0.1 * part * load, drives=drives)
        sim.advance(0.1 * _SETTLES, 1000)
    was, start = float(x[state.FIELD] / p - x[state.THETA]), sim.time
    sim.command(PULSE, position=begin + round(move.distance / count) * count, i_d=current)
    c = sim.drive.control
    every = max(round((move.duration + _SETTLES) / c.ts / c.speed_divider / _ROWS), 1) * int(c.speed_divider)
    trace = sim.advance(move.duration + _SETTLES, every)
    off = trace["angle_ref"] - trace["angle"]
    sim.advance(0.3, 1000)
    check_sound(sim)
    turn = 2 * math.pi / p
    final = float(x[state.FIELD] / p - x[state.THETA])
    return Stepped(
        trace["t"] - start, trace["angle_ref"] - begin, trace["angle"] - begin, trace["speed"], lost=4 * round((final - was) / turn), behind=float(np.max(np.abs(off))) / (turn / 4), fault=sim.fault,
    )  # fmt: skip


def unwatched(drive: Drive) -> Drive:
    """Return the drive without an encoder that would begin a lost move anew: what is asked here is whether it is lost."""
    return drive._replace(control=drive.control._replace(lost_limit=0.0, window=0.0))


def _keeps(bench: Bench, drive: Drive, move: Move, current: float, count: float) -> bool:
    """Tell whether no step is lost whatever friction and supply do within their doubts."""
    run = bench.settings.run
    for friction, supply in _DOUBTS:
        sim = Simulation(drive._replace(load=drive.load._replace(coulomb=friction * drive.load.coulomb, viscous=friction * drive.load.viscous)))
        sim.set_supply(supply * sim.supply)
        sim.set_load(run.load, drives=run.load_kind == "drives")
        played = play_steps(sim, move, current, count)
        if played.lost or played.fault or played.behind > 2.0:
            return False
    return True


def _edge(holds: Callable[[float], bool], low: float, high: float, steps: int = 7) -> float:
    """Return where ``holds`` begins between ``low`` (does not) and ``high`` (does), on the side that does."""
    for _ in range(steps):
        middle = math.sqrt(low * high)
        low, high = (low, middle) if holds(middle) else (middle, high)
    return high


def stepped_outlook(bench: Bench) -> SteppedOutlook:
    """Play the page's move; raises Refusal where something is missing, nothing moves, or the move takes too long."""
    move = move_of(bench)
    if move.distance == 0.0:
        raise Refusal("no distance is asked for", "enter how far the shaft is to turn", field="motion.distance")
    if move.duration > _PATIENCE:
        raise Refusal(f"the move takes {move.duration:.3g} s", f"one of up to {_PATIENCE:.0f} s is played: a shorter way, or more speed", field="motion.distance")
    tried = standing(as_designed(bench))
    sim, count, current = open_simulation(tried), count_of(tried), stepping_current(tried)
    sim.retune(unwatched(sim.drive))
    drive, m = sim.drive, sim.drive.machine
    played = play_steps(sim, move, current, count)
    kept = _keeps(tried, drive, move, current, count=count)
    least = most = math.nan
    if kept:
        least = _edge(lambda i: _keeps(tried, drive, move, i, count=count), 0.03 * current, current)
    short = replace(move, distance=math.copysign(min(abs(move.distance), move.speed**2 / move.accel + _CRUISES * move.speed), move.distance))

    def accelerates(factor: float) -> bool:
        """Tell whether it keeps its place with so many times the acceleration."""
        quicker = replace(short, accel=factor * move.accel)
        return _keeps(tried, drive._replace(control=drive.control._replace(move_accel=quicker.accel)), quicker, current, count=count)

    # upwards to the first that does not hold: beyond a resonance others may hold again, which is no margin
    factors = np.geomspace(1.0 if kept else 1.0 / 32.0, 32.0 if kept else 1.0, 16)
    held: list[bool] = []
    for factor in factors:
        held.append(accelerates(float(factor)))
        if not held[-1]:
            break
    if held[0]:
        high = len(held) - 1
        most = move.accel * float(factors[high]) if held[-1] else move.accel / _edge(lambda slower: accelerates(1.0 / slower), 1.0 / float(factors[high]), 1.0 / float(factors[high - 1]), 4)
    axis: FloatArray = np.linspace(0.0, move.trapezoid.peak_speed, 60)
    run, load = tried.settings.run, drive.load
    needed = load.whole * move.trapezoid.peak_accel + abs(run.load) + load.coulomb + load.viscous * axis + load.quadratic * axis**2
    there = step_motor(m).most_torque(current, drive.inverter.v_supply * drive.control.volts_per_bus - drive.inverter.dead_voltage, axis)
    holding, idle = m.pole_pairs * m.psi * current, drive.control.idle_share
    heat = m.r * current**2
    found = SteppedOutlook(
        move, played, axis, np.asarray(needed), there=there, least_current=least, most_accel=most, current=current, rate=move.trapezoid.peak_speed / count, resonance=math.sqrt(m.pole_pairs * holding / load.whole) / (2 * math.pi),
        step=0.5 * math.pi / m.pole_pairs, heat=(heat, idle * idle * heat), findings=(),
    )  # fmt: skip
    return replace(found, findings=tuple(_findings(tried, found, kept=kept)))


def _findings(bench: Bench, found: SteppedOutlook, *, kept: bool) -> list[Finding]:
    p, said = found.played, []
    if p.fault:
        said.append(Finding("stop", "tripped", f"The move ends in a trip: {p.fault}."))
    if p.lost:
        text = f"{abs(p.lost)} full steps are lost: the pulses say {show(float(p.commanded[-1]) / (2 * math.pi), '', 4)} turns, the shaft stands at {show(float(p.real[-1]) / (2 * math.pi), '', 4)}, and nothing tells the firmware."
        said.append(Finding("stop", "steps-lost", text))
    elif not kept:
        said.append(Finding("caution", "steps-doubtful", "It keeps its place as believed, but not with half as much friction again and a supply a tenth lower: more current, less acceleration, or less speed."))
    elif found.move.accel * MARGIN > found.most_accel:
        said.append(Finding("caution", "little-margin", f"The largest acceleration that keeps its place is {show(found.most_accel, 'rad/s²', 3)}: {show(found.most_accel / MARGIN, 'rad/s²', 3)} would keep a margin of {MARGIN:g}."))
    rate = found.resonance * found.step
    if found.move.trapezoid.peak_speed > rate and bench.settings.stepping.microsteps < 8:
        said.append(Finding("info", "resonance", f"The rotor swings at {show(found.resonance, 'Hz', 3)}: full steps come at that rate at {grouped(rate * RPM_PER_RAD_S)} rpm. Pass it quickly, or take a finer table."))
    said.append(Finding("caution", "moves-at-once", "A move starts at once, and after a lost step it ends elsewhere: hands, hair and tools out of reach, travel free, and an emergency stop within reach."))
    if bench.settings.run.load_kind == "drives" and bench.settings.run.load:
        said.append(Finding("caution", "falls", "A load that drives falls when the motor lets go or falls out: a mechanical brake holds it, blocked for every test."))
    return said


