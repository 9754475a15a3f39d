"""The simulated drive as a drive on a wire has it: values that round, refuse, need a restart and keep factory defaults; who commands; the watchdog.

Nothing here knows a protocol. A client is any object; what it may not do comes back as a ``Denial``.
"""

from __future__ import annotations

import math
from enum import Enum

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.course.block import in_blocks
from crisp_compass.course.drive import running_current, running_mode
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.drive.description import Description, Entry, Watchdog, limits, within
from crisp_compass.drive.registers import physical, raw_of
from crisp_compass.drive.served_parameters import parameters_of
from crisp_compass.drive.served_stand import Stand, can_test, scope_of, stand_values
from crisp_compass.drive.served_tune import ENDED, ROTATING, RUNS, SHARE, AutoTune
from crisp_compass.motor import turns_field
from crisp_compass.plant import state
from crisp_compass.plant.parameters import (
    ALIGN,
    FAULT_NAMES,
    LOST,
    NO_POLE,
    NO_START,
    OFF,
    OVER_CURRENT,
    OVER_SPEED,
    OVER_VOLTAGE,
    OVERLOAD,
    SPEED,
    STALL,
    UNDER_VOLTAGE,
)
from crisp_compass.sensing.sensor import ENCODER, HALLS
from crisp_compass.studies.scenarios import open_simulation

#: Silence after which the drive is disarmed, s; it acts a little sooner, because the machine that it runs on may be busy.
WATCHDOG_S = 0.5
_ACTS_AFTER_S = 0.8 * WATCHDOG_S
#: A shaft slower than this counts as standing, rad/s.
AT_REST = 0.5
#: Longest stop that is simulated for the description, s.
_LONGEST_STOP = 30.0
#: The plant never falls further behind the clock than this, s.
_MOST_BEHIND = 0.1


class Denial(Enum):
    """Why a request is refused."""

    ADDRESS = "address"
    LIMITS = "limits"
    STATE = "state"


#: Commands and their first register; telemetry and faults have their own table.
_COMMANDS_AT, _FAULTS_AT = 1000, 1000
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


