"""The simulated drive as a drive on a wire has it: values that round, refuse, need a restart and keep factory defaults; who commands; the watchdog.

Nothing here knows a protocol. A client is any object; what it may not do comes back as a ``Denial``.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.course.drive import running_current, running_mode
from crisp_compass.course.position import count_of, holds_position, moving_mode
from crisp_compass.drive.description import Entry, Watchdog
from crisp_compass.drive.registers import physical, raw_of
from crisp_compass.drive.served_description import describe
from crisp_compass.drive.served_homing import HERE, ServedHoming
from crisp_compass.drive.served_inputs import Inputs
from crisp_compass.drive.served_live import LiveFeed
from crisp_compass.drive.served_parameters import MASKABLE, parameters_of
from crisp_compass.drive.served_rules import AT_REST, HERE_ASKED, Denial, Situation, denied
from crisp_compass.drive.served_stand import Stand, StandValue, can_test, scope_of, stand_values
from crisp_compass.drive.served_tune import ENDED, ROTATING, RUNS, SHARE, AutoTune
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import (
    ALIGN,
    HERTZ,
    MOVE,
    OFF,
    PULSE,
    SPEED,
    Control,
)
from crisp_compass.sensing.sensor import ENCODER, HALLS
from crisp_compass.studies.scenarios import open_simulation

#: Silence after which the drive is disarmed, s; it acts a little sooner, because the machine that it runs on may be busy.
WATCHDOG_S = 0.5
_ACTS_AFTER_S = 0.8 * WATCHDOG_S
#: Longest stop that is simulated for the description, s.
_LONGEST_STOP = 30.0
#: The plant never falls further behind the clock than this, s.
_MOST_BEHIND = 0.1


class ServedDrive:
    """The simulated drive of a bench behind values; time passes by :meth:`tick`. Raises Refusal naming what the bench lacks."""

    def __init__(self, bench: Bench, *, protocol: str = "modbus-tcp", seed: int = 1, tune_skips: bool = False) -> None:
        self._bench = standing(bench)
        self._sim = open_simulation(bench, seed=seed)
        #: How it finds its place, where it makes moves.
        self.homing = ServedHoming(self._bench, self._sim)
        self._own = self.homing.on_axis(self._sim.drive)
        self._mode, self._current = running_mode(bench), running_current(bench)
        self._kept = {p.name: p for p in parameters_of(self._bench, self._sim.drive)}
        self._fastest = self._top_speed()
        truth: dict[str, float] = {k: float(getattr(self._sim.drive.machine, {"resistance": "r", "flux_linkage": "psi"}.get(k, k))) for k in map(str, ("resistance", "ld", "lq", "flux_linkage")) if k in self._kept}
        self._tune = AutoTune(truth, skips=tune_skips, seed=seed)
        self._stand: Stand | None = None
        self._tests: list[StandValue] = []
        if can_test(self._bench) and protocol != "canopen":  # the memory is read through registers
            scope = scope_of(self._bench, self._sim.drive, self._fastest)
            self._stand = Stand(self._bench, self._sim, scope, top=self._fastest, seed=seed)
            self._tests = stand_values(self._bench, self._sim.drive, self._fastest if self._senses or self._mode == HERTZ else 0.3 * self._fastest)
        self._held, self._turned, self._most = False, False, 0.0
        self._raw: dict[str, float] = {}
        self._effect: dict[str, float] = {}  # what counts now: a written value may wait for a restart
        self._holder: object | None = None
        self._silent = 0.0
        self._stopping: float | None = None
        self._last: dict[str, float] = {}
        #: What tells of it in every period, and who is told its frames.
        self.live = LiveFeed(self._bench, self._sim.drive, top=self._fastest, position=self._position, seed=seed)
        self.hears: Callable[[list[bytes]], None] | None = None
        #: Faults since it was switched on: how many, and the bits of the last one and of the one before it.
        self._past = {"faults_seen": 0, "last_fault": 0, "fault_before": 0}
        self._stood = 0
        self._inputs = Inputs(self._bench.settings.terminals.inputs)
        self._switched = False
        self.description = describe(
            self._bench, self._own, self._kept, protocol=protocol, fastest=self._fastest, watchdog=WATCHDOG_S, tests=self._tests, scope=self._stand.scope if self._stand is not None else None,
            routines=self._tune.kinds, inputs=self._inputs.entries(), count=count_of(self._bench) if self.moves else None, seeks=self.homing.plan is not None,
        )  # fmt: skip
        self._raw = {e.name: raw_of(e, self._kept[e.name].held(self._own)) for e in self.description.parameters}
        self._raw |= {e.name: 0.0 for e in self.description.commands} | {"inputs": float(self._inputs.word)}
        self._factory = dict(self._raw)
        self._apply(restart=True)
        self.description = self.description.model_copy(update={"watchdog": Watchdog(seconds=WATCHDOG_S, stop_s=self._stop_time())})
        self.tick(1e-3)

    # ---- what it is

    @property
    def _senses(self) -> bool:
        """Whether a sensor tells the speed, so that any motion can be brought to rest by the speed loop."""
        return self._mode == SPEED and self._sim.drive.sensing.angle_sensor in (ENCODER, HALLS)

    @property
    def moves(self) -> bool:
        """Whether it can be asked for a place: moves are settled on its bench."""
        return holds_position(self._bench)

    @property
    def place(self) -> float:
        """Where the firmware believes the shaft, rad from its zero: where it was switched on, or what a homing found."""
        return self._sim.believed - self.homing.zero

    @property
    def control(self) -> Control:
        """What the firmware holds at the moment."""
        return self._sim.drive.control

    @property
    def in_place(self) -> bool:
        """Whether the last move is over."""
        return self._sim.in_place

    @property
    def moving(self) -> bool:
        """Whether it was asked for a place last, and not for a speed since."""
        return self._sim.inputs[state.IN_MODE] in (MOVE, PULSE)

    def within(self, client: object, *, speed: float | None = None, accel: float | None = None) -> Denial | None:
        """Keep the moves from now on within a speed [rad/s] and an acceleration [rad/s²], as its parameters have them; return why that is refused, or None."""
        for entry in self.description.parameters:
            asked = {"move_speed": speed, "move_acceleration": accel}.get(entry.name)
            if asked is None:
                continue
            raw = raw_of(entry, asked)
            denied = self.deny(entry, raw, client)
            if denied is not None:
                return denied
            self.write(entry, raw, client)
        return None

    def _top_speed(self) -> float:
        top = abs(float(self._bench.settings.plate.top_speed)) or 100.0
        return max(top, abs(self._bench.settings.run.speed))

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
        if entry.name == "inputs":
            return float(self._inputs.word)
        if entry.name in self._past:
            return float(self._past[entry.name])
        if entry.name == "place_now":
            return raw_of(entry, self.place)
        if entry.name == "homing":
            return float(self.homing.told)
        if entry.name == "in_place":
            return 1.0 if self.in_place else 0.0
        if entry.name == "tune_state":
            return float(self._tune.state)
        if entry.name == "scope_rows" and self._stand is not None:
            return float(self._stand.rows)
        return raw_of(entry, self._last.get(entry.signal or "", 0.0))

    @property
    def period(self) -> float:
        """Its sampling period, s."""
        return float(self._sim.drive.control.ts)

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
        now = Situation(
            armed=self.armed, by_others=self.armed and self._holder is not client, speed=self.speed, kept=bool(self._sim.fault) or self._inputs.hold, stopping=self._stopping is not None,
            testing=self._stand is not None and self._stand.active, tuning=bool(self._tune.kind), routines=tuple(self._tune.kinds), seeks=self.homing.plan is not None,
        )  # fmt: skip
        found = denied(entry, raw, now)
        return Denial.STATE if found is None and entry.name == "place" and self._barred(physical(entry, raw)) else found

    def _barred(self, place: float) -> bool:
        """Tell whether a limit switch lies in the way to a place [rad]."""
        return self._inputs.bars(place - self.place)

    def _break_off(self) -> None:
        """End what moves it by itself: it is asked for something else."""
        self.homing.end()
        self._raw["home"] = 0.0

    def write(self, entry: Entry, raw: float, client: object) -> None:
        """Write a raw number that is not denied."""
        if entry in self.description.parameters:
            self._raw[entry.name] = raw
            self._apply(restart=False)
            return
        act = {
            "arm": self._on_arm, "speed": self._on_speed, "place": self._on_place, "home": self._on_home, "stop": self._on_stop, "heartbeat": self._on_heartbeat, "acknowledge": self._on_acknowledge,
            "restart": self._on_restart, "restore": self._on_restore, "test": self._on_test, "hold": self._on_hold, "auto_tune": self._on_auto_tune, "inputs": self._on_inputs,
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
        self._break_off()
        self._raw["speed"] = raw
        self._sim.command(self._mode, speed=self._inputs.allowed(physical(entry, raw)), i_d=self._current)

    def _on_place(self, raw: float, _: object, entry: Entry) -> None:
        self._break_off()
        self._raw["place"] = raw
        self._sim.command(moving_mode(self._bench), position=physical(entry, raw) + self.homing.zero, i_d=self._current)

    def _on_home(self, raw: float, _: object, __: Entry) -> None:
        """Seek the place, or take the present one; 0 breaks it off and stops along the ramp."""
        if raw == 0:
            ran = self.homing.runs
            self._break_off()
            if ran and self._holder is not None:
                self._sim.command(self._mode, speed=0.0, i_d=self._current)
            return
        self._raw["home"], self.homing.chosen = raw, HERE if raw == HERE_ASKED else self.homing.method
        self.homing.begin()

    def _on_inputs(self, raw: float, _: object, entry: Entry) -> None:
        """Set the switches: what holds the drive disarms it, a direction or a limit counts for the speed that was asked for."""
        self._raw["inputs"], self._inputs.word = raw, int(raw)
        testing = self._tune.kind or (self._stand is not None and self._stand.active) or self.homing.runs
        if self._inputs.hold:
            self.disarm()
        elif self._holder is not None and not testing:
            speed = self.description.role("commands", "speed")
            if self._sim.inputs[state.IN_MODE] in (MOVE, PULSE):
                if self._barred(float(self._sim.inputs[state.IN_POSITION]) - self.homing.zero):
                    self._sim.command(self._mode, speed=0.0, i_d=self._current)  # it stops along its ramp
            elif speed is not None:
                self._on_speed(self._raw["speed"], self._holder, speed)

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
            self._stood = 0  # the same again is another one

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
        changed: dict[str, float] = {}
        for e in self.description.parameters:
            changed |= self._kept[e.name].fields(physical(e, self._effect[e.name]))
        mask = int(self._effect.get("fault_mask", 0))
        changed |= {field: never for code, (field, never) in MASKABLE.items() if mask >> code & 1}
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

    def _position(self, angle: FloatArray) -> FloatArray:
        """Return angles [rad] as the drive's position counter tells them, in the middle of a count as the firmware takes it."""
        sensing = self._sim.drive.sensing
        if self._stand is None or sensing.angle_sensor != ENCODER:
            return angle
        step = 2 * math.pi / sensing.counts_per_rev
        return np.asarray((np.floor((angle - self._stand.zero / self._sim.drive.machine.pole_pairs) / step) + 0.5) * step)

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
            self._sim.turn_at(0.0)
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
        self._break_off()
        self._tune.break_off()
        self._raw |= {"auto_tune": 0.0}
        tested = self._stand is not None and self._stand.active
        if self._stand is not None:
            self._stand.end()
            self._raw |= {v.name: 0.0 for v in self._tests if v.name.startswith("test")}
        if was and not self._sim.fault:
            self._stopping = 0.0
            self._sim.retune(self._stand.clamped(self._own) if self._held and self._stand is not None else self._own)  # a stop takes as long as the description says, whatever ramp or limit a client wrote
            if tested and not self._senses and self._mode != HERTZ:  # nothing tells where the rotor is: the shorted windings brake it
                self._sim.command(ALIGN)
                return
            if tested and self._senses:
                self._sim.state[state.REF], self._sim.state[state.INT_SPEED] = self._sim.state[state.SPEED_SEEN], 0.0
            self._sim.command(self._mode, speed=0.0, i_d=self._current)

    # ---- time

    def _note_fault(self) -> None:
        """Remember a fault that came up."""
        code = self.fault_code
        if code and code != self._stood:
            self._past = {"faults_seen": min(self._past["faults_seen"] + 1, 65535), "last_fault": 1 << code, "fault_before": self._past["last_fault"]}
        self._stood = code

    def _show_switch(self) -> None:
        """Show the axis' switch at its terminal, where it has one, once it changes."""
        if self.homing.shows is None or self.homing.active == self._switched:
            return
        self._switched = self.homing.active
        word = self._inputs.with_function(self.homing.shows, given=self._switched)
        entry = self.description.role("commands", "inputs")
        if entry is not None and word != self._inputs.word:
            self._on_inputs(float(word), None, entry)

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
        trace = self._stand.advance(span) if testing and self._stand is not None else self.homing.advance(span)
        self._show_switch()
        if self._stand is not None:
            self._stand.feed(trace, OFF if self._sim.fault else int(self._sim.inputs[state.IN_MODE]))
        self._note_fault()
        if self.hears is not None:
            told = {"armed": self.armed, "tripped": bool(self._sim.fault), "test_runs": testing}
            self.hears(self.live.frames(trace, self._sim.drive, told))
        if len(trace["t"]):
            self._most = float(np.max(np.hypot(trace["i_d"], trace["i_q"])))
            self._last = {k: float(v[-1]) for k, v in trace.columns.items()}
            self._last["angle"] = math.degrees(float(self._position(trace["angle"][-1:])[0]))
