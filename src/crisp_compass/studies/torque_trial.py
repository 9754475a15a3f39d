"""A torque held while something turns the shaft: how even it is, what makes it uneven, and what it costs in current."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.block import in_blocks
from crisp_compass.course.drive import build_drive
from crisp_compass.course.torque_mode import friction_current, torque_currents
from crisp_compass.course.waypoints.commutation import hall_edges
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.loops.weakening import Limits, torque_per_ampere
from crisp_compass.plant.parameters import CURRENT, Drive, Induction, Load
from crisp_compass.plant.simulation import Simulation
from crisp_compass.quantities import grouped, show
from crisp_compass.sensing.sensor import ENCODER

#: Points of a turn after the run was laid over the shaft's angle, and orders of a turn that are told.
_GRID, _ORDERS = 4096, 400
#: Periods of one run at most, rows a turn at least, and turns that are recorded at most.
_MOST, _ROWS, _TURNS = 400_000, 400, 40
#: Share of the speed that the dragged shaft may gain or lose in the run.
_STEADY = 0.005


@dataclass(frozen=True)
class Turned:
    """Torque at the shaft [N·m] over its ``angle`` [rad] (n,), both for whole turns; ``full``: share of the voltage there is that was asked for at most."""

    angle: FloatArray
    torque: FloatArray
    full: float

    @property
    def mean(self) -> float:
        """Mean torque, N·m."""
        return float(np.mean(self.torque))

    @property
    def ripple(self) -> float:
        """What the torque swings by, rms, N·m."""
        return float(np.std(self.torque))

    @property
    def reach(self) -> float:
        """Half of what 99 of 100 moments span, N·m."""
        low, high = np.quantile(self.torque, (0.005, 0.995))
        return float(high - low) / 2


@dataclass(frozen=True)
class TorqueTrial:
    """``asked`` and ``held`` torque [N·m] at ``speed`` [rad/s]; one turn of it by ``angle`` [rad] (n,), amplitudes (m,) [N·m] of ``orders`` (m,) a turn; ``parts``: what would be less without one cause, rms N·m;
    ``i_d``, ``i_q`` [A peak]; ``least`` [A peak] that could make it (NaN: no other current makes more); ``copper`` [W]; ``friction`` [A peak] that turning takes; ``unsure`` share of the torque that the flux is not known to (NaN: not told)."""

    asked: float
    held: float
    speed: float
    angle: FloatArray
    turn: FloatArray
    orders: FloatArray
    amplitudes: FloatArray
    reach: float
    ripple: float
    parts: tuple[tuple[str, float], ...]
    i_d: float
    i_q: float
    least: float
    copper: float
    friction: float
    lasting: bool
    unsure: float
    findings: tuple[Finding, ...]

    @property
    def per_ampere(self) -> float:
        """Torque for each ampere of the vector's length, N·m/A."""
        return self.held / math.hypot(self.i_d, self.i_q)


def torque_trial(bench: Bench) -> TorqueTrial:
    """Hold ``run.torque`` while the shaft is turned at ``run.speed``; raises Refusal where there is none, or the drive lacks something."""
    run, drive = bench.settings.run, build_drive(bench)
    if not run.torque:
        raise Refusal("no torque is asked for", "enter the torque that the drive is to hold", field="run.torque")
    speed = abs(run.speed)
    slowest = 2 * math.pi / (_MOST * drive.control.ts)
    if speed < slowest:
        raise Refusal(f"at {speed * RPM_PER_RAD_S:.3g} rpm a turn takes too long to be played", f"at least {slowest * RPM_PER_RAD_S:.2g} rpm", field="run.speed")
    i_d, i_q = torque_currents(bench, run.torque)
    whole = _turned(bench, drive, speed, i_d, i_q=i_q)
    angle, turn = _one_turn(whole)
    spectrum = np.abs(np.fft.rfft(turn))[1 : _ORDERS + 1] * 2 / len(turn)
    plain = _turned(bench, _without_all(drive, blocks=in_blocks(bench)), speed, i_d, i_q=i_q).ripple
    parts = [(name, math.sqrt(max(whole.ripple**2 - _turned(bench, other, speed, i_d, i_q=i_q).ripple ** 2, 0.0))) for name, other in _leaving_out(drive, blocks=in_blocks(bench))]
    if plain > 0.02 * whole.ripple:
        parts.append(("waveform and current", plain))
    parts.sort(key=lambda part: -part[1])
    current = math.hypot(i_d, i_q)
    m = drive.machine
    factor = 2.0 if in_blocks(bench) else m.torque_factor
    flux = bench.settled["flux"].values.get("flux_linkage") if "flux" in bench.settled else None
    found = TorqueTrial(
        run.torque, whole.mean, speed, angle, turn=turn, orders=np.arange(1.0, len(spectrum) + 1), amplitudes=spectrum, reach=whole.reach, ripple=whole.ripple, parts=tuple(parts), i_d=i_d, i_q=i_q,
        least=_least_current(bench, drive, whole.mean), copper=factor * m.r * current**2, friction=friction_current(bench, speed), lasting=current <= rated_peak(bench.settings.plate), unsure=flux.u / flux.value if flux is not None and flux.u else math.nan, findings=(),
    )  # fmt: skip
    return _with_findings(bench, found, whole)


