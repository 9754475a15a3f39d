"""The plan by which a drive is put into service, made from the bench and its motor: what to do, who must be clear, what it should read, and what it reads.

Nothing is done because a step was ticked: where the drive can be asked, its answer stands beside what is wanted.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.records import CommissioningRecord
from crisp_compass.bench.rules import settled_value
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.known import CONSTANTS, side_by_side
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.drive.compare import bench_values, compare_with
from crisp_compass.drive.conversation import factor_to_si
from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.faults import faults_of
from crisp_compass.drive.hand import Hand
from crisp_compass.drive.registers import physical, raw_of
from crisp_compass.drive.tuning import kinds_of
from crisp_compass.errors import Refusal
from crisp_compass.motor import family_of, turns_field
from crisp_compass.quantities import grouped, show
from crisp_compass.sensing import SENSORS

State = Literal["ok", "wrong", "open"]
#: How far the bus may lie from what the plate says, and a tachometer from the drive; how far the drive's limit may lie above the motor's rated current (common practice).
_BUS, _TACHO, _LIMIT = 0.10, 0.02, 1.5
#: Share of the top speed at which the direction is looked at, and for how long, s.
_CREEP, _CREEP_S = 0.05, 2.0
#: How far above the speed at which an estimate takes over a motor without a sensor creeps, and the longest start, s.
_ABOVE, _START_S = 1.3, 10.0
#: Share of the top speed at which a brushed motor without a sensor is looked at.
_BLIND = 0.25
_TOPICS_OF_MOTOR = frozenset({"resistance", "inductance", "circuit", "flux", "commutation"})


@dataclass(frozen=True)
class Task:
    """One step of the plan. ``action`` names what the program can do itself: restore, motor, limits, restart, creep, gains; empty for hands alone."""

    key: str
    name: str
    do: str
    should: str
    clear: str
    minutes: int
    action: str = ""


@dataclass(frozen=True)
class Look:
    """What the drive or the bench says of a step now, and whether that is as it should be."""

    state: State
    text: str


@dataclass(frozen=True)
class Line:
    """What a drive was read last: description, parameters and telemetry by name (physical)."""

    description: Description
    held: Mapping[str, float]
    now: Mapping[str, float]


@dataclass(frozen=True)
class Crept:
    """What a slow turn each way read [rad/s]: what was asked for, and the drive's speed forwards and backwards."""

    asked: float
    forwards: float
    backwards: float


_NOBODY = "nobody at the shaft; motor clamped, load off or blocked"
_LEADS_OFF = "supply off and the bus discharged: capacitors hold charge after power-off; wait as the drive's label says and measure"


