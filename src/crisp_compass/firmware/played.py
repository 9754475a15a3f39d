"""One vector played: what the simulated drive reads and commands, period by period, as rows."""


import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from crisp_compass.course.drive import running_current, running_mode
from crisp_compass.course.position import moving_mode
from crisp_compass.course.waypoints.commutation import hall_edges
from crisp_compass.estimates import FloatArray, IntArray
from crisp_compass.firmware.configuration import encoder_sense, encoder_zero, hall_tables
from crisp_compass.firmware.plan import Plan
from crisp_compass.modulation.full_bridge import leg_duties
from crisp_compass.modulation.vectors import duties
from crisp_compass.plant import state
from crisp_compass.plant.control.block import NONE, high_leg, low_leg
from crisp_compass.plant.kernels import kernel_of
from crisp_compass.plant.parameters import (
    BAD_READING,
    BAD_SENSOR,
    CURRENT,
    FOLLOWING,
    OFF,
    TOO_HOT,
    Drive,
)
from crisp_compass.plant.period import holds_on
from crisp_compass.plant.protection import shorted
from crisp_compass.plant.sensors import hall_sector
from crisp_compass.plant.simulation import EVEN_EDGES, Simulation

#: Rows of a file at most: a port on a small processor replays them in a minute.
MOST_ROWS = 60_000
_HEAD = "mode,target [rad/s or counts],d [A],q [A],i_a [A],i_b [A],i_c [A],v_bus [V],count,speed [rad/s],hall,temp [degC],v_alpha [V],v_beta [V],speed_seen [rad/s],i_q_ref [A],fault,phase,on"

#: Stator's resistance over the believed one where nothing but voltages tell the flux.
_WARMER = 1.15
#: Periods that are played at once: their states are kept.
_AT_ONCE = 1000
#: Column behind those that are written: the step of a block commutation.
_STEP = 18



@dataclass(frozen=True)
class Moment:
    """From second ``at`` on: mode 0 off, 1 at a speed, 2 with the currents ``i_d``, ``i_q`` [A], 3 to a place; target [rad/s, counts of a place], load [N·m] that brakes, and supply [V].

    ``event`` is a fault whose cause is read in the first of these periods: too much current, a hall code that cannot be, no number.
    """

    at: float
    mode: int
    target: float
    load: float
    supply: float
    i_d: float = 0.0
    i_q: float = 0.0
    event: int = 0


@dataclass(frozen=True)
class Vectors:
    """A file of vectors: its name, its text, and where the simulated shaft ended [rad/s]."""

    name: str
    text: str
    speed: float
    seconds: float
    faults: tuple[int, ...]


def firmware_drive(plan: Plan) -> Drive:
    """Return the simulated drive as the vectors take it.

    Its encoder's count 0 lies where the firmware's rounding puts it, so that both see the same angle; and its currents are read without noise
    or steps, which would put an event that hangs on a threshold periods apart between single and double precision.
    """
    drive = plan.drive._replace(sensing=plan.drive.sensing._replace(noise=0.0, step=0.0))
    if plan.context["observed"]:  # a stator warmer than believed, or the flux would need no correction
        drive = drive._replace(machine=drive.machine._replace(r=_WARMER * drive.machine.r))
    if plan.sensor != "encoder" or plan.kind in ("armature", "stepping"):
        return drive
    n, p = drive.sensing.counts_per_rev, drive.machine.pole_pairs
    shift = _zero_counts(plan)
    offset = p * 2 * math.pi / n * (shift - round(shift) - 0.5)
    return drive._replace(control=drive.control._replace(angle_offset=offset))


def _zero_counts(plan: Plan) -> float:
    n, p = plan.drive.sensing.counts_per_rev, plan.drive.machine.pole_pairs
    if plan.kind == "stepping":  # it takes where the shaft first settles for its zero
        return 0.0
    return float(encoder_zero(plan.bench) * n / (2 * math.pi * p))


def played(plan: Plan, name: str, moments: list[Moment], seconds: float) -> Vectors:
    drive = firmware_drive(plan)
    edges = hall_edges(plan.bench) if plan.sensor == "halls" else None
    sim = Simulation(drive, edges=EVEN_EDGES if edges is None else edges)
    steps = min(round(seconds / drive.control.ts), MOST_ROWS)
    begins = [min(round(m.at / drive.control.ts), steps) for m in moments]
    seen = np.zeros((steps, _STEP + 2))
    for now, begin, end in zip(moments, begins, [*begins[1:], steps], strict=True):
        if begin == end:
            continue
        _ask(plan, sim, now)
        if now.event:
            _read_event(plan, sim, now, seen, k=begin)
        for k in range(begin + bool(now.event), end, _AT_ONCE):
            _periods(plan, sim, now, seen, begin=k, end=min(k + _AT_ONCE, end))
    compare = _compare(plan, seen)
    faults = tuple(dict.fromkeys(int(f) for f in seen[:, 15] if f))
    return Vectors(
        name,
        "\n".join([_HEAD + "".join(f",compare_{i}" for i in range(plan.legs)), *_lines(seen, compare), ""]),
        sim.speed,
        seconds,
        faults=faults,
    )


