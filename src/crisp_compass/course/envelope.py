"""The torque–speed plane of this bench's motor and drive: which limit binds where, for a moment and for ever, what is lost, and where the load stands."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.conversions import RPM_PER_RAD_S, peak_from_rms
from crisp_compass.course.block import block_constant, in_blocks
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.drive import machine_of, weakening_current
from crisp_compass.course.heat import around, bodies_of, limit_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, Finding, FloatArray
from crisp_compass.loops.envelope import CURRENT, NOTHING, POWER, VOLTAGE, Envelope, Losses, Motor, envelope, points
from crisp_compass.motor import family_of, three_phases
from crisp_compass.plant.parameters import Control, Induction
from crisp_compass.quantities import grouped, show
from crisp_compass.sensing import SENSORS
from crisp_compass.thermal.model import continuous_current

#: Points of the curves, cells of the map along each axis, and levels of its contours.
_POINTS, CELLS = 160, 60
LEVELS = (0.3, 0.5, 0.6, 0.7, 0.8, 0.85, 0.9, 0.93, 0.95)


Kind = Literal["peak", "lasting", "speed", "power", "back", "bus"]


@dataclass(frozen=True)
class Reason:
    """Something that limits: a ``value`` in SI of a ``kind``, its ``name``, and whether it is the firmware's own setting."""

    kind: Kind
    value: float
    name: str
    own: bool = False


def motor_on_plane(bench: Bench) -> Motor:
    """Return what stands behind the torque; raises Refusal naming what is missing."""
    machine, _ = machine_of(bench)
    family, plate = family_of(bench), bench.settings.plate
    if in_blocks(bench):
        return Motor("armature", 2 * machine.r, 2 * machine.lq, 2 * machine.lq, psi=block_constant(bench), pole_pairs=1.0, factor=1.0)
    if not family.turns_field:
        return Motor("armature", machine.r, machine.ld, machine.lq, psi=machine.psi, pole_pairs=1.0, factor=1.0, drop=getattr(machine, "drop", 0.0))
    if isinstance(machine, Induction):
        told = family.believed(bench)
        return Motor("cage", machine.r, machine.ld, machine.lq, psi=machine.psi, pole_pairs=machine.pole_pairs, factor=plate.torque_factor, weakest=0.0, rr=machine.rr, lm=machine.lm, i_flux=told["i_flux"], flux_volts=told["flux_share"] * usable_voltage(bench).command)
    return Motor("magnet", machine.r, machine.ld, machine.lq, psi=machine.psi, pole_pairs=machine.pole_pairs, factor=plate.torque_factor, weakest=weakening_current(bench) or 0.0)


def losses_on_plane(bench: Bench) -> Losses:
    """Return friction as measured, and what the bridge loses: conduction, and switching averaged over a turn (modulation.losses)."""
    _, load = machine_of(bench)
    pwm, v = bench.settings.pwm, bench.settings.plate.v_bus
    conducts = 2.0 if in_blocks(bench) else 1.5 if three_phases(bench) else 2.0 * bench.settings.plate.torque_factor
    legs = 3 if three_phases(bench) else 2
    switches = legs * 0.5 * v * 2 / math.pi * (pwm.t_on + pwm.t_off) * pwm.carrier_hz
    return Losses(load.viscous, load.coulomb, conducts * pwm.r_switch, switches)


def torque_per_ampere(m: Motor) -> float:
    """Return N·m per A of torque current, with full flux."""
    return m.psi if m.kind == "armature" else m.factor * m.pole_pairs * m.psi


def reasons_of(bench: Bench, m: Motor, speed: float = 0.0) -> list[Reason]:
    """Return everything that limits current, speed or power of this bench; the lasting current by heat is that at ``speed`` [rad/s]."""
    s, run, supply = bench.settings.limits, bench.settings.run, bench.settings.supply
    kt, flux = torque_per_ampere(m), m.i_flux if m.kind == "cage" else 0.0
    found = [Reason("peak", run.i_limit, "the firmware's current limit", own=True)]

    def add(kind: Kind, value: float | None, name: str, *, own: bool = False) -> None:
        if value is not None and math.isfinite(value):
            found.append(Reason(kind, value, name, own))

    def drives(value: float | None) -> float | None:
        return None if value is None else value if supply.drive_base == "peak" else peak_from_rms(value)

    add("peak", s.motor_peak, "the motor's peak current")
    add("peak", s.magnet_current, "the magnet")
    add("peak", drives(supply.drive_peak), "the drive's peak current")
    add("peak", None if s.gear_torque is None else math.hypot(s.gear_torque / kt, flux), "the gear's peak torque")
    add("lasting", drives(supply.drive_continuous), "the drive's continuous current")
    add("lasting", None if s.gear_lasting is None else math.hypot(s.gear_lasting / kt, flux), "the gear's lasting torque")
    known, limit = bodies_of(bench), limit_of(bench)
    if known is not None and limit is not None and bench.settings.heat.to_air is not None:
        there = around(bench, speed, rated_peak(bench.settings.plate))
        add("lasting", continuous_current(known.bodies, limit, there.ambient, housing_loss=there.housing_loss, air_factor=there.air_factor), "the winding's temperature")
    else:
        add("lasting", rated_peak(bench.settings.plate), "the motor's rated current")
    add("speed", s.rotor_speed, "the rotor")
    add("speed", s.gear_speed, "the gear's highest speed")
    if s.sensor_hz is not None and SENSORS[bench.settings.sensor.kind].counted:
        add("speed", 2 * math.pi * s.sensor_hz / (bench.settings.sensor.counts_per_rev / 4), "the encoder's input")
    add("speed", run.speed_trip, "the over-speed trip", own=True)
    add("power", s.supply_power, "the supply's power")
    add("power", bench.settings.bus.power_from, "the firmware's limit of power", own=True)
    add("back", s.taken_back, "the supply")
    add("bus", s.drive_bus, "the drive's bridge")
    if supply.source == "bench" and supply.current_limit is not None:
        add("power", supply.current_limit * bench.settings.plate.v_bus, "the supply's current limit")
    return found