def plan(bench: Bench, line: Line | None) -> tuple[Task, ...]:
    """Return the steps for this bench's motor and what its drive can do; without a drive those that most have."""
    told = line.description if line is not None else None
    turned, volts = turns_field(bench), bench.settings.plate.v_bus
    slow, rated = creep_speed(bench), rated_peak(bench.settings.plate)
    found = [
        Task("keep", "Factory values, or kept ones", "Decide whether the drive begins from its factory values or keeps what an earlier job left. Note what it holds first: Parameters.", "as decided", clear="", minutes=3, action=_able(told, "restore")),
        Task("supply", "Region and supply", "Set region, mains or bus as the supply is, and measure it at the drive's own terminals.", f"{show(volts, 'V')} within {100 * _BUS:.0f} %", clear="covers on; only licensed people at mains", minutes=5),
        Task("leads_off", "Motor leads off", "Take the motor's leads off the drive, or lock its output, until the limits are in.", "no path to the motor", clear=_LEADS_OFF, minutes=5),
        Task("motor", "The motor's constants", f"Enter the plate and what is settled of this motor: {_constants(bench)}.", "every constant within the drive's entry step", clear="", minutes=5, action="motor" if told is None or _motor_entries(bench, told) else ""),
        Task("limits", "Current limits", "A drive larger than the motor burns it: enter current limit and trip level of the motor, not of the drive.", f"at most {show(_LIMIT * rated, 'A', 3)} peak on a motor of {show(rated, 'A', 3)}", clear="", minutes=3, action="limits" if told is None or _named(told, "current_limit") else ""),
        Task("restart", "Restart, and read again", "Restart the drive, so that what waits for it counts, and read everything back.", "nothing waits", clear="", minutes=2, action=_able(told, "restart")),
        Task("leads_on", "Motor leads on", "Put the leads back as on the wiring chart; screen clamped, earth first.", "as on Plate, Wiring", clear=_LEADS_OFF, minutes=10),
    ]  # fmt: skip
    if told is None or kinds_of(told):
        free = "brake held for one at standstill, load off and a hoisted one blocked for one that turns"
        found.append(Task("tune", "Auto-tune", "Run the drive's own routine on the section Auto-tune, twice, and keep it: it is judged by what it leaves.", "it ran, and agrees with what is known", clear=f"{_NOBODY}; {free}", minutes=10))
    back = "A hoist or an axis under a weight is blocked mechanically for this." if turned else "Brushes spark: nothing that burns nearby."
    found += [
        Task("direction", "Direction, by a slow turn each way", f"Turn slowly one way and the other, and look which way the shaft turns and the load moves. {back}", f"forwards is the way you call forwards, at {grouped(round(slow * RPM_PER_RAD_S))} rpm", clear=_NOBODY, minutes=5, action="creep"),
        Task("creep", "Speed, side by side", "At creep speed read a tachometer at the shaft, and enter it: command, drive and shaft must agree; then at the load, through gear, drum or wheel.", f"within {100 * _TACHO:.0f} %", clear=_NOBODY, minutes=5),
        Task("faults", "No fault stands", "Clear what stands, after its cause was found.", "none", clear="", minutes=2),
        Task("gains", "Gains as settled", "Write every settled value that the drive names, and read it back.", "every one agrees", clear="", minutes=2, action="gains"),
        Task("save", "Restart once more, and keep", "Restart, compare on Parameters once more, and keep the record with the machine.", "all agree after the restart", clear="", minutes=5, action=_able(told, "restart")),
    ]  # fmt: skip
    return tuple(found)


def creep_speed(bench: Bench) -> float:
    """Return the speed [rad/s] of a slow turn: a share of the top speed, or what a motor without a sensor runs at by its estimate."""
    slow = _CREEP * bench.settings.plate.top_speed
    if not turns_field(bench) and not SENSORS[bench.settings.sensor.kind].tells_angle:
        return _BLIND * bench.settings.plate.top_speed  # the armature's voltage tells no slow speed from its brushes' drop
    taken_over = settled_value(bench, "start_up.hand_over") if without_sensor(bench) else None
    return max(slow, _ABOVE * taken_over.value) if taken_over is not None else slow


def _able(told: Description | None, command: str) -> str:
    return command if told is None or told.role("commands", command) is not None else ""


def _constants(bench: Bench) -> str:
    own = family_of(bench).own_circuit
    return "stator resistance, leakage, magnetizing inductance and rotor" if own else "resistance, inductance, flux linkage, zero of the sensor" if turns_field(bench) else "resistance, inductance, Ke"


def _named(told: Description, name: str) -> Entry | None:
    return next((e for e in told.parameters if e.name == name and e.writable), None)


def _motor_entries(bench: Bench, told: Description) -> list[tuple[Entry, float]]:
    return [(e, v) for e, v in bench_values(bench, told.parameters) if e.bench is not None and e.bench.partition(".")[0] in _TOPICS_OF_MOTOR]


def values_to_write(bench: Bench, told: Description, action: str) -> list[tuple[Entry, float]]:
    """Return what an action writes: entries with physical values; raises Refusal where there is nothing."""
    if action == "motor":
        found = _motor_entries(bench, told)
    elif action == "limits":
        entries = [(_named(told, "current_limit"), bench.settings.run.i_limit), (_named(told, "trip_level"), bench.settings.run.i_trip)]
        found = [(e, v / factor_to_si(e)) for e, v in entries if e is not None]
    else:
        found = bench_values(bench, told.parameters)
    found = [(e, v) for e, v in found if e.writable]
    if not found:
        raise Refusal("nothing of this is settled that the drive names", "settle it on its leg first")
    return found


