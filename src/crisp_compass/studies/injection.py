"""A start by injection, played by the plant: are axis and pole found, and does the angle hold at a creep under load, on the way up and through a reversal."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.entered import enter, standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.course.sensorless import conditions_of, plant_of
from crisp_compass.course.waypoints.start_up import StartDesign, design_start
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import NO_FAULT, SPEED, Drive
from crisp_compass.plant.simulation import Simulation, join
from crisp_compass.sensorless.injection_design import Injection, noise_over_saliency
from crisp_compass.studies.start import BEYOND, MOST_PERIODS, drive_for_start, hand_over_of

#: Rotor angles from which axis and pole are sought; speed of the creep, of hand-over; its load, of the load at rated current; its length [s].
_TRIED, _CREEP, _LOADED, _CREEPING = 12, 0.15, 0.5, 0.8
_POINTS = 2500


@dataclass(frozen=True)
class InjectionOutlook:
    """``judged`` and, where it works (``time`` has rows), a run: reference and true ``speed`` [rad/s], ``deviation`` of the angle seen [rad, electrical] while the loop is closed, the firmware's
    ``phase``, its ``fault``, when the loop ``closed`` [s]; ``creep`` [rad rms] of the deviation under half load and the ``load`` [N·m]; of ``tried`` rotor angles how many poles were ``right``, ``wrong`` and
    not told; the angle's ``noise`` [rad rms] that other ``saliency`` would leave, (n,)."""

    design: StartDesign
    judged: Injection
    time: FloatArray
    reference: FloatArray
    speed: FloatArray
    deviation: FloatArray
    phase: FloatArray
    fault: str
    closed: float | None
    creep: float
    load: float
    right: int
    wrong: int
    tried: int
    saliency: FloatArray
    noise: FloatArray


def injection_outlook(bench: Bench) -> InjectionOutlook:
    """Judge and play a start by injection, whether the bench has chosen it or not; raises Refusal as the start's design does."""
    chosen = enter(bench, "start_up", {"standstill": "injection"})
    design, none = design_start(chosen), np.empty(0)
    judged = design.injection
    over = noise_over_saliency(plant_of(bench), conditions_of(standing(chosen, "start_up")), judged.firmware.volts)
    if not judged.works:
        return InjectionOutlook(
            design, judged, none, none, none, none, none, "", None, math.nan, math.nan, 0, 0, 0, *over
        )
    drive, _ = drive_for_start(chosen)
    m, rated = drive.machine, rated_peak(bench.settings.plate)
    load = _LOADED * m.torque_factor * m.pole_pairs * m.psi * min(rated, judged.most_current or rated)
    right, wrong = _poles(drive)
    return _played(drive, design, load, right, wrong=wrong, over=over)


def _poles(drive: Drive) -> tuple[int, int]:
    """Seek from angles all round; return how many poles were told rightly and wrongly."""
    right = wrong = 0
    p = drive.machine.pole_pairs
    most = drive.start.catch + drive.start.wait + 2 * drive.injected.settle + 3 * drive.injected.pole_time
    for k in range(_TRIED):
        sim = Simulation(drive, seed=k + 1)
        sim.state[state.THETA] = (2 * math.pi * k / _TRIED + 0.05) / p
        sim.command(SPEED, speed=0.05 * hand_over_of(drive))
        while sim.time < most and sim.state[state.PHASE] != state.CLOSED and sim.state[state.FAULT] == NO_FAULT:
            sim.skip(0.2 * drive.injected.pole_time)
        if sim.state[state.PHASE] == state.CLOSED:
            off = math.remainder(sim.state[state.ANGLE_SEEN] - p * sim.state[state.THETA], 2 * math.pi)
            right += abs(off) < math.pi / 2
            wrong += abs(off) >= math.pi / 2
    return right, wrong


def _played(
    drive: Drive, design: StartDesign, load: float, right: int, wrong: int, over: tuple[FloatArray, FloatArray]
) -> InjectionOutlook:
    """Play a creep with a load that comes, the way up and a reversal."""
    hand_over, ramp = hand_over_of(drive), drive.control.ramp
    found = drive.start.catch + drive.start.wait + drive.injected.settle + 2 * drive.injected.pole_time
    up = BEYOND * hand_over / ramp + 0.3
    periods = (found + 2 * _CREEPING + 3 * up) / drive.control.ts
    if periods > MOST_PERIODS:
        raise Refusal(
            f"a start and a reversal of {periods * drive.control.ts:.3g} s are too long to be simulated",
            "quicken the ramp of the speed loop",
            field="speed_loop.ramp",
        )
    every = max(int(periods / _POINTS), 1)
    sim = Simulation(drive, seed=3)
    sim.state[state.THETA] = 2.0 / drive.machine.pole_pairs
    sim.command(SPEED, speed=_CREEP * hand_over)
    traces = []
    while sim.time < found and sim.state[state.PHASE] != state.CLOSED and sim.state[state.FAULT] == NO_FAULT:
        traces.append(sim.advance(max(0.005, drive.control.ts * every), every=every))
    closed = sim.time if sim.state[state.PHASE] == state.CLOSED else None
    traces.append(sim.advance(_CREEPING, every=every))
    sim.set_load(load)
    loaded_from = sim.time
    traces.append(sim.advance(_CREEPING, every=every))
    loaded_to = sim.time
    sim.set_load(0.0)
    for goal in (BEYOND, -BEYOND):
        sim.command(SPEED, speed=goal * hand_over) if not sim.fault else None
        traces.append(sim.advance(up if goal > 0 else 2 * up, every=every))
    trace = join(traces)
    off = np.remainder(trace["theta_seen"] - trace["theta_e"] + math.pi, 2 * math.pi) - math.pi
    running = trace["phase"] == state.CLOSED
    creeping = running & (trace["t"] > loaded_from) & (trace["t"] <= loaded_to)
    creep = float(np.sqrt(np.mean(off[creeping] ** 2))) if creeping.any() else math.nan
    return InjectionOutlook(
        design, design.injection, trace["t"], trace["speed_ref"], trace["speed"], np.where(running, off, np.nan), trace["phase"], sim.fault, closed, creep, load,
        right, wrong, _TRIED, *over,
    )  # fmt: skip
