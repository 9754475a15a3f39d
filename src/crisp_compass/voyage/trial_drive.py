"""A drive to try commutation on before the loops are tuned, and what wrong angles do to it.

Where current and speed loop are not settled yet, modest ones stand in: crossover a twentieth of the loop rate, the
symmetric optimum with a = 4. Sources: the plant's kernel; torque falls with the cosine of the angle error because the
current's share along q is i·cos δ.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench, HallRecord
from crisp_compass.bench.rules import require_built, settled_value
from crisp_compass.conversions import kt_from_flux
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.current import current_gains, limit_tracking
from crisp_compass.loops.speed import tune_speed
from crisp_compass.plant.parameters import ENCODER, HALLS, SPEED, Control, Drive, Inverter, Load, Machine, Sensing
from crisp_compass.plant.simulation import Simulation, Trace
from crisp_compass.voyage.design import build_drive, hall_edges, usable_voltage
from crisp_compass.voyage.plate_outlook import pole_pairs_of
from crisp_compass.voyage.sources import Constant, best_value
from crisp_compass.voyage.supply import rated_peak

_NEEDED: tuple[tuple[Constant, str], ...] = (
    ("resistance", "resistance"), ("ld", "inductance"), ("lq", "inductance"), ("flux_linkage", "flux"),
)  # fmt: skip


def machine_of(bench: Bench) -> tuple[Machine, Load]:
    """Return machine and load from what is settled, else from the best capture, reading or plate figure there is.

    Raises Refusal naming what is known from nowhere.
    """
    require_built(bench)
    values = []
    for constant, leg in _NEEDED:
        value = best_value(bench, constant)
        if value is None:
            raise Refusal(
                f"the {leg} is missing", f"measure it on the {leg} leg, or write the data sheet's on the plate"
            )
        values.append(value)
    r, ld, lq, psi = values
    plate = bench.levers.plate
    inertia, viscous, coulomb = (
        settled_value(bench, f"mechanics.{k}") for k in ("inertia", "viscous_friction", "coulomb_friction")
    )
    turning = inertia.value if inertia else plate.inertia
    if turning is None:
        raise Refusal("the inertia is missing", "measure it on the mechanics leg, or enter the data sheet's there")
    load = Load(
        turning,
        viscous.value if viscous else plate.viscous,
        coulomb.value if coulomb else plate.coulomb,
    )
    return Machine(r, ld, lq, psi, float(pole_pairs_of(plate))), load


def stand_ins(bench: Bench) -> str:
    """Return which figures of a trial run are not settled ones, in a sentence; empty where all are."""
    unsettled = [leg for leg in dict.fromkeys(leg for _, leg in _NEEDED) if leg not in bench.settled]
    parts = [f"{', '.join(unsettled)} from the best capture, reading or data sheet"] if unsettled else []
    if not {"current_loop", "speed_loop", "pwm"} <= set(bench.settled):
        parts.append("stand-in loops")
    return f"Not settled: {'; '.join(parts)}." if parts else ""


def trial_drive(bench: Bench) -> Drive:
    """Return the bench's drive, with stand-in loops where they are not settled; raises Refusal naming what is missing."""
    try:
        return build_drive(bench)
    except Refusal:
        machine, load = machine_of(bench)
    plate, run = bench.levers.plate, bench.levers.run
    loop = settled_value(bench, "pwm.loop_hz")
    loop_hz = loop.value if loop else bench.levers.pwm.carrier_hz
    kp_d, ki_d = current_gains(machine.r, machine.ld, bandwidth_hz=loop_hz / 20, delay=1.5 / loop_hz)
    kp_q, ki_q = current_gains(machine.r, machine.lq, bandwidth_hz=loop_hz / 20, delay=1.5 / loop_hz)
    divider, filter_hz = 10.0, loop_hz / 60
    speed = tune_speed(
        inertia=load.inertia, kt=kt_from_flux(machine.psi, "peak", machine.pole_pairs), viscous=load.viscous, loop_hz=loop_hz / divider,
        current_bandwidth_hz=loop_hz / 20, filter_hz=filter_hz, a=4.0,
    )  # fmt: skip
    limit = rated_peak(bench)
    full_scale = max(2.5 * run.i_trip, 5 * limit, 1.0)
    sensor = float(HALLS if plate.sensor == "halls" else ENCODER)
    control = Control(
        1 / loop_hz, kp_d, ki_d, kp_q, ki_q, divider, speed.kp, speed.ki, 2 * math.pi * filter_hz, limit, 3 * limit, 0.0,
        bench.levers.speed_loop.ramp, 0.5, 1.0, machine.ld, machine.lq, machine.psi, 0.0,
        limit_tracking(kp_d, ki_d, 1 / loop_hz, machine.r, machine.ld), limit_tracking(kp_q, ki_q, 1 / loop_hz, machine.r, machine.lq),
        bench.levers.current_loop.delay_samples, usable_voltage(bench).per_bus,
    )  # fmt: skip
    return Drive(
        machine, load, Inverter(plate.v_bus, 0.05, 0.0, 0.01),
        Sensing(full_scale, 2 * full_scale / 4096, full_scale * 4e-4, 0.0, 0.0, sensor, float(plate.counts_per_rev)), control,
    )  # fmt: skip


