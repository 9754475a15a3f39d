"""The designed speed loop tried on the simulated drive: a small step, a sudden load, the current while it turns; and runs along a ramp."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settle
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.drive import build_drive, running_mode
from crisp_compass.course.observed import estimates, sure_from
from crisp_compass.course.speed_design import (
    armature_tells,
    design_speed,
    lowest_wanted_speed,
    timed_by_edges,
    torque_constant,
)
from crisp_compass.course.waypoints.commutation import hall_edges
from crisp_compass.course.waypoints.speed_loop import speed_values
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.identify.speed_response import first_step
from crisp_compass.plant.parameters import Drive
from crisp_compass.plant.simulation import Simulation

#: Parts of the current limit that the step's first kick and the sudden load take: well inside every limit.
_KICK, _LOAD = 0.25, 0.3
#: Seconds for which the drive may take to reach its speed.
_PATIENCE = 12.0


@dataclass(frozen=True)
class SpeedTrial:
    """What the simulated drive does: ``time`` (n,) s and true ``speed`` (n,) as a part of a small step at ``at`` [rad/s]; ``overshoot`` [%] and ``settling`` to ±2 % [s]; ``dip`` [rad/s]
    for each N·m of sudden load and ``recovery`` to a tenth of it [s]; ``noise`` of the torque current asked for while it turns [A rms]; ``swing`` of
    the speed by a load that swings with the angle [rad/s, amplitude], NaN without one."""

    time: FloatArray
    speed: FloatArray
    at: float
    overshoot: float
    settling: float
    dip: float
    recovery: float
    noise: float
    swing: float


def as_designed(bench: Bench) -> Bench:
    """Return the bench with its speed loop settled as the page designs it, for a run; raises Refusal where something is missing."""
    return settle(bench, "speed_loop", speed_values(bench, design_speed(bench)), reason="tried", when="")


def _turning(bench: Bench, drive: Drive, speed: float) -> Simulation | None:
    """Return the drive at a speed [rad/s], settled there; None where it does not get there."""
    edges, mode = hall_edges(bench), running_mode(bench)
    sim = Simulation(drive) if edges is None else Simulation(drive, edges=edges)
    sim.command(mode, speed=speed)
    near = 0
    while sim.time < _PATIENCE and not sim.fault:
        seen = sim.advance(0.1)["speed_seen"]
        near = near + 1 if abs(float(np.mean(seen)) - speed) < 0.01 * abs(speed) else 0
        if near >= 3:
            return sim
    return None


def _trial_speed(bench: Bench) -> float:
    """Return the speed [rad/s] at which the loop is tried: that of its design where edges tell it, beyond the hand-over without a sensor."""
    top, sure = bench.settings.plate.top_speed, sure_from(bench)
    if timed_by_edges(bench):
        return max(lowest_wanted_speed(bench), 0.02 * top)
    if sure is not None:
        return min(max(0.4 * top, 1.6 * sure), 0.9 * top)
    usual = 0.2937 * top  # where no whole number of counts comes in each step
    slow = bench.settings.speed_loop.slow_below
    return usual if slow is None else min(max(usual, 2.053 * slow), 0.9 * top)  # with the full gains


def try_speed_loop(bench: Bench) -> SpeedTrial | None:
    """Return what the drive does with the page's design; None where it does not hold its speed. Raises Refusal where the drive lacks something."""
    bench = as_designed(bench)
    drive, design = build_drive(bench), design_speed(bench)
    c = drive.control
    # the design is of the loop alone: no ramp, no torque ahead of it
    ramp = c.ramp if estimates(bench) else 1e9
    drive, swing = drive._replace(load=drive.load._replace(swing=0.0)), drive.load.swing
    drive = drive._replace(control=c._replace(ramp=ramp, jerk=0.0, ahead_inertia=0.0, ahead_viscous=0.0, ahead_coulomb=0.0))
    at = _trial_speed(bench)
    sim = _turning(bench, drive, at)
    if sim is None:
        return None
    slow = 1.0 / design.margins.crossover_hz if math.isfinite(design.margins.crossover_hz) and design.margins.crossover_hz > 0 else 0.1
    quiet = sim.advance(min(10 * slow, 2.0))
    swung = _swung(sim, swing, slow) if swing else math.nan
    step = min(_KICK * c.i_limit / c.kp_speed, 0.2 * at)
    sim.retune(sim.drive._replace(control=sim.drive.control._replace(ramp=1e9)))
    mode = running_mode(bench)
    sim.command(mode, speed=at + step)
    every = max(round(c.speed_divider / 2), 1)
    stepped = sim.advance(min(8 * slow, 3.0), every)
    t = stepped["t"] - stepped["t"][0]
    before = float(np.mean(quiet["speed"]))
    figures = first_step(np.concatenate([[-t[1]], t]), np.concatenate([[at], np.full(len(t), at + step)]), np.concatenate([[at], stepped["speed"] - before + at]))
    torque = _LOAD * c.i_limit * torque_constant(bench)
    sim.set_load(torque, drives=True)
    loaded = sim.advance(min(12 * slow, 4.0), every)
    if sim.fault:
        return None
    fallen = np.abs(before + step - loaded["speed"])
    dip = float(fallen.max()) if not armature_tells(bench) else math.nan  # there a load that stays keeps the speed down
    above = np.flatnonzero(fallen > 0.1 * float(fallen.max()))
    return SpeedTrial(
        t, (stepped["speed"] - before) / step, at, figures[0], settling=figures[2], dip=dip / torque, recovery=float(loaded["t"][above[-1]] - loaded["t"][0]), noise=float(np.std(quiet["i_q_ref"])), swing=swung,
    )  # fmt: skip