def least(reasons: list[Reason], kind: str, *, foreign: bool = False) -> Reason | None:
    """Return the reason of a kind that binds first; with ``foreign`` none of the firmware's own settings."""
    found = [r for r in reasons if r.kind == kind and not (foreign and r.own)]
    return min(found, key=lambda r: r.value) if found else None


def above_reason(bench: Bench) -> list[Finding]:
    """Return where a limit of the firmware stands above what something else bears: a stop until somebody names why."""
    try:
        m = motor_on_plane(bench)
    except Refusal:
        return []
    reasons, run, because = reasons_of(bench, m), bench.settings.run, bench.settings.limits.because.strip()
    found = []
    for asked, kind, what, unit, scale in (
        (run.i_limit, "peak", "current limit", "A", 1.0), (run.speed_trip, "speed", "over-speed trip", "rpm", RPM_PER_RAD_S), (bench.settings.bus.power_from, "power", "power taken from the supply", "W", 1.0),
        (bench.settings.bus.power_into, "back", "power given back", "W", 1.0), (run.v_max, "bus", "maximum bus", "V", 1.0),
    ):  # fmt: skip
        reason = least(reasons, kind, foreign=True)
        if asked is None or reason is None or asked <= reason.value * (1 + 1e-9):
            continue
        figures = [show(x, unit, 3) if unit != "rpm" else f"{grouped(x * scale)} rpm" for x in (asked, reason.value)]
        text = f"The {what} of {figures[0]} lies above the {figures[1]} that {reason.name} stands"
        if because:
            found.append(Finding("caution", "limit-above-reason", f"{text}: {because}."))
        else:
            found.append(Finding("stop", "limit-above-reason", f"{text}: lower it, or say why on Run, Envelope."))
    return found


@dataclass(frozen=True)
class LoadPoint:
    """Where the load of Run stands: ``torque`` [N·m] at ``speed`` [rad/s], ``current`` [A peak], losses [W] and efficiency; whether the voltage suffices."""

    speed: float
    torque: float
    current: float
    copper: float
    friction: float
    bridge: float
    efficiency: float
    inside: bool


@dataclass(frozen=True)
class Plane:
    """The plane: ``peak`` and ``lasting`` torque over speed with what binds them by name (``peak_binds``, ``lasting_binds``: (n,) names), the load over speed, its ``point``, the
    highest speed and what ends it, and the map: ``map_torque`` (m,), ``map_speed`` (n,), ``efficiency`` (m, n), NaN where it cannot run."""

    peak: Envelope
    lasting: Envelope
    peak_binds: tuple[str, ...]
    lasting_binds: tuple[str, ...]
    load: FloatArray
    point: LoadPoint
    top: float
    top_binds: str
    map_torque: FloatArray
    map_speed: FloatArray
    efficiency: FloatArray
    loss: FloatArray
    findings: tuple[Finding, ...]

    def at(self, speed: float) -> tuple[float, str, float, str]:
        """Return peak torque [N·m] and what binds it, and the same for ever, at a speed [rad/s]."""
        k = int(np.argmin(np.abs(self.peak.speed - speed)))
        return float(self.peak.torque[k]), self.peak_binds[k], float(self.lasting.torque[k]), self.lasting_binds[k]


