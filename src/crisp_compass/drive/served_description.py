"""What the simulated drive says of itself: parameters, commands, telemetry and faults, one register behind the other, or objects on a bus."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from crisp_compass.bench.models import Bench
from crisp_compass.course.block import in_blocks
from crisp_compass.course.observed import estimates
from crisp_compass.course.open_loop import steps_open
from crisp_compass.drive.description import Description, Entry, Scope, Watchdog, limits
from crisp_compass.drive.registers import physical, raw_of
from crisp_compass.drive.served_parameters import MASKABLE, Parameter
from crisp_compass.drive.served_stand import StandValue
from crisp_compass.motor import turns_field
from crisp_compass.plant.parameters import (
    FAULT_NAMES,
    FOLLOWING,
    LOST,
    NO_POLE,
    NO_START,
    OVER_CURRENT,
    OVER_SPEED,
    OVER_VOLTAGE,
    OVERLOAD,
    STALL,
    UNDER_VOLTAGE,
    Drive,
)

#: Commands and their first register; telemetry and faults have their own table.
_COMMANDS_AT, _FAULTS_AT = 1000, 1000
_HISTORY = ("last_fault", "fault_before")
_TELLS = ("scope_rows", "tune_state", "faults_seen", *_HISTORY)
_ROLES = ("arm", "speed", "stop", "heartbeat", "armed")


def _packed(address: int, entries: list[Entry]) -> tuple[Entry, ...]:
    """Return entries one right behind the other from a register on."""
    found = []
    for entry in entries:
        found.append(entry.model_copy(update={"address": address}))
        address += entry.width
    return tuple(found)


def _with_objects(description: Description) -> Description:
    """Return a description whose entries stand in an object dictionary: manufacturer's objects, one an entry."""
    lots = {}
    for lot, first in (("parameters", 0x2000), ("commands", 0x2100), ("telemetry", 0x2200), ("faults", 0x2300)):
        lots[lot] = tuple(e.model_copy(update={"address": None, "index": first + k, "subindex": 0}) for k, e in enumerate(getattr(description, lot)))
    return description.model_copy(update=lots)