class ServedDrive:
    """The simulated drive of a bench behind values; time passes by :meth:`tick`. Raises Refusal naming what the bench lacks."""

    def __init__(self, bench: Bench, *, protocol: str = "modbus-tcp", seed: int = 1, tune_skips: bool = False) -> None:
        self._protocol = protocol
        self._bench = standing(bench)
        self._sim = open_simulation(bench, seed=seed)
        self._own = self._sim.drive
        self._mode, self._current = running_mode(bench), running_current(bench)
        self._kept = {p.name: p for p in parameters_of(self._bench, self._sim.drive)}
        self._fastest = self._top_speed()
        truth: dict[str, float] = {k: float(getattr(self._sim.drive.machine, {"resistance": "r", "flux_linkage": "psi"}.get(k, k))) for k in map(str, ("resistance", "ld", "lq", "flux_linkage")) if k in self._kept}
        self._tune = AutoTune(truth, skips=tune_skips, seed=seed)
        self._stand: Stand | None = None
        if can_test(self._bench) and protocol != "canopen":  # the memory is read through registers
            scope = scope_of(self._bench, self._sim.drive, self._fastest)
            self._stand = Stand(self._bench, self._sim, scope, seed=seed)
            self._tests = stand_values(self._bench, self._sim.drive, self._fastest if self._senses else 0.3 * self._fastest)
        self._held, self._turned, self._most = False, False, 0.0
        self._raw: dict[str, float] = {}
        self._effect: dict[str, float] = {}  # what counts now: a written value may wait for a restart
        self._holder: object | None = None
        self._silent = 0.0
        self._stopping: float | None = None
        self._last: dict[str, float] = {}
        self.description = self._described()
        self._raw = {e.name: raw_of(e, self._of_firmware(e.name)) for e in self.description.parameters}
        self._raw |= {e.name: 0.0 for e in self.description.commands}
        self._factory = dict(self._raw)
        self._apply(restart=True)
        self.description = self.description.model_copy(update={"watchdog": Watchdog(seconds=WATCHDOG_S, stop_s=self._stop_time())})
        self.tick(1e-3)

    # ---- what it is

    def _of_firmware(self, name: str) -> float:
        kept = self._kept[name]
        return float(getattr(self._sim.drive.control, kept.field)) if kept.value is None else kept.value

    @property
    def _senses(self) -> bool:
        """Whether a sensor tells the speed, so that any motion can be brought to rest by the speed loop."""
        return self._mode == SPEED and self._sim.drive.sensing.angle_sensor in (ENCODER, HALLS)

    def _top_speed(self) -> float:
        top = abs(float(self._bench.settings.plate.top_speed)) or 100.0
        return max(top, abs(self._bench.settings.run.speed))

    def _described(self) -> Description:
        parameters, at = [], 0
        for p in self._kept.values():
            bare = Entry(name=p.name, type=p.kind, scale=p.scale)  # type: ignore[arg-type]
            low, high = limits(bare)
            parameters.append(
                Entry(
                    name=p.name, address=at, table="holding", type=bare.type, scale=p.scale, unit=p.unit, access="rw", min=float(f"{max(p.low, low):.9g}"),
                    max=float(f"{min(p.high, high):.9g}"), factory=physical(bare, raw_of(bare, self._of_firmware(p.name))), restart=p.restart, text=p.text,
                    group="motor" if p.restart else "loops" if p.bench else "limits", bench=p.bench,
                )
            )  # fmt: skip
            at += bare.width  # one right behind the other: all of them in few requests
        top = float(f"{self._fastest:.6g}")
        commands = [
            ("arm", "uint16", 1.0, "", 0.0, 1.0, "1 arms, 0 disarms"), ("speed", "int32", 0.01, "rad/s", -top, top, "speed of the shaft to go to along the ramp"),
            ("stop", "uint16", 1.0, "", 0.0, 1.0, "1 stops and disarms, whoever writes it"), ("heartbeat", "uint16", 1.0, "", None, None, "a changing number keeps it armed"),
            ("acknowledge", "uint16", 1.0, "", 0.0, 1.0, "1 clears a fault; it stays disarmed"), ("restart", "uint16", 1.0, "", 0.0, 1.0, "1 starts anew with what was written; only disarmed"),
            ("restore", "uint16", 1.0, "", 0.0, 1.0, "1 brings the factory values back; only disarmed"),
        ]  # fmt: skip
        if self._tune.kinds:
            commands.append(("auto_tune", "uint16", 1.0, "", 0.0, float(max(self._tune.kinds)), "1 at standstill, 2 turning; only armed; it disarms at its end"))
        if self._stand is not None:
            commands += [(v.name, v.type, v.scale, v.unit, v.low, v.high, v.text) for v in self._tests]
            commands.append(("hold", "uint16", 1.0, "", 0.0, 1.0, "1 clamps the shaft, at rest only; 0 lets it go"))
        telemetry = [
            ("speed", "int32", 0.001, "rad/s", "speed", "speed of the shaft"), ("speed_reference", "int32", 0.001, "rad/s", "speed_ref", "where the ramp is"),
            ("current_q", "int16", self._current_scale(), "A", "i_q", "torque current, peak"), ("current_d", "int16", self._current_scale(), "A", "i_d", "current along the magnet, peak"),
            ("bus", "uint16", 0.1, "V", "v_bus", "bus voltage"), ("angle", "float32", 1.0, "deg", "angle", "mechanical, not wrapped"), ("armed", "uint16", 1.0, "", None, "1 while somebody may command it"),
        ]  # fmt: skip
        if self._tune.kinds:
            telemetry.append(("tune_state", "uint16", 1.0, "", None, "auto-tune: 0 never ran, 1 runs, 2 ended, 3 broke off"))
        if self._stand is not None:
            telemetry.append(("scope_rows", "uint16", 1.0, "", None, "rows that the capture memory holds so far"))
        if not turns_field(self._bench) or in_blocks(self._bench):
            telemetry = [t for t in telemetry if t[0] != "current_d"]
        bits = {str(code): name for code, name in FAULT_NAMES.items() if code in self._possible_faults()}
        told = Description(
            name=f"simulated drive of {self._bench.name}"[:120], protocol="modbus tcp", unit_id=1, baud=115200, watchdog=Watchdog(seconds=WATCHDOG_S), parameters=tuple(parameters), scope=self._stand.scope if self._stand is not None else None,
            commands=_packed(_COMMANDS_AT, [
                Entry(name=n, table="holding", type=kind, scale=scale, unit=unit, access="rw", min=low, max=high, text=text, role=n if n in _ROLES or self._is_test(n) else None)  # type: ignore[arg-type]
                for n, kind, scale, unit, low, high, text in commands
            ]),
            telemetry=_packed(0, [
                Entry(name=n, table="input", type=kind, scale=scale, unit=unit, access="r", signal=signal, text=text, role=n if n in _ROLES or n in ("scope_rows", "tune_state") else None)  # type: ignore[arg-type]
                for n, kind, scale, unit, signal, text in telemetry
            ]),
            faults=(Entry(name="fault", address=_FAULTS_AT, table="input", type="uint16", access="r", bits=bits, text="what tripped it"),),
        )  # fmt: skip
        told = told.model_copy(update={"protocol": self._protocol})
        return _with_objects(told) if told.over_can else told

    def _possible_faults(self) -> set[int]:
        """Return the codes of what can trip this drive with its motor, its sensor and its limits."""
        drive, found = self._sim.drive, {OVER_CURRENT, UNDER_VOLTAGE}
        blind = without_sensor(self._bench)
        for code, can in (
            (STALL, not steps_open(self._bench)), (LOST, blind), (NO_START, blind), (NO_POLE, blind and drive.injected.volts > 0), (OVER_VOLTAGE, drive.control.v_max < 1e8),
            (OVER_SPEED, drive.control.speed_trip < 1e8), (OVERLOAD, drive.control.i2t > 0),
        ):  # fmt: skip
            if can:
                found.add(code)
        return found

    def _current_scale(self) -> float:
        return float(f"1e{math.ceil(math.log10(max(2.0 * self._sim.drive.control.i_trip, 1e-3) / 32767))}")

    def _stop_time(self) -> float:
        """Return how long [s] a stop from the fastest speed takes, with room: the simulation says it."""
        sim = open_simulation(self._bench)
        sim.command(self._mode, speed=self._fastest, i_d=self._current)
        ramp = max(sim.drive.control.ramp, 1e-6)
        sim.advance(min(self._fastest / ramp + 1.0, _LONGEST_STOP))
        sim.command(self._mode, speed=0.0, i_d=self._current)
        took = 0.0
        while abs(sim.speed) > AT_REST and took < _LONGEST_STOP:
            if sim.fault:
                sim.command(OFF)
            sim.advance(0.05)
            took += 0.05
        return float(f"{1.5 * took + 0.5:.3g}")

    # ---- reading

    def read(self, entry: Entry) -> float:
        """Return the raw number of an entry at this moment."""
        if entry.table == "holding":
            return self._raw[entry.name]
        if entry.name == "fault":
            code = int(self._sim.state[state.FAULT])
            return float(1 << code) if 0 < code < 16 else 0.0
        if entry.name == "armed":
            return 1.0 if self.armed else 0.0
        if entry.name == "tune_state":
            return float(self._tune.state)
        if entry.name == "scope_rows" and self._stand is not None:
            return float(self._stand.rows)
        return raw_of(entry, self._last.get(entry.signal or "", 0.0))

    @property
    def armed(self) -> bool:
        """Whether somebody may command it now."""
        return self._holder is not None

    @property
    def fault_code(self) -> int:
        """Number of the fault that stands, 0 for none."""
        return int(self._sim.state[state.FAULT])

    @property
    def most_current(self) -> float:
        """Largest current [A] of the last moment, length of the vector."""
        return self._most

    @property
    def speed(self) -> float:
        """Speed of the shaft, rad/s."""
        return self._sim.speed

    # ---- writing

    def deny(self, entry: Entry, raw: float, client: object) -> Denial | None:
        """Tell why a client may not write a raw number, or None where it may."""
        if not entry.writable:
            return Denial.ADDRESS
        if not math.isfinite(raw) or not within(entry, physical(entry, raw)):
            return Denial.LIMITS
        if entry.name == "stop":
            return None
        others = self._holder is not None and self._holder is not client
        if others:
            return Denial.STATE
        testing = self._stand is not None and self._stand.active
        asks = entry.name == "speed" or (entry.name in ("test", "auto_tune") and raw != 0)
        if asks and (self._holder is None or self._tune.kind or (testing and entry.name != "test")):
            return Denial.STATE
        if entry.name == "auto_tune" and raw != 0 and (int(raw) not in self._tune.kinds or abs(self.speed) > AT_REST):
            return Denial.STATE
        if entry.name == "hold" and raw != 0 and abs(self.speed) > AT_REST:
            return Denial.STATE
        if entry.name == "arm" and raw != 0 and (self._sim.fault or (self._stopping is not None and abs(self.speed) > 2 * AT_REST)):
            return Denial.STATE
        if entry.name in ("restart", "restore") and raw != 0 and (self.armed or abs(self.speed) > AT_REST):
            return Denial.STATE
        return None

    def write(self, entry: Entry, raw: float, client: object) -> None:
        """Write a raw number that is not denied."""
        if entry in self.description.parameters:
            self._raw[entry.name] = raw
            self._apply(restart=False)
            return
        act = {
            "arm": self._on_arm, "speed": self._on_speed, "stop": self._on_stop, "heartbeat": self._on_heartbeat, "acknowledge": self._on_acknowledge,
            "restart": self._on_restart, "restore": self._on_restore, "test": self._on_test, "hold": self._on_hold, "auto_tune": self._on_auto_tune,
        }.get(entry.name, self._on_test_value)  # fmt: skip
        act(raw, client, entry)

    def _on_arm(self, raw: float, client: object, _: Entry) -> None:
        if raw == 0:
            self.disarm()
            return
        if self._holder is None:  # a command of before does not come back
            self._holder, self._silent, self._stopping = client, 0.0, None
            self._apply(restart=False)
            self._raw["speed"] = 0.0
            self._raw["arm"] = 1.0
            self._sim.command(self._mode, speed=0.0, i_d=self._current)

    def _on_speed(self, raw: float, _: object, entry: Entry) -> None:
        self._raw["speed"] = raw
        self._sim.command(self._mode, speed=physical(entry, raw), i_d=self._current)

    def _on_stop(self, raw: float, _: object, __: Entry) -> None:
        if raw != 0:
            self.disarm()

    def _on_heartbeat(self, raw: float, client: object, _: Entry) -> None:
        if raw != self._raw["heartbeat"] and client is self._holder:
            self._silent = 0.0
        self._raw["heartbeat"] = raw

    def _on_acknowledge(self, raw: float, _: object, __: Entry) -> None:
        if raw != 0:
            self.disarm()
            self._sim.acknowledge()

    def _on_restart(self, raw: float, _: object, __: Entry) -> None:
        if raw != 0:
            self._apply(restart=True)

    def _on_restore(self, raw: float, _: object, __: Entry) -> None:
        if raw != 0:
            self._raw |= {p.name: self._factory[p.name] for p in self.description.parameters}
            self._apply(restart=True)

    def _apply(self, *, restart: bool) -> None:
        """Give the firmware what is written, but not within a stop; what counts after a restart only, then."""
        if self._stopping is not None:
            return
        for e in self.description.parameters:
            if restart or not e.restart:
                self._effect[e.name] = self._raw[e.name]
        changed = {self._kept[e.name].field: physical(e, self._effect[e.name]) for e in self.description.parameters}
        if "angle_offset" in changed and self._stand is not None:
            changed["angle_offset"] = math.remainder(math.radians(changed["angle_offset"]) - self._stand.zero, 2 * math.pi)
        elif "angle_offset" in changed:
            changed["angle_offset"] = math.remainder(math.radians(changed["angle_offset"] - (self._kept["encoder_zero"].value or 0.0)), 2 * math.pi)
        drive = self._own._replace(control=self._own.control._replace(**changed))
        if self._stand is not None and self._stand.active:
            drive = self._stand.prepared(drive)
        if self._held and self._stand is not None:
            drive = self._stand.clamped(drive)
        if drive != self._sim.drive:
            self._sim.retune(drive)

    # ---- tests

    def _is_test(self, name: str) -> bool:
        return name in ("hold", "auto_tune") or (self._stand is not None and any(v.name == name for v in self._tests))

    def _position(self, angle: float) -> float:
        """Return the angle [rad] as the drive's position counter tells it, in the middle of a count as the firmware takes it."""
        sensing = self._sim.drive.sensing
        if self._stand is None or sensing.angle_sensor != ENCODER:
            return angle
        step = 2 * math.pi / sensing.counts_per_rev
        return float((math.floor((angle - self._stand.zero / self._sim.drive.machine.pole_pairs) / step) + 0.5) * step)

    def word(self, place: int) -> float:
        """Return a raw word of the capture memory's window."""
        return self._stand.word(place) if self._stand is not None else 0.0

    def _on_test(self, raw: float, _: object, entry: Entry) -> None:
        assert self._stand is not None
        if raw == 0:
            self.disarm()
            return
        self._raw[entry.name] = raw
        self._stand.set(entry.name, raw)
        self._apply(restart=False)

    def _on_test_value(self, raw: float, _: object, entry: Entry) -> None:
        assert self._stand is not None
        self._raw[entry.name] = raw
        self._stand.set(entry.name, physical(entry, raw))

    def _on_auto_tune(self, raw: float, _: object, entry: Entry) -> None:
        self._raw[entry.name] = raw
        if raw == 0:
            self.disarm()
            return
        self._tune.begin(int(raw))
        self._turned = False
        if int(raw) == ROTATING:
            self._sim.command(self._mode, speed=SHARE * self._fastest, i_d=self._current)

    def _pass_tune(self, seconds: float) -> None:
        """Let the auto-tune go on; what it found becomes parameters, and it disarms."""
        if self._tune.state != RUNS:
            return
        self._turned = self._turned or abs(self.speed) > 0.4 * SHARE * self._fastest
        found = self._tune.pass_time(seconds, turned=self._turned)
        if self._tune.state == ENDED:
            for entry in self.description.parameters:
                if entry.name in found:
                    self._raw[entry.name] = raw_of(entry, found[entry.name])
            self.disarm()

    def _on_hold(self, raw: float, _: object, entry: Entry) -> None:
        self._raw[entry.name] = raw
        self._held = raw != 0
        if self._held:
            self._sim.state[state.OMEGA] = 0.0
        self._apply(restart=False)

    # ---- who is there

    def fed(self, client: object) -> None:
        """A request of a client came in: that of the one who armed it feeds the watchdog."""
        if client is self._holder:
            self._silent = 0.0

    def lost(self, client: object) -> None:
        """A client is gone."""
        if client is self._holder:
            self.disarm()

    def disarm(self) -> None:
        """Nobody commands it any more: it slows down along its ramp and lets go at rest."""
        was, self._holder = self._holder is not None, None
        self._raw["arm"] = self._raw["speed"] = 0.0
        self._tune.break_off()
        self._raw |= {"auto_tune": 0.0}
        tested = self._stand is not None and self._stand.active
        if self._stand is not None:
            self._stand.end()
            self._raw |= {v.name: 0.0 for v in self._tests if v.name.startswith("test")}
        if was and not self._sim.fault:
            self._stopping = 0.0
            self._sim.retune(self._own)  # a stop takes as long as the description says, whatever ramp or limit a client wrote
            if tested and not self._senses:  # nothing tells where the rotor is: the shorted windings brake it
                self._sim.command(ALIGN)
                return
            if tested:
                self._sim.state[state.REF], self._sim.state[state.INT_SPEED] = self._sim.state[state.SPEED_SEEN], 0.0
            self._sim.command(self._mode, speed=0.0, i_d=self._current)

    # ---- time

    def tick(self, seconds: float) -> None:
        """Let time pass: the watchdog by the clock, the plant as far as it keeps up with it."""
        if self._holder is not None:
            self._silent += seconds
            if self._silent > _ACTS_AFTER_S or self._sim.fault:
                self.disarm()
        if self._stopping is not None:
            self._stopping += seconds
            watchdog = self.description.watchdog
            if abs(self.speed) <= AT_REST or self._sim.fault or self._stopping > (watchdog.stop_s if watchdog else 1.0):
                self._stopping = None
                self._sim.command(OFF)
                self._apply(restart=False)
        self._pass_tune(seconds)
        span = max(min(seconds, _MOST_BEHIND), self._sim.drive.control.ts)
        testing = self._stand is not None and self._stand.active
        trace = self._stand.advance(span) if testing and self._stand is not None else self._sim.advance(span, every=1)
        if self._stand is not None:
            self._stand.feed(trace, OFF if self._sim.fault else int(self._sim.inputs[state.IN_MODE]))
        if len(trace["t"]):
            self._most = float(np.max(np.hypot(trace["i_d"], trace["i_q"])))
            self._last = {k: float(v[-1]) for k, v in trace.columns.items()}
            self._last["angle"] = math.degrees(self._position(self._last["angle"]))
