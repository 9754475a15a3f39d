"""How far a stepper follows its steps: torque at which it falls out over the step rate, found by running the plant.

No rule decides: the rotor is run up along the ramp, the load is raised slowly, and it has lost synchronism when it lies more than
half an electrical turn from the commanded angle (two full steps: from there it falls to another stable place). A rate that it
does not even reach without load has no torque.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import STEP, AnyMachine, Drive
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.untuned_drive import untuned_drive

#: Rates of the curve, and seconds in which the load is raised from nothing to the holding torque.
_RATES, _RAISE = 14, 0.35
#: Rates at which the shaking is looked at.
_SHAKEN = 36


@dataclass(frozen=True)
class Stepping:
    """``speed`` (n,) rad/s mechanical, ``pull_out`` (n,) N·m by the plant (0 where it does not get there), ``limit`` (n,) N·m what
    winding and supply allow; ``holding`` N·m at this current, ``resonance`` rad/s of the rotor in its field, ``heat`` W of both
    windings, ``idle`` (torque N·m, heat W) at the reduced current; ``fell`` rad/s of the first rate that is not reached (NaN: none); ``full_step`` rad,
    ``peak`` A of a winding. ``shaken_at`` (m,) rad/s and ``shaking`` (m,), how far the speed swings there without load, of itself.
    """

    speed: FloatArray
    pull_out: FloatArray
    limit: FloatArray
    holding: float
    resonance: float
    heat: float
    idle: tuple[float, float]
    fell: float
    full_step: float
    peak: float
    shaken_at: FloatArray
    shaking: FloatArray


def current_limit_torque(m: AnyMachine, current: float, volts: float, speed: FloatArray) -> FloatArray:
    """Return the most torque (n,) [N·m] that a current vector ``current`` [A] or the voltage ``volts`` [V] a winding allows.

    Steady state of a round machine: i_q = (R·(v_q − ωψ) − ωL·v_d)/Z² with Z² = R² + (ωL)². Over all directions of a voltage of
    length V the most is (V·Z − ωψR)/Z² (Cauchy–Schwarz on R·v_q − ωL·v_d).
    """
    we = m.pole_pairs * np.asarray(speed)
    z2 = m.r**2 + (we * 0.5 * (m.ld + m.lq)) ** 2
    by_voltage = m.pole_pairs * m.psi * (volts * np.sqrt(z2) - m.psi * we * m.r) / z2
    return np.asarray(np.maximum(np.minimum(m.pole_pairs * m.psi * current, by_voltage), 0.0))


def pull_out(drive: Drive, current: float, speed: float) -> float:
    """Return the load torque [N·m] at which the rotor falls out at a speed [rad/s]; 0 where it does not get there."""
    m = drive.machine
    sim = Simulation(drive)
    most = m.pole_pairs * m.psi * current
    sim.command(STEP, speed=0.0, i_d=current)
    sim.advance(0.05)
    sim.command(STEP, speed=speed, i_d=current)
    sim.advance(speed / drive.control.ramp + 0.1)
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


def shaking(drive: Drive, current: float, speed: float) -> float:
    """Return half the peak to peak swing of the speed over the speed, in steady stepping without load; NaN where it falls out."""
    sim = Simulation(drive)
    sim.command(STEP, speed=speed, i_d=current)
    sim.advance(speed / drive.control.ramp + 0.25, 1000)
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
    if bench.settings.plate.windings != 2:
        raise Refusal(
            "only a two-phase stepper is stepped", "set the kind of motor on the plate", field="plate.family"
        )
    settings = bench.settings.stepping
    rms = settings.current if settings.current is not None else rated_peak(bench.settings.plate) / math.sqrt(2)
    current = math.sqrt(2) * rms
    drive = drive._replace(
        control=drive.control._replace(
            microsteps=float(settings.microsteps), ramp=settings.ramp, i_trip=1e9, v_min=0.0, i_limit=1e9
        )
    )
    m, top = drive.machine, bench.settings.plate.top_speed
    volts = usable_voltage(bench, planned=True).motor
    speeds = np.geomspace(0.02, 1.25, _RATES) * top
    torques, fell = np.zeros(len(speeds)), math.nan
    for k, speed in enumerate(speeds):
        torques[k] = pull_out(drive, current, float(speed))
        if torques[k] == 0.0:
            fell = float(speed)
            break
    shaken_at = np.geomspace(0.015, 1.0, _SHAKEN) * top
    shaken = np.array([shaking(drive, current, float(w)) for w in shaken_at])
    kept, heat = settings.idle, 2 * m.r * rms**2
    holding = m.pole_pairs * m.psi * current
    resonance = math.sqrt(m.pole_pairs * holding / drive.load.inertia)
    return Stepping(
        speeds, torques, current_limit_torque(m, current, volts, speeds), holding, resonance, heat,
        (kept * holding, kept**2 * heat), fell, math.pi / 2 / m.pole_pairs, current, shaken_at, shaken,
    )  # fmt: skip