@dataclass(frozen=True)
class WrongAngle:
    """A speed step with a wrong angle beside the right one: traces with time from 0, and what happened in words.

    ``torque_share`` cos δ, ``current_factor`` 1/cos δ (infinite from 90° on), ``outcome`` ``runs``, ``weak``,
    ``stands`` or ``runs-away``.
    """

    right: Trace
    wrong: Trace
    torque_share: float
    current_factor: float
    outcome: str
    text: str


def run_wrong_angle(bench: Bench, offset: float, *, reversed_sense: bool = False) -> WrongAngle:
    """Step to the speed of the run page with the angle ``offset`` [rad] off, or with the sensor running against the field.

    Raises Refusal where the machine is not settled far enough.
    """
    drive = trial_drive(bench)
    target = bench.levers.run.speed
    if target == 0:
        raise Refusal("the speed of the run is zero", "set a speed above zero on the run page")
    seconds = min(max(4 * abs(target) / drive.control.ramp, 0.25), 2.0)
    right = _step(bench, drive, target, seconds)
    wrong_drive = drive._replace(
        control=drive.control._replace(angle_offset=offset),
        sensing=drive.sensing._replace(sense=-1.0 if reversed_sense else 1.0),
    )
    wrong = _step(bench, wrong_drive, target, seconds)
    share = math.cos(offset)
    outcome, text = _judge(right, wrong, target)
    return WrongAngle(right, wrong, share, 1 / share if share > 1e-6 else math.inf, outcome, text)


def _step(bench: Bench, drive: Drive, target: float, seconds: float) -> Trace:
    edges = hall_edges(bench)
    sim = Simulation(drive) if edges is None else Simulation(drive, edges=edges)
    sim.command(SPEED, speed=target)
    every = max(1, round(seconds / drive.control.ts / 4000))
    return sim.advance(seconds, every=every)