def describe(
    bench: Bench, drive: Drive, kept: Mapping[str, Parameter], *, protocol: str, fastest: float, watchdog: float, tests: Sequence[StandValue], scope: Scope | None, routines: Sequence[int],
    inputs: tuple[Entry, Entry] | None = None, count: float | None = None, seeks: bool = False,
) -> Description:  # fmt: skip
    """Return the description of a simulated drive: what it keeps, how fast it runs [rad/s], its watchdog [s], its tests with their capture memory, its auto-tune routines, its digital inputs, and the ``count`` [rad] of its places where it makes moves; whether it ``seeks`` its place in a homing."""
    parameters, at = [], 0
    bits = {str(code): name for code, name in FAULT_NAMES.items() if code in _possible_faults(bench, drive)}
    masked = {bit: name for bit, name in bits.items() if int(bit) in MASKABLE}
    for p in kept.values():
        most = float(sum(1 << int(bit) for bit in masked)) if p.name == "fault_mask" else p.high
        bare = Entry(name=p.name, type=p.kind, scale=p.scale)  # type: ignore[arg-type]
        low, high = limits(bare)
        parameters.append(
            Entry(
                name=p.name, address=at, table="holding", type=bare.type, scale=p.scale, unit=p.unit, access="rw", min=float(f"{max(p.low, low):.9g}"),
                max=float(f"{min(most, high):.9g}"), factory=physical(bare, raw_of(bare, p.held(drive))), restart=p.restart, text=p.text,
                group="motor" if p.restart else "loops" if p.bench else "limits", bench=p.bench, bits=masked if p.name == "fault_mask" else None,
                masks="fault" if p.name == "fault_mask" else None,
            )
        )  # fmt: skip
        at += bare.width  # one right behind the other: all of them in few requests
    top, own = float(f"{fastest:.6g}"), {"hold", "auto_tune", *(v.name for v in tests)}
    amperes = float(f"1e{math.ceil(math.log10(max(2.0 * drive.control.i_trip, 1e-3) / 32767))}")
    commands = [
        ("arm", "uint16", 1.0, "", 0.0, 1.0, "1 arms, 0 disarms"), ("speed", "int32", 0.01, "rad/s", -top, top, "speed of the shaft to go to along the ramp"),
        ("stop", "uint16", 1.0, "", 0.0, 1.0, "1 stops and disarms, whoever writes it"), ("heartbeat", "uint16", 1.0, "", None, None, "a changing number keeps it armed"),
        ("acknowledge", "uint16", 1.0, "", 0.0, 1.0, "1 clears a fault; it stays disarmed"), ("restart", "uint16", 1.0, "", 0.0, 1.0, "1 starts anew with what was written; only disarmed"),
        ("restore", "uint16", 1.0, "", 0.0, 1.0, "1 brings the factory values back; only disarmed"),
    ]  # fmt: skip
    if count is not None:
        far = float(f"{min((2**31 - 1) * count, 6.2e6):.6g}")
        commands.append(("place", "int32", count, "rad", -far, far, "place of the shaft to move to, from where the drive was switched on or its homing found zero"))
        commands.append(("home", "uint16", 1.0, "", 0.0, 2.0, "1 seeks its place, 2 takes the present one for zero, 0 breaks off" if seeks else "2 takes the present place for zero"))
    if routines:
        commands.append(("auto_tune", "uint16", 1.0, "", 0.0, float(max(routines)), "1 at standstill, 2 turning; only armed; it disarms at its end"))
    if scope is not None:
        commands += [(v.name, v.type, v.scale, v.unit, v.low, v.high, v.text) for v in tests]
        commands.append(("hold", "uint16", 1.0, "", 0.0, 1.0, "1 clamps the shaft, at rest only; 0 lets it go"))
    telemetry = [
        ("speed", "int32", 0.001, "rad/s", "speed", "speed of the shaft"), ("speed_reference", "int32", 0.001, "rad/s", "speed_ref", "where the ramp is"),
        ("current_q", "int16", amperes, "A", "i_q", "torque current, peak"), ("current_d", "int16", amperes, "A", "i_d", "current along the magnet, peak"),
        ("bus", "uint16", 0.1, "V", "v_bus", "bus voltage"), ("angle", "float32", 1.0, "deg", "angle", "mechanical, not wrapped"), ("armed", "uint16", 1.0, "", None, "1 while somebody may command it"),
    ]  # fmt: skip
    if count is not None:
        telemetry += [("place_now", "int32", count, "rad", None, "where the firmware believes the shaft"), ("in_place", "uint16", 1.0, "", None, "1 where the last move is over"), ("homing", "uint16", 1.0, "", None, "its place: 0 not sought or broken off, 1 sought, 2 found, 3 not found")]
    if routines:
        telemetry.append(("tune_state", "uint16", 1.0, "", None, "auto-tune: 0 never ran, 1 runs, 2 ended, 3 broke off"))
    if scope is not None:
        telemetry.append(("scope_rows", "uint16", 1.0, "", None, "rows that the capture memory holds so far"))
    telemetry += [
        ("faults_seen", "uint16", 1.0, "", None, "faults since it was switched on"), ("last_fault", "uint16", 1.0, "", None, "the last one, by its bit"),
        ("fault_before", "uint16", 1.0, "", None, "the one before it"),
    ]  # fmt: skip
    if not turns_field(bench) or in_blocks(bench):
        telemetry = [t for t in telemetry if t[0] != "current_d"]
    told = Description(
        name=f"simulated drive of {bench.name}"[:120], protocol="modbus tcp", unit_id=1, baud=115200, watchdog=Watchdog(seconds=watchdog), parameters=tuple(parameters), scope=scope,
        commands=_packed(_COMMANDS_AT, [
            Entry(name=n, table="holding", type=kind, scale=scale, unit=unit, access="rw", min=low, max=high, text=text, role=n if n in _ROLES or n in own else None)  # type: ignore[arg-type]
            for n, kind, scale, unit, low, high, text in commands
        ] + ([inputs[0]] if inputs is not None else [])),
        telemetry=_packed(0, [
            Entry(name=n, table="input", type=kind, scale=scale, unit=unit, access="r", signal=signal, text=text, role=n if n in _ROLES or n in _TELLS else None, bits=bits if n in _HISTORY else None)  # type: ignore[arg-type]
            for n, kind, scale, unit, signal, text in telemetry
        ] + ([inputs[1]] if inputs is not None else [])),
        faults=(Entry(name="fault", address=_FAULTS_AT, table="input", type="uint16", access="r", bits=bits, text="what tripped it"),),
    )  # fmt: skip
    told = told.model_copy(update={"protocol": protocol})
    return _with_objects(told) if told.over_can else told


def _possible_faults(bench: Bench, drive: Drive) -> set[int]:
    """Return the codes of what can trip this drive with its motor, its sensor and its limits."""
    found, blind = {OVER_CURRENT, UNDER_VOLTAGE}, estimates(bench)
    for code, can in (
        (STALL, not steps_open(bench)), (LOST, blind), (NO_START, blind), (NO_POLE, blind and drive.injected.volts > 0), (OVER_VOLTAGE, drive.control.v_max < 1e8),
        (OVER_SPEED, drive.control.speed_trip < 1e8), (OVERLOAD, drive.control.i2t > 0), (FOLLOWING, drive.control.follow_limit > 0 or drive.control.lost_limit > 0),
    ):  # fmt: skip
        if can:
            found.add(code)
    return found
