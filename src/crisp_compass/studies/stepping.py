"""How far a stepper follows its steps: torque at which it falls out over the step rate, found by running the plant.

No rule decides: the rotor is put in step at a speed, the load is raised slowly, and it has lost synchronism when it lies more than
half an electrical turn from the commanded angle (two full steps: from there it falls to another stable place). Whether the ramp
brings it there from rest is asked apart: what stops it is often a resonance below, and says nothing of the speeds beyond.

Modelled are two windings, each held by its own PI and a bridge that can reverse its voltage at once. A peak-current chopper with
slow decay cannot, and falls short of this at speed.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.open_loop import wanted_current
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, FloatArray
from crisp_compass.motion.step_torque import StepMotor
from crisp_compass.motor import family_of
from crisp_compass.plant import state
from crisp_compass.plant.parameters import STEP, AnyMachine, Drive
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.untuned_drive import untuned_drive

#: Rates of the curve, and seconds in which the load is raised from nothing to the holding torque.
_RATES, _RAISE = 14, 0.35
#: Seconds in which the damped shaft is brought to a speed, and the share of the holding torque that its damping takes there.
_RUN_UP, _DAMPING = 0.2, 0.05
#: Friction over what is believed with which a speed is to be reached.
_FRICTIONS = (1.0, 0.7, 1.4)
#: Speeds tried for the pull-in and how often the edge is halved, and shares of the holding torque that load it.
_PULLED, _FINER = 12, 3
PULLED_LOADS = (0.0, 0.2, 0.4, 0.6, 0.8)
#: Rates at which the shaking is looked at.
_SHAKEN = 36


@dataclass(frozen=True)
class Stepping:
    """``speed`` (n,) rad/s mechanical, ``pull_out`` (n,) N·m by the plant (0 where it does not stay in step), ``reached`` (n,) whether the ramp gets there, ``limit`` (n,) N·m what
    winding and supply allow; ``holding`` N·m at this current, ``resonance`` rad/s of the rotor in its field, ``heat`` W of both
    windings, ``idle`` (torque N·m, heat W) at the reduced current; ``full_step`` rad, ``peak`` A of a winding. ``pull_in`` (k,) rad/s up to which pulses may come without a ramp, over ``pulled`` (k,) N·m of load. ``shaken_at`` (m,) rad/s and ``shaking`` (m,), how far the speed swings there without load, of itself.
    """

    speed: FloatArray
    pull_out: FloatArray
    reached: BoolArray
    limit: FloatArray
    holding: float
    resonance: float
    heat: float
    idle: tuple[float, float]
    full_step: float
    peak: float
    shaken_at: FloatArray
    shaking: FloatArray
    pulled: FloatArray
    pull_in: FloatArray

    def bands(self, *, kept: bool) -> list[tuple[int, int]]:
        """Return first and last index of each run of speeds at which it stays in step (or does not)."""
        edges = np.flatnonzero(np.diff(np.concatenate([[False], (self.pull_out > 0) == kept, [False]]).astype(int)))
        return [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2], strict=True)]

    @property
    def useful(self) -> tuple[int, int] | None:
        """The band of speeds that is worth most (its width times the least torque in it), by first and last index; None where there is none."""
        n = len(self.speed)
        worth = {
            (a, b): float((self.speed[b] - (self.speed[a] if a else 0.0)) * np.min(self.pull_out[a : b + 1]))
            for a in range(n)
            for b in range(a, n)
        }
        best = max(worth, key=lambda band: worth[band])
        return best if worth[best] > 0 else None

    @property
    def first_unreached(self) -> float | None:
        """The first speed [rad/s] of the useful band that the ramp does not bring it to, None where it reaches all."""
        if self.useful is None:
            return None
        first, last = self.useful
        missed = np.flatnonzero(~self.reached[first : last + 1])
        return float(self.speed[first + missed[0]]) if len(missed) else None


def step_motor(m: AnyMachine) -> StepMotor:
    """Return the plant's stepper as its closed forms take it."""
    return StepMotor(m.r, 0.5 * (m.ld + m.lq), m.psi, m.pole_pairs)


def pull_out(drive: Drive, current: float, speed: float) -> float:
    """Return the load torque [N·m] at which the rotor falls out at a speed [rad/s], once it turns there; 0 where it does not stay without load."""
    m = drive.machine
    most = m.pole_pairs * m.psi * current
    sim = _turning(drive, current, speed)
    sim.advance(0.1)
    if not _in_step(sim):
        return 0.0
    pieces = 70
    for k in range(pieces):
        load = 1.3 * most * (k + 1) / pieces
        sim.set_load(load, drives=True)
        sim.advance(1.3 * _RAISE / pieces)
        if not _in_step(sim):
            return float(1.3 * most * k / pieces + drive.load.coulomb + drive.load.viscous * speed)
    return float(1.3 * most)


def _turning(drive: Drive, current: float, speed: float) -> Simulation:
    """Return a simulation of the drive in step at a speed: brought there in a continuous field by a shaft that damps every swing."""
    damped = drive._replace(
        control=drive.control._replace(microsteps=0.0, ramp=speed / _RUN_UP),
        load=drive.load._replace(viscous=_DAMPING * drive.machine.pole_pairs * drive.machine.psi * current / speed),
    )
    before = Simulation(damped)
    before.command(STEP, speed=0.0, i_d=current)
    before.advance(0.1)
    before.command(STEP, speed=speed, i_d=current)
    before.advance(1.5 * _RUN_UP)
    sim = Simulation(drive)
    sim.state[:] = before.state
    sim.command(STEP, speed=speed, i_d=current)
    return sim