def _ask(plan: Plan, sim: Simulation, now: Moment) -> None:
    """Ask the simulated drive for what a moment says."""
    if now.mode == OFF:
        sim.state[state.FAULT] = 0.0
        sim.state[state.STALL_CLOCK] = 0.0
    mode = {0: OFF, 1: running_mode(plan.bench), 2: CURRENT, 3: moving_mode(plan.bench)}[now.mode]
    place = now.target * plan.count if now.mode == 3 else 0.0
    sim.command(mode, speed=0.0 if now.mode == 3 else now.target, i_d=now.i_d if now.mode == 2 else running_current(plan.bench), i_q=now.i_q, position=place)
    sim.set_load(now.load)
    sim.set_supply(now.supply)


def _read_event(plan: Plan, sim: Simulation, now: Moment, seen: FloatArray, k: int) -> None:
    """Play the period in which a reading fails: the plant's own sensors never say such a thing, and the drive is told what it makes of it."""
    before, x = sim.state.copy(), sim.state
    _periods(plan, sim, now, seen, begin=k, end=k + 1)
    seen[k, 4:7], seen[k, 10] = _bad_reading(plan, now.event, seen[k, 4:7], seen[k, 10])
    x[state.FAULT] = float(now.event)
    if plan.kind == "stepping" and now.event == BAD_READING:
        for part in (state.FIELD, *range(state.WATCHING, state.TRIM_CLOCK + 1)):  # such a period is not computed at all
            x[part] = before[part]
    _note(plan, sim, now, seen[k], x=x, active=False)
    seen[k, _STEP + 1] += 10.0 if now.event == TOO_HOT and plan.bench.settings.run.temp_trip is not None else 0.0


def _periods(plan: Plan, sim: Simulation, now: Moment, seen: FloatArray, begin: int, end: int) -> None:
    """Play periods at once and write what was read and commanded in each."""
    states = np.empty((end - begin + 1, len(sim.state)))
    count = sim.state[state.COUNT]
    kernel_of(sim.drive.machine)(sim.state, sim.drive, sim.inputs, sim._edges, sim._table_edges, end - begin, 1, states[:-1])
    states[-1] = sim.state
    states[:, state.COUNT] = count + np.arange(len(states))  # the kernel counts all of them before the first
    c = sim.drive.control
    for k, before, x in zip(range(begin, end), states[:-1], states[1:], strict=True):
        row = seen[k]
        row[8:11] = _sensed(plan, before, sim._edges, seen[k - 1] if k else row)
        flows = before[state.FAULT] != 0.0 and shorted(before, c)
        row[:4], row[7] = (now.mode, now.target, now.i_d, now.i_q), x[state.V_BUS]
        row[4:7] = _flowing(plan, before) if flows else _currents(plan, x)
        _note(plan, sim, now, row, x=x, active=now.mode != 0 and (x[state.FAULT] == 0.0 or holds_on(x, sim.drive)))


def _note(plan: Plan, sim: Simulation, now: Moment, row: FloatArray, x: FloatArray, *, active: bool) -> None:
    """Write what the drive commands after a period."""
    step = x[state.V_BETA]
    row[11:13] = (x[state.V_ALPHA], 0.0 if plan.kind == "block" else step)
    row[13], row[14], row[15] = x[state.SPEED_SEEN], x[state.IQ_REF], x[state.FAULT]
    row[16] = x[state.PHASE] if plan.kind == "sensorless" or plan.context["observed"] else 0.0
    if active and plan.kind == "sensorless":
        active = x[state.PHASE] != state.RESTING
    row[17] = _on(plan, step) if active else 0.0
    if x[state.FAULT] != 0.0 and shorted(x, sim.drive.control):
        row[17] = (1 << plan.legs) - 1
    if x[state.CHOPPER] != 0.0:
        row[17] += 128
    heat = plan.bench.settings.run.temp_trip
    row[_STEP + 1] = 25.0 if heat is None else heat - 5.0
    row[_STEP] = step if plan.kind == "block" and active else NONE


def _bad_reading(plan: Plan, event: int, currents: FloatArray, code: float) -> tuple[FloatArray, float]:
    """Return currents and hall code of a period in which an event is read."""
    if event == TOO_HOT:
        return currents, code
    if event == BAD_SENSOR:
        return currents, float(hall_tables(plan.bench)[1].index(-1))
    spoiled = np.array(currents)
    spoiled[0] = math.nan if event == BAD_READING else 3 * min(plan.drive.control.i_trip, 1e6)
    return spoiled, code


def _lines(seen: FloatArray, compare: IntArray) -> Iterator[str]:
    for row, counts in zip(seen.tolist(), compare.tolist(), strict=True):  # plain numbers are written three times as quickly
        mode, target, want_d, want_q, ia, ib, ic, bus, count, speed, hall, va, vb, told, iq, fault, phase, on = row[
            :_STEP
        ]
        yield (
            f"{mode:.0f},{target:.7g},{want_d:.6g},{want_q:.6g},{ia:.8g},{ib:.8g},{ic:.8g},{bus:.7g},{count:.0f},{speed:.6g},{hall:.0f},{row[_STEP + 1]:.1f},{va:.6g},{vb:.6g},{told:.6g},{iq:.6g},"
            f"{fault:.0f},{phase:.0f},{on:.0f},{','.join(map(str, counts))}"
        )