def look(task: Task, bench: Bench, line: Line | None, crept: Crept | None) -> Look:
    """Return what can be read of a step now; ``open`` where only a person can tell."""
    if task.key == "tune":
        return _look_tune(bench)
    if task.key == "direction":
        return _look_direction(crept)
    if task.key == "creep":
        return _look_creep(bench, crept)
    reader = {
        "keep": _look_keep, "supply": _look_supply, "motor": _look_motor, "limits": _look_limits, "faults": _look_faults, "gains": _look_gains, "save": _look_gains,
    }.get(task.key)  # fmt: skip
    if reader is None:
        return Look("open", "")
    return Look("open", "not connected") if line is None else reader(bench, line)


def _look_keep(bench: Bench, line: Line) -> Look:
    known = [e for e in line.description.parameters if e.factory is not None and e.name in line.held]
    moved = [e.name.replace("_", " ") for e in known if not math.isclose(line.held[e.name], e.factory or 0.0, rel_tol=1e-6, abs_tol=1e-12)]
    if not known:
        return Look("open", "the description names no factory values")
    if not moved:
        return Look("ok", f"all {len(known)} at factory")
    return Look("open", f"{len(moved)} of {len(known)} differ from factory: {', '.join(moved[:3])}{' …' if len(moved) > 3 else ''}")


def _look_supply(bench: Bench, line: Line) -> Look:
    entry = next((e for e in line.description.telemetry if e.signal == "v_bus"), None)
    if entry is None or entry.name not in line.now:
        return Look("open", "the drive tells no bus voltage")
    volts, wanted = line.now[entry.name] * factor_to_si(entry), bench.settings.plate.v_bus
    return Look("ok" if abs(volts / wanted - 1) <= _BUS else "wrong", f"{show(volts, 'V')} by the drive")


def _look_motor(bench: Bench, line: Line) -> Look:
    entries = _motor_entries(bench, line.description)
    if not entries:
        return Look("open", "the description names no constants, or none is settled")
    differs = [r for r in compare_with(bench, [e for e, _ in entries], line.held).rows if r.differs]
    if differs:
        return Look("wrong", f"{len(differs)} of {len(entries)} differ: {', '.join(r.name.replace('_', ' ') for r in differs[:3])}")
    cost = [(abs(physical(e, raw_of(e, v)) / v - 1), e.name) for e, v in entries if v]
    worst, name = max(cost, default=(0.0, ""))
    return Look("ok", f"{len(entries)} entered; rounding costs at most {100 * worst:.2g} % ({name.replace('_', ' ')})")


def _look_limits(bench: Bench, line: Line) -> Look:
    entry, rated = _named(line.description, "current_limit"), rated_peak(bench.settings.plate)
    if entry is None or entry.name not in line.held:
        return Look("open", "the description names no current_limit")
    limit = line.held[entry.name] * factor_to_si(entry)
    if limit > _LIMIT * rated * (1 + 1e-6):
        return Look("wrong", f"{show(limit, 'A', 3)}, {limit / rated:.1f} times what the motor is rated for")
    return Look("ok", f"{show(limit, 'A', 3)}")


def _look_tune(bench: Bench) -> Look:
    settings = bench.settings.auto_tune
    if settings.resistance_after is None and settings.inductance_after is None and settings.flux_after is None:
        return Look("open", "nothing kept yet")
    findings = {f.code: f for c in CONSTANTS for f in side_by_side(bench, c).findings}
    if "auto-tune-did-not-run" in findings:
        return Look("wrong", "it did not run")
    return Look("ok", "kept, see Side by side")


def _look_faults(bench: Bench, line: Line) -> Look:
    faults = faults_of(line.description, line.now, line.held)
    standing, masked = ([f.name for f in faults if f.stands], [f.name for f in faults if f.masked])
    if standing or masked:
        return Look("wrong", ", ".join(standing) or f"not watched for: {', '.join(masked)}")
    return Look("ok", "none")