def plane_of(bench: Bench) -> Plane:
    """Work the plane out; raises Refusal naming what is missing."""
    bench = standing(bench)
    m, losses = motor_on_plane(bench), losses_on_plane(bench)
    usable = usable_voltage(bench)
    volts = bench.settings.plate.v_bus if in_blocks(bench) else usable.command
    m = m._replace(dead=max(usable.command - usable.motor, 0.0))
    if m.weakest > 0:  # field weakening keeps the voltage below its limit, for control
        volts *= Control(1.0).weak_share
    asked = abs(bench.settings.run.speed)
    reasons = reasons_of(bench, m, asked)
    end = least(reasons, "speed")
    reach = _reach(m, losses, volts, max(3 * bench.settings.plate.top_speed, 1.5 * asked))
    top, name = (reach, "the voltage") if end is None or reach < end.value else (end.value, end.name)
    shown = min(1.15 * top, reach) if top < reach else 1.08 * top
    speed: FloatArray = np.linspace(0.0, shown, _POINTS)
    power, peak, lasting = least(reasons, "power"), least(reasons, "peak"), least(reasons, "lasting")
    assert peak is not None
    assert lasting is not None
    forever = min(lasting, peak, key=lambda r: r.value)
    watt = power.value if power is not None else math.inf
    curves = [envelope(m, losses, speed, volts, amps=r.value, power=watt) for r in (peak, forever)]
    if not np.isfinite(curves[0].torque).any():
        raise Refusal("there is no torque at any speed: friction or losses take more than current, voltage or supply give", "check friction, current limit, bus and the supply's power")
    beyond = speed > top * (1 + 1e-9)
    curves = [Envelope(e.speed, np.where(beyond, np.nan, e.torque), e.binds) for e in curves]
    binds = [_names(e, r.name, power, beyond, top=name) for e, r in zip(curves, (peak, forever), strict=True)]
    load = _load(bench, speed)
    point = _point(bench, m, losses, volts, speed=asked)
    rows: FloatArray = np.linspace(0.0, 1.02 * float(np.nanmax(curves[0].torque)), CELLS)
    columns: FloatArray = np.linspace(0.0, min(top, shown), CELLS)
    told = points(m, losses, rows[:, None], columns[None, :], volts=volts)
    out = rows[:, None] * columns[None, :]
    can = told.inside & (told.current <= peak.value) & (out + told.lost <= watt)
    efficiency = np.where(can & (out > 0), out / np.maximum(out + told.lost, 1e-12), np.nan)
    found = Plane(
        curves[0], curves[1], binds[0], binds[1], load=load, point=point, top=top, top_binds=name, map_torque=rows, map_speed=columns, efficiency=efficiency, loss=np.where(can, told.lost, np.nan), findings=()
    )  # fmt: skip
    return replace(found, findings=(*above_reason(bench), *_findings(bench, found)))


def _reach(m: Motor, losses: Losses, volts: float, most: float) -> float:
    """Return the highest speed [rad/s] at which any torque is left."""
    low, high = 0.0, most
    for _ in range(40):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if points(m, losses, np.zeros(1), np.array([middle]), volts=volts).inside[0] else (low, middle)
    return low


def _names(e: Envelope, current: str, power: Reason | None, beyond: BoolArray, top: str) -> tuple[str, ...]:
    by = {CURRENT: current, VOLTAGE: "the voltage", POWER: power.name if power is not None else "", NOTHING: "nothing"}
    return tuple(top if out else by[int(code)] for code, out in zip(e.binds, beyond, strict=True))


def _load(bench: Bench, speed: FloatArray) -> FloatArray:
    """Return the load of Run at speeds (n,) [rad/s], N·m at the shaft: its own friction is the motor's."""
    run = bench.settings.run
    return np.asarray(abs(run.load) + run.quadratic * speed**2)


def _point(bench: Bench, m: Motor, losses: Losses, volts: float, speed: float) -> LoadPoint:
    torque = float(_load(bench, np.array([speed]))[0])
    p = points(m, losses, np.array([torque]), np.array([speed]), volts=volts)
    out = torque * speed
    lost = float(p.lost[0])
    return LoadPoint(speed, torque, float(p.current[0]), float(p.copper[0]), friction=float(p.friction[0]), bridge=float(p.bridge[0]), efficiency=out / (out + lost) if out > 0 else 0.0, inside=bool(p.inside[0]))


def _findings(bench: Bench, found: Plane) -> list[Finding]:
    p, said = found.point, []
    peak, by, lasting, by_lasting = found.at(p.speed)
    at = f"{show(p.torque, 'N·m', 3)} at {grouped(p.speed * RPM_PER_RAD_S)} rpm"
    if p.speed > found.top:
        said.append(Finding("caution", "beyond-top", f"{grouped(p.speed * RPM_PER_RAD_S)} rpm are asked for, and {found.top_binds} ends at {grouped(found.top * RPM_PER_RAD_S)} rpm."))
    elif not p.inside or p.torque > peak:
        said.append(Finding("caution", "load-beyond-peak", f"The load of {at} is more than the {show(peak, 'N·m', 3)} that {by} leaves there."))
    elif p.torque > lasting:
        said.append(Finding("caution", "load-beyond-lasting", f"The load of {at} may stand for a moment only: {by_lasting} leaves {show(lasting, 'N·m', 3)} for ever. Heat says for how long."))
    if found.top_binds == "the rotor" or (bench.settings.limits.rotor_speed is not None and p.speed > 0.8 * bench.settings.limits.rotor_speed):
        said.append(Finding("caution", "rotor-burst", "A rotor that bursts throws pieces: never beyond its speed, with a guard around it, nobody in its plane."))
    return said