def _sensed(plan: Plan, x: FloatArray, edges: FloatArray, before: FloatArray) -> tuple[float, float, float]:
    """Return count, tachometer's speed and hall code at this moment, before the period."""
    n = plan.drive.sensing.counts_per_rev
    if plan.sensor == "encoder":
        counts = math.floor(x[state.THETA] * n / (2 * math.pi))
        if plan.kind != "armature":
            counts -= round(_zero_counts(plan))
        return float(encoder_sense(plan.bench) * counts), 0.0, 0.0
    if plan.sensor == "halls":
        sector = int(hall_sector(plan.drive.machine.pole_pairs * x[state.THETA], edges))
        return 0.0, 0.0, float(hall_tables(plan.bench)[1].index(sector))
    if plan.sensor == "tachometer":
        period = plan.drive.control.ts * plan.drive.control.speed_divider
        due = int(x[state.COUNT]) % int(plan.drive.control.speed_divider) == 0
        counts = math.floor(x[state.THETA] * n / (2 * math.pi))
        return 0.0, (counts - x[state.LAST_ANGLE]) * 2 * math.pi / n / period if due else float(before[9]), 0.0
    return 0.0, 0.0, 0.0


def _flowing(plan: Plan, x: FloatArray) -> tuple[float, float, float]:
    """Return the currents [A] of shorted windings, which the plant's own firmware does not read, before the period."""
    if plan.windings == 1:
        return float(x[state.IQ]), 0.0, 0.0
    if plan.kind == "block":
        return float(x[state.PHASE_A]), float(x[state.PHASE_B]), float(x[state.PHASE_C])
    c, s = math.cos(plan.drive.machine.pole_pairs * x[state.THETA]), math.sin(plan.drive.machine.pole_pairs * x[state.THETA])
    alpha, beta = x[state.ID] * c - x[state.IQ] * s, x[state.ID] * s + x[state.IQ] * c
    if plan.windings == 2:
        return float(alpha), float(beta), 0.0
    return float(alpha), float(-0.5 * alpha + 0.5 * math.sqrt(3) * beta), float(-0.5 * alpha - 0.5 * math.sqrt(3) * beta)


def _currents(plan: Plan, x: FloatArray) -> tuple[float, float, float]:
    a, b = float(x[state.IA]), float(x[state.IB])
    if plan.windings == 1:
        return a, 0.0, 0.0
    if plan.kind != "block":
        return a, b, -a - b if plan.windings == 3 else 0.0
    legs, step = [0.0, 0.0, 0.0], x[state.V_BETA]
    if step == NONE:
        return 0.0, 0.0, 0.0
    legs[high_leg(int(step))], legs[low_leg(int(step))] = a, -a
    return legs[0], legs[1], legs[2]


def _on(plan: Plan, step: float) -> float:
    if plan.kind == "block":
        return 0.0 if step == NONE else float((1 << high_leg(int(step))) | (1 << low_leg(int(step))))
    return float({3: 7, 2: 15, 1: 3}[plan.windings])


def _compare(plan: Plan, seen: FloatArray) -> IntArray:
    """Return the compare counts (n, legs) of the commanded voltages."""
    va, vb, bus = seen[:, 11], seen[:, 12], np.maximum(seen[:, 7], 1.0)
    if plan.kind == "block":
        share = np.zeros((len(seen), 3))
        for k, step in enumerate(seen[:, _STEP].astype(int)):
            if step >= 0:
                share[k, high_leg(step)], share[k, low_leg(step)] = np.clip([va[k] / bus[k], -va[k] / bus[k]], 0, 1)
    elif plan.windings == 3:
        share = duties(plan.context["scheme"], (np.hypot(va, vb) / bus)[:, None], 1.0, np.arctan2(vb, va))  # type: ignore[arg-type]
    else:
        parts = [leg_duties(v / bus, 1.0, plan.context["decay"]) for v in ((va, vb) if plan.windings == 2 else (va,))]
        share = np.hstack(parts)
    counts = _whole_pulses(plan, np.floor(np.clip(share, 0, 1) * plan.pwm.period_counts + 0.5).astype(np.int64))
    held = (seen[:, 15] == FOLLOWING) & plan.context["holds_lost"]
    counts[(seen[:, 17].astype(int) & 127 == 0) | ((seen[:, 15] != 0) & ~held)] = 0
    return counts


def _whole_pulses(plan: Plan, counts: IntArray) -> IntArray:
    pwm = plan.bench.settings.pwm
    ways = 2 if plan.context["centred"] else 1
    least, full = math.ceil(pwm.min_pulse * pwm.timer_hz / ways - 1e-9), plan.pwm.period_counts
    if least:
        counts = np.where(counts < least, np.where(2 * counts < least, 0, least), counts)
        counts = np.where(counts > full - least, np.where(2 * (full - counts) < least, full, full - least), counts)
    return np.asarray(counts)