def _judge(right: Trace, wrong: Trace, target: float) -> tuple[str, str]:
    last = slice(-max(len(wrong["t"]) // 8, 4), None)
    end, goal = float(np.mean(wrong["speed"][last])), float(np.mean(right["speed"][last]))
    if end * np.sign(target) < -0.15 * abs(target):
        return (
            "runs-away",
            f"It runs away the wrong way, past {100 * abs(end / target):.0f} % of the speed asked for.",
        )
    if abs(end) < 0.05 * abs(target):
        return "stands", "It stands still at the current limit and heats the winding."
    ripple = float(np.ptp(wrong["speed"][last]))
    if abs(end - goal) > 0.1 * abs(target) or ripple > 0.3 * abs(target):
        return (
            "weak",
            f"It reaches {100 * end / target:.0f} % of the speed asked for: the current limit leaves too little torque.",
        )
    more = float(np.mean(np.hypot(wrong["i_d"][last], wrong["i_q"][last])))
    less = float(np.mean(np.hypot(right["i_d"][last], right["i_q"][last])))
    return "runs", f"It runs, with {more:.3g} A at that speed instead of {less:.3g} A."


@dataclass(frozen=True)
class EdgeCost:
    """What uneven hall edges cost at one speed, with even edges believed and with the measured ones.

    ``ripple`` peak to peak of the torque over its mean, ``jitter`` standard deviation of the measured speed over the
    mean, ``swing`` that of the shaft's real speed, each (believed even, corrected); traces for both; ``worst`` the
    largest error of one period measurement that the edges alone make (over 60°).
    """

    speed: float
    ripple: tuple[float, float]
    jitter: tuple[float, float]
    swing: tuple[float, float]
    worst: float
    even: Trace
    corrected: Trace


def known_halls(bench: Bench) -> HallRecord | None:
    """Return the newest captured hall table, or the settled one, or None."""
    captured = [e.halls for e in bench.evidence.get("commutation", ()) if e.halls is not None]
    settled = bench.settled.get("commutation")
    return captured[-1] if captured else settled.halls if settled else None


def default_edge_speed(bench: Bench) -> float:
    """Return a quarter of top speed, rad/s."""
    return 0.25 * bench.levers.plate.top_speed


#: Longest run that a page asks for, s of motor time, and a thinning that keeps nothing of what nobody looks at.
_LONGEST_S, _NOT_KEPT = 30.0, 1 << 40


def edge_cost(bench: Bench, edges_deg: FloatArray, speed: float) -> EdgeCost:
    """Run at ``speed`` [rad/s] against 0.3 of rated torque with halls at ``edges_deg`` (6,), ascending from their first.

    Raises Refusal where the machine is not settled, or the speed is above what the bus allows.
    """
    drive = trial_drive(bench)
    m = drive.machine
    top = 0.85 * drive.inverter.v_supply * drive.control.volts_per_bus / (m.pole_pairs * m.psi)
    if not 0 < speed <= top:
        raise Refusal(
            f"{speed * 30 / math.pi:.0f} rpm cannot be run", f"use up to {top * 30 / math.pi:.0f} rpm on this bus"
        )
    turn = 2 * math.pi / (m.pole_pairs * speed)
    start = max(1.5 * speed / drive.control.ramp, 60 * turn, 0.3)
    settled = max(0.4, 40 * turn)
    if start + settled + 6 * turn > _LONGEST_S:
        least = 106 * 2 * math.pi / (m.pole_pairs * _LONGEST_S)
        raise Refusal(
            f"at {speed * 30 / math.pi:.3g} rpm and this ramp the run would take {start + settled + 6 * turn:.0f} s of motor time",
            f"use at least {least * 30 / math.pi:.2g} rpm, and a ramp that gets there within {_LONGEST_S / 3:.0f} s",
        )
    drive = _hall_speed_loop(drive, speed)
    edges = np.asarray(edges_deg, dtype=np.float64)
    grid = edges - 60 * np.arange(6)
    even = float(np.mean(grid)) + 60 * np.arange(6)
    load = 0.3 * 1.5 * m.pole_pairs * m.psi * drive.control.i_limit
    traces = []
    for believed in (even, edges):
        sim = Simulation(drive, edges=np.radians(edges), believed=np.radians(believed))
        sim.command(SPEED, speed=speed)
        sim.advance(start, every=_NOT_KEPT)
        sim.set_load(load)
        sim.advance(settled, every=_NOT_KEPT)
        every = max(1, round(6 * turn / drive.control.ts / 3000))
        traces.append(sim.advance(6 * turn, every=every))
        if sim.fault:
            raise Refusal(f"the simulated run ends in {sim.fault}", "try a lower speed or check the settled values")
    periods = np.diff(np.append(edges, edges[0] + 360)) / 60 - 1
    even_run, corrected = traces
    return EdgeCost(
        speed,
        (_ripple(even_run["torque"]), _ripple(corrected["torque"])),
        (_scatter(even_run["speed_seen"]), _scatter(corrected["speed_seen"])),
        (_scatter(even_run["speed"]), _scatter(corrected["speed"])),
        float(np.max(np.abs(periods))),
        even_run,
        corrected,
    )


def _hall_speed_loop(drive: Drive, speed: float) -> Drive:
    """Return the drive on halls, its speed loop slow against the edges: crossover a thirtieth of their rate."""
    m, c = drive.machine, drive.control
    rate = 6 * m.pole_pairs * speed / (2 * math.pi)
    kt = kt_from_flux(m.psi, "peak", m.pole_pairs)
    loop_hz = 1 / (c.ts * c.speed_divider)
    crossover, filter_hz = min(rate / 30, loop_hz / 60), min(rate / 4, loop_hz / 6)
    loop = tune_speed(
        inertia=drive.load.inertia, kt=kt, viscous=drive.load.viscous, loop_hz=loop_hz, current_bandwidth_hz=20 * crossover,
        filter_hz=filter_hz, bandwidth_hz=crossover,
    )  # fmt: skip
    return drive._replace(
        sensing=drive.sensing._replace(angle_sensor=float(HALLS)),
        control=c._replace(kp_speed=loop.kp, ki_speed=loop.ki, speed_filter=2 * math.pi * filter_hz),
    )


def _ripple(torque: FloatArray) -> float:
    mean = abs(float(np.mean(torque)))
    return float(np.ptp(torque)) / mean if mean > 0 else math.inf


def _scatter(values: FloatArray) -> float:
    return float(np.std(values)) / abs(float(np.mean(values)))