def _turned(bench: Bench, drive: Drive, speed: float, i_d: float, i_q: float) -> Turned:
    """Return the torque at a shaft that something far heavier turns at ``speed`` [rad/s]."""
    ts, turn = drive.control.ts, 2 * math.pi / speed
    turns = min(max(math.ceil(_ROWS * ts / turn), 2 if turn < 1.0 else 1), _TURNS)
    settling = max(min(turn, 1.0), 0.02, 6 * drive.machine.lm / drive.machine.rr if isinstance(drive.machine, Induction) else 0.0)
    span = turns * 1.05 * turn
    pull = max(abs(bench.settings.run.torque), drive.load.swing)
    heavy = max(pull * (settling + span) / (_STEADY * speed), drive.load.whole)
    load = Load(heavy, 0.0, 0.0, swing=drive.load.swing, swing_order=drive.load.swing_order)
    control = drive.control._replace(speed_trip=1e9, i2t=0.0, stall_time=1e9, power_from=0.0, power_into=0.0, low_start=0.0, fold_end=0.0, roll=0.0)
    drive = drive._replace(load=load, control=control)
    edges = hall_edges(bench)
    sim = Simulation(drive, seed=3) if edges is None else Simulation(drive, edges=edges, seed=3)
    sim.turn_at(speed)
    sim.command(CURRENT, i_d=i_d, i_q=i_q)
    sim.skip(settling)
    trace = sim.advance(span, every=max(int(turn / ts / _GRID), 1))
    if sim.fault:
        raise Refusal(f"the simulated drive trips while the shaft is turned at {speed * RPM_PER_RAD_S:.4g} rpm: {sim.fault}", "a lower speed, or other limits", field="run.speed")
    angle = np.unwrap(trace["angle"])
    whole = angle <= angle[0] + 2 * math.pi * turns + 1e-9
    angle = angle[whole]
    # what comes by the angle (cogging, a crank) pulls at the shaft, too
    torque = trace["torque"][whole] - load.swing * np.sin(load.swing_order * trace["angle"][whole])
    asked = np.hypot(trace["v_d"], trace["v_q"])[whole]
    return Turned(angle, torque, float(np.quantile(asked, 0.99) / (drive.control.volts_per_bus * np.mean(trace["v_bus"]))))


def _one_turn(whole: Turned) -> tuple[FloatArray, FloatArray]:
    """Return one turn's angles [rad] and torque [N·m] (n,), the mean of all that were recorded."""
    turns = max(round((whole.angle[-1] - whole.angle[0]) / (2 * math.pi)), 1)
    grid = np.arange(_GRID) * 2 * math.pi / _GRID
    start = math.ceil(whole.angle[0] / (2 * math.pi) * _GRID) * 2 * math.pi / _GRID
    laid = np.interp(start + np.arange(_GRID * turns) * 2 * math.pi / _GRID, whole.angle, whole.torque)
    mean = laid.reshape(turns, _GRID).mean(axis=0)
    return grid, np.roll(mean, round(start / (2 * math.pi) * _GRID) % _GRID)