def _look_gains(bench: Bench, line: Line) -> Look:
    named = [e for e in line.description.parameters if e.bench and e.name in line.held]
    rows = [r for r in compare_with(bench, named, line.held).rows if r.settled is not None]
    if not rows:
        return Look("open", "the drive names no settled value")
    differs = [r.name.replace("_", " ") for r in rows if r.differs]
    return Look("wrong", f"{len(differs)} of {len(rows)} differ: {', '.join(differs[:3])}") if differs else Look("ok", f"all {len(rows)} agree")


def _look_direction(crept: Crept | None) -> Look:
    if crept is None:
        return Look("open", "")
    rpm = [round(v * RPM_PER_RAD_S) for v in (crept.forwards, crept.backwards)]
    text = f"{rpm[0]} and {rpm[1]} rpm by the drive".replace("-", "−")
    if crept.forwards * crept.asked <= 0 or crept.backwards * crept.asked >= 0:
        return Look("wrong", f"{text}: against what was asked")
    return Look("open", f"{text}; did the shaft turn the way you call forwards?")


def _look_creep(bench: Bench, crept: Crept | None) -> Look:
    if crept is None:
        return Look("open", "turn slowly first")
    record = bench.commissioning.get("creep")
    read = record.value if record is not None else None
    text = f"asked {crept.asked * RPM_PER_RAD_S:.1f}, drive {crept.forwards * RPM_PER_RAD_S:.1f} rpm"
    droops = not turns_field(bench) and not SENSORS[bench.settings.sensor.kind].tells_angle  # as an armature's voltage lets it
    if abs(crept.forwards / crept.asked - 1) > _TACHO and not droops:
        return Look("wrong", text)
    if read is None:
        return Look("open", f"{text}; enter what a tachometer reads")
    ratio = abs(read / crept.forwards)
    if abs(ratio - 1) <= _TACHO:
        return Look("ok", f"{text}, shaft {read * RPM_PER_RAD_S:.1f} rpm")
    whole = ratio if ratio > 1 else 1 / max(ratio, 1e-9)
    why = f": {round(whole)} to 1, as a gear or a wrong count of pole pairs or lines makes it" if abs(whole - round(whole)) < 0.03 * whole and whole > 1.5 else ""
    return Look("wrong", f"{text}, shaft {read * RPM_PER_RAD_S:.1f} rpm{why}")


def creep(hand: Hand, bench: Bench) -> Crept:
    """Turn slowly one way and the other and return what the drive read; raises Refusal where it does not run."""
    asked = creep_speed(bench)
    read = []
    for sign in (1.0, -1.0):
        hand.ready()
        hand.command("speed", sign * asked)
        began = hand.clock()
        while hand.speed * sign < 0.9 * asked and hand.clock() - began < _START_S:  # a start without a sensor takes its time
            hand.wait(0.05)
        hand.wait(_CREEP_S)
        read.append(_mean_speed(hand))
        hand.stop()
    return Crept(asked, read[0], read[1])


def _mean_speed(hand: Hand) -> float:
    """Return the mean speed [rad/s] of a second: by the angle where one is told, which no ripple aliases, else by looks at odd times."""
    hand.look()
    began, first, samples = hand.clock(), hand.signal("angle"), []
    for k in range(20):
        hand.wait(0.05 * (0.7 + 0.3 * (k % 3)))
        samples.append(hand.speed)
    last = hand.signal("angle")
    if first is None or last is None:
        return sum(samples) / len(samples)
    return (last - first) / (hand.clock() - began)


def standing(bench: Bench, tasks: tuple[Task, ...]) -> tuple[int, int, Task | None]:
    """Return how many steps are done, how many were skipped, and the next one that is neither."""
    records = bench.commissioning
    done = sum(1 for t in tasks if t.key in records and records[t.key].done)
    skipped = sum(1 for t in tasks if t.key in records and records[t.key].skipped)
    return done, skipped, next((t for t in tasks if t.key not in records or not (records[t.key].done or records[t.key].skipped)), None)


def recorded(bench: Bench, key: str, record: CommissioningRecord | None) -> Bench:
    """Return the bench with what was said of a step, or with it open again."""
    kept = {k: v for k, v in bench.commissioning.items() if k != key}
    return bench.model_copy(update={"commissioning": kept if record is None else {**kept, key: record}})
