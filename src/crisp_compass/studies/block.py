"""Block commutation beside field orientation on the same motor: torque over the angle, and what timing advance buys, by the plant."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.course.block import block_machine, waveform
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.block import TorqueOverAngle, Waveform, block_torque, sine_torque
from crisp_compass.motor import pole_pairs_of
from crisp_compass.plant.parameters import CURRENT, SPEED, Drive, Load
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.untuned_drive import untuned_drive

#: Advances tried, degrees, and the load at which the speed reached is compared, of rated torque.
ADVANCES = (0.0, 5.0, 10.0, 15.0, 20.0, 25.0, 30.0)
_LOAD = 0.8
#: Most periods of a part of a run.
_MOST = 300_000


@dataclass(frozen=True)
class BlockOutlook:
    """``wave`` and its ``origin``; ideal ``block`` and ``sine`` torque of an ampere; the plant's torque over the angle (n,) [°] at
    rated current, slowly turned, ``angle``, ``block_torque``, ``sine_torque`` (n,) [N·m].

    ``advances`` (m,) [°] with the speed ``reached`` (m,) [rad/s] under ``load`` [N·m] at full voltage and the current (m,) [A] it
    takes; ``oriented`` [rad/s] what field orientation reaches there. ``from_rest`` (m,) [N·m] is the least torque over the angle at rated current:
    a heavier load is not started from everywhere with that advance.
    """

    wave: Waveform
    origin: str
    block: TorqueOverAngle
    sine: TorqueOverAngle
    angle: FloatArray
    block_torque: FloatArray
    sine_torque: FloatArray
    advances: FloatArray
    reached: FloatArray
    current: FloatArray
    oriented: float
    load: float
    from_rest: FloatArray


def _drive(bench: Bench, *, block: bool) -> Drive:
    """Return the drive on the machine phase by phase, with its own loops or stand-ins, either way commutated."""
    plain = untuned_drive(enter(bench, "current_loop", {"commutation": "sinusoidal"}))
    m = plain.machine
    machine = block_machine(bench, m.r, 0.5 * (m.ld + m.lq))
    return plain._replace(machine=machine, control=plain.control._replace(block=float(block)))


def _over_angle(drive: Drive, current: float, bench: Bench) -> tuple[FloatArray, FloatArray]:
    """Return one electrical turn of torque at a held, slow speed: angle [°] and torque [N·m]."""
    p = pole_pairs_of(bench.settings.plate)
    slow = 0.02 * bench.settings.plate.top_speed
    sim = Simulation(drive._replace(load=Load(1e9, 0.0, 0.0), control=drive.control._replace(i_trip=1e9, v_min=0.0)))
    sim.turn_at(slow)
    sim.command(CURRENT, i_q=current)
    turn = 2 * math.pi / (p * slow)
    most = _MOST * drive.control.ts
    sim.advance(min(max(0.25 * turn, 60 * drive.control.ts), most), 1000)
    every = max(round(min(turn, most) / drive.control.ts / 720), 1)
    trace = sim.advance(min(turn, most), every)
    angle = np.degrees(trace["theta_e"]) % 360
    order = np.argsort(angle)
    return angle[order], trace["torque"][order]


def _reached(drive: Drive, top: float, load: float, advance: float) -> tuple[float, float]:
    """Return speed [rad/s] and current [A, of two phases with the same heat] under a load that brakes, the speed asked for beyond reach."""
    control = drive.control._replace(advance=advance, i_trip=1e9, v_min=0.0, stall_time=1e9)
    sim = Simulation(drive._replace(control=control))
    sim.command(SPEED, speed=3.0 * top)
    most = _MOST * drive.control.ts
    sim.advance(min(3.0 * top / control.ramp * 0.5 + 0.2, most), 1000)
    sim.set_load(load)
    mechanical = max(drive.load.whole * top / max(load, 1e-12), 0.05)
    sim.advance(min(10 * mechanical, 2.0, most), 1000)
    trace = sim.advance(min(0.05, most))
    # what heats the copper as a steady current through two phases would: the regulated leg alone misses what still flows in the one before
    square = trace["i_a"] ** 2 + trace["i_b"] ** 2 + trace["i_c"] ** 2
    return float(np.mean(trace["speed"])), float(np.sqrt(0.5 * np.mean(square)))


def block_outlook(bench: Bench) -> BlockOutlook:
    """Return both ways of commutation beside each other; raises Refusal naming what is not known far enough."""
    wave, origin = waveform(bench)
    p = pole_pairs_of(bench.settings.plate)
    block, sine = block_torque(wave, p), sine_torque(wave, p)
    current = rated_peak(bench.settings.plate)
    switched, oriented = _drive(bench, block=True), _drive(bench, block=False)
    angle, torque = _over_angle(switched, current, bench)
    other_angle, other = _over_angle(oriented, current, bench)
    top = bench.settings.plate.top_speed
    load = _LOAD * block.mean * current
    found = [_reached(switched, top, load, math.radians(a)) for a in ADVANCES]
    return BlockOutlook(
        wave, origin, block, sine, angle=angle, block_torque=torque, sine_torque=np.interp(angle, other_angle, other), advances=np.array(ADVANCES),
        reached=np.array([f[0] for f in found]), current=np.array([f[1] for f in found]), oriented=_reached(oriented, top, load, 0.0)[0], load=load,
        from_rest=np.array([current * float(np.min(block_torque(wave, p, math.radians(a)).torque)) for a in ADVANCES]),
    )  # fmt: skip