def _swung(sim: Simulation, swing: float, slow: float) -> float:
    """Return the amplitude [rad/s] of the speed at the swing's own angle, settled, and leave the load still again."""
    load = sim.drive.load
    sim.retune(sim.drive._replace(load=load._replace(swing=swing)))
    sim.advance(min(6 * slow, 2.0), 50)
    trace = sim.advance(min(max(6 * slow, 12 * 2 * math.pi / max(abs(sim.speed), 1e-3)), 4.0))
    turn = np.exp(-1j * load.swing_order * trace["angle"])
    sim.retune(sim.drive._replace(load=load))
    sim.advance(min(6 * slow, 2.0), 50)
    return 2 * float(abs(np.mean((trace["speed"] - np.mean(trace["speed"])) * turn)))


@dataclass(frozen=True)
class Following:
    """A run from rest to a speed, back through rest to the same speed the other way, and to rest (without a sensor: from where the estimate is sure, and back): ``time`` (n,) s, ``reference`` and ``speed`` (n,) rad/s,
    ``current`` (n,) A, and ``plain`` (n,) rad/s of the same run without feed-forward. ``error`` and ``error_plain`` [rad/s] are the most that the speed is off its ramp, ``peak`` [A]
    the most torque current, ``limited`` the part of the time at its limit, ``seconds`` the time to speed; ``fault`` ended it, or is empty."""

    time: FloatArray
    reference: FloatArray
    speed: FloatArray
    current: FloatArray
    plain: FloatArray
    error: float
    error_plain: float
    peak: float
    limited: float
    seconds: float
    fault: str


def _base(bench: Bench, speed: float) -> float:
    """Return the speed [rad/s] that a run to ``speed`` begins at: rest, but where only a turning rotor tells its angle."""
    sure = sure_from(bench)
    if sure is None:
        return 0.0
    base = 1.3 * sure
    if speed < 1.1 * base:
        raise Refusal(
            f"the run's speed of {speed * RPM_PER_RAD_S:.4g} rpm is not beyond where the estimate is sure, {base * RPM_PER_RAD_S:.4g} rpm",
            "enter a higher one on the run leg", field="run.speed",
        )  # fmt: skip
    return base


def follow(bench: Bench) -> Following:
    """Run the page's loop along its ramp to the run's speed; raises Refusal where the drive lacks something or no speed is asked for."""
    speed = abs(bench.settings.run.speed)
    if speed == 0.0:
        raise Refusal("no speed is asked for", "enter one on the run leg", field="run.speed")
    bench = as_designed(bench)
    drive = build_drive(bench)
    run = bench.settings.run
    c = drive.control
    base = _base(bench, speed)
    up = (speed - base) / c.ramp + (c.ramp / c.jerk if c.jerk > 0 else 0.0)
    still = max(0.25 * up, 0.05)
    field = 5 / c.rotor_rate if c.rotor_rate > 0 else 0.0
    moments = [(speed, field + up + still), *(((-speed, 2 * up + still),) if not base else ()), (base, up + still)]
    if sum(s for _, s in moments) > 60.0:
        raise Refusal(f"the ramp takes {up:.3g} s to the run's speed", "choose a steeper ramp, or a lower speed on the run leg", field="speed_loop.ramp")
    traces = []
    for ahead in (True, False):
        control = c if ahead else c._replace(ahead_inertia=0.0, ahead_viscous=0.0, ahead_coulomb=0.0)
        edges, tried = hall_edges(bench), drive._replace(control=control)
        at_base = _turning(bench, tried, base) if base else None
        if base and at_base is None:
            raise Refusal("the drive does not get to where its estimate is sure", "look at the start-up leg")
        sim = at_base or (Simulation(tried) if edges is None else Simulation(tried, edges=edges))
        sim.set_load(run.load, drives=run.load_kind == "drives")
        total = sum(s for _, s in moments)
        every = max(round(total / c.ts / 4000 / c.speed_divider), 1) * int(c.speed_divider)  # at the beat of the loop, or its steps look like an error
        parts = []
        for target, seconds in moments:
            sim.command(running_mode(bench), speed=target)
            parts.append(sim.advance(seconds, every))
        traces.append((parts, sim.fault))
    (parts, fault), (others, _) = traces
    t, reference, current, true = (np.concatenate([p[k] for p in parts]) for k in ("t", "speed_ref", "i_q", "speed"))
    plain = np.concatenate([p["speed"] for p in others])
    t = t - t[0]
    there = np.flatnonzero(np.abs(reference) >= 0.999 * speed)
    off, off_plain = np.abs(reference - true), np.abs(reference - plain)
    return Following(
        t, reference, true, current, plain=plain, error=float(off.max()), error_plain=float(off_plain.max()), peak=float(np.max(np.abs(current))), limited=float(np.mean(np.abs(current) > 0.97 * c.i_limit)),
        seconds=float(t[there[0]]) if len(there) else math.nan, fault=fault,
    )  # fmt: skip