def reaches(drive: Drive, current: float, speed: float) -> bool:
    """Tell whether the drive's ramp brings the resting rotor to a speed [rad/s] without load and without a lost step, whatever the friction is within its doubt: through a resonance a single run is luck."""
    for friction in _FRICTIONS:
        sim = Simulation(drive._replace(load=drive.load._replace(coulomb=friction * drive.load.coulomb, viscous=friction * drive.load.viscous)))
        sim.command(STEP, speed=0.0, i_d=current)
        sim.skip(0.2)
        sim.command(STEP, speed=speed, i_d=current)
        sim.skip(speed / drive.control.ramp + 0.1)
        if not _in_step(sim):
            return False
    return True


def starts_at_once(drive: Drive, current: float, speed: float, load: float) -> bool:
    """Tell whether the resting rotor follows pulses of a speed [rad/s] that come without a ramp, and stops with them, no step lost, whatever the friction is within its doubt."""
    m = drive.machine
    sudden = drive._replace(control=drive.control._replace(ramp=1e9))
    for friction in _FRICTIONS:
        sim = Simulation(sudden._replace(load=drive.load._replace(coulomb=friction * drive.load.coulomb, viscous=friction * drive.load.viscous)))
        sim.command(STEP, speed=0.0, i_d=current)
        for part in range(5):  # the load is let down on a rotor that is held
            sim.set_load(0.25 * part * load, drives=True)
            sim.skip(0.04)
        was = float(sim.state[state.FIELD]) - m.pole_pairs * float(sim.state[state.THETA])
        sim.command(STEP, speed=speed, i_d=current)
        sim.skip(max(0.08, 4 * 2 * math.pi / (m.pole_pairs * speed)))
        sim.command(STEP, speed=0.0, i_d=current)
        sim.skip(0.12)
        off = float(sim.state[state.FIELD]) - m.pole_pairs * float(sim.state[state.THETA])
        if abs(off - was) > math.pi:
            return False
    return True


def pull_in(drive: Drive, current: float, load: float, top: float) -> float:
    """Return the highest speed [rad/s] up to ``top`` at which pulses may come without a ramp under a ``load`` [N·m]: below it none of those tried loses a step; 0 where the slowest does."""
    low = 0.0
    for speed in np.geomspace(0.004, 1.0, _PULLED) * top:
        if not starts_at_once(drive, current, float(speed), load):
            high = float(speed)
            for _ in range(_FINER if low else 0):
                middle = math.sqrt(low * high)
                low, high = (middle, high) if starts_at_once(drive, current, middle, load) else (low, middle)
            return low
        low = float(speed)
    return low


def shaking(drive: Drive, current: float, speed: float) -> float:
    """Return half the peak to peak swing of the speed over the speed, in steady stepping without load; NaN where it falls out."""
    sim = _turning(drive, current, speed)
    sim.advance(0.25, 1000)
    if not _in_step(sim):
        return math.nan
    steps = max(16 * 2 * math.pi / (4 * drive.machine.pole_pairs * speed), 0.04)
    return 0.5 * float(np.ptp(sim.advance(min(steps, 0.5))["speed"])) / speed


def _in_step(sim: Simulation) -> bool:
    x, p = sim.state, sim.drive.machine.pole_pairs
    return bool(abs(float(x[state.FIELD]) - p * float(x[state.THETA])) < math.pi)


def stepping_outlook(bench: Bench) -> Stepping:
    """Return how far the bench's stepper follows its steps with the page's current, table and ramp.

    Raises Refusal where the motor is not known far enough, or is no two-phase one.
    """
    drive = untuned_drive(bench)
    if not family_of(bench).open_loop:
        raise Refusal(
            "only a two-phase stepper is stepped", "set the kind of motor on the plate", field="plate.family"
        )
    settings = bench.settings.stepping
    current = wanted_current(bench)
    rms = current / math.sqrt(2)
    drive = drive._replace(
        control=drive.control._replace(
            microsteps=float(settings.microsteps), ramp=settings.ramp, i_trip=1e9, v_min=0.0, i_limit=1e9
        )
    )
    m, top = drive.machine, bench.settings.plate.top_speed
    volts = usable_voltage(bench, planned=True).motor
    speeds = np.geomspace(0.02, 1.25, _RATES) * top
    limit = step_motor(m).most_torque(current, volts, speeds)
    # where winding and supply leave nothing it need not be tried
    torques = np.array([
        pull_out(drive, current, float(w)) if most > 0 else 0.0 for w, most in zip(speeds, limit, strict=True)
    ])  # fmt: skip
    reached = np.array(
        [bool(t > 0) and reaches(drive, current, float(w)) for w, t in zip(speeds, torques, strict=True)]
    )
    shaken_at = np.geomspace(0.015, 1.0, _SHAKEN) * top
    shaken = np.array([shaking(drive, current, float(w)) for w in shaken_at])
    pulled = np.array(PULLED_LOADS) * m.pole_pairs * m.psi * current
    starts = np.array([pull_in(drive, current, float(load), 1.25 * top) for load in pulled])
    kept, heat = settings.idle, 2 * m.r * rms**2
    holding = m.pole_pairs * m.psi * current
    resonance = step_motor(m).resonance(current, drive.load.whole)
    return Stepping(
        speeds, torques, reached, limit, holding=holding, resonance=resonance, heat=heat,
        idle=(kept * holding, kept**2 * heat), full_step=math.pi / 2 / m.pole_pairs, peak=current, shaken_at=shaken_at, shaking=shaken, pulled=pulled, pull_in=starts,
    )  # fmt: skip