def _leaving_out(drive: Drive, *, blocks: bool) -> list[tuple[str, Drive]]:
    """Return the drive without one cause each."""
    found = []
    sensing = drive.sensing
    if not blocks:  # six steps are what they are whatever tells the sector
        found.append(("sensor of the angle", drive._replace(sensing=sensing._replace(angle_sensor=float(ENCODER), counts_per_rev=float(1 << 22)))))
    if drive.inverter.dead_voltage:
        found.append(("what the bridge loses", drive._replace(inverter=drive.inverter._replace(dead_voltage=0.0))))
    found.append(("current sensing", drive._replace(sensing=sensing._replace(noise=0.0, step=0.0))))
    if drive.load.swing:
        found.append(("cogging, as entered", drive._replace(load=drive.load._replace(swing=0.0))))
    if drive.machine.detent:
        found.append(("detent", drive._replace(machine=drive.machine._replace(detent=0.0))))
    return found


def _without_all(drive: Drive, *, blocks: bool) -> Drive:
    """Return the drive without any of these causes."""
    sensing = drive.sensing._replace(noise=0.0, step=0.0)
    if not blocks:
        sensing = sensing._replace(angle_sensor=float(ENCODER), counts_per_rev=float(1 << 22))
    return drive._replace(
        sensing=sensing, inverter=drive.inverter._replace(dead_voltage=0.0), load=drive.load._replace(swing=0.0), machine=drive.machine._replace(detent=0.0)
    )


def _least_current(bench: Bench, drive: Drive, torque: float) -> float:
    """Return the smallest current [A peak] that makes ``torque`` [N·m] where the axes differ; NaN where i_d = 0 is best already."""
    m = drive.machine
    if isinstance(m, Induction) or in_blocks(bench) or abs(m.lq - m.ld) < 0.02 * m.lq:
        return math.nan
    limits = Limits(m.r, m.ld, m.lq, m.psi, pole_pairs=m.pole_pairs, v_limit=1.0, i_limit=1.0, torque_factor=m.torque_factor)

    def made(current: float) -> float:
        i_d, i_q = torque_per_ampere(limits, current)
        return float(m.torque_factor * m.pole_pairs * (m.psi + (m.ld - m.lq) * i_d) * i_q)

    low, high = 0.0, float(abs(torque) / (m.torque_factor * m.pole_pairs * m.psi))
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if made(middle) < abs(torque) else (low, middle)
    return high


def _with_findings(bench: Bench, found: TorqueTrial, whole: Turned) -> TorqueTrial:
    said = []
    asked, missing = abs(found.asked), 1.0 - found.held / found.asked
    full = bench.settings.run.i_limit
    if math.hypot(found.i_d, found.i_q) > 0.999 * full:
        said.append(Finding("caution", "torque-limited", f"The current limit of {show(full, 'A')} ends it: {show(asked, 'N·m', 3)} takes more."))
    elif missing > 0.03 and whole.full > 0.97:
        said.append(Finding("caution", "torque-by-voltage", f"The voltage ends it: at {grouped(found.speed * RPM_PER_RAD_S)} rpm {show(abs(found.held), 'N·m', 3)} are left of {show(asked, 'N·m', 3)}."))
    elif abs(missing) > 0.03:
        said.append(Finding("info", "torque-off", f"The mean is {100 * abs(missing):.1f} % {'below' if missing > 0 else 'above'} what is asked for: the angle that the sensor tells, or iron that saturates."))
    if not found.lasting:
        said.append(Finding("caution", "not-for-ever", "The current is above the rated one: the winding bears it for a while only, Heat tells how long."))
    cancel = bench.settings.run.drag_cancel
    if cancel is not None and cancel > found.friction:
        said.append(Finding("caution", "drag-drives", f"The drag cancel of {show(cancel, 'A', 3)} is more than the {show(found.friction, 'A', 3)} that friction takes at this speed: with no torque asked for the shaft runs up by itself."))
    if not bench.settings.run.swing:
        said.append(Finding("info", "no-cogging", "Cogging is not in it: enter its torque and how often it comes in a turn, as Mechanics measures it."))
    return replace(found, findings=tuple(said))
