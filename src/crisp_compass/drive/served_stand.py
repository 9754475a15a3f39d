"""The simulated drive's own tests, as drives have them: a voltage or a current that it puts on the windings by itself, and a memory that captures in the sampling period.

A test is chosen and sized by commands and runs only while the drive is armed. What the memory holds is what such a board sees: currents through its converter, voltages
as they acted over the period that ends at the row (with the bridge off the windings' own), the sensor's position and the halls' levels.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.course.drive import running_mode
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.course.waypoints.commutation import uses_halls
from crisp_compass.drive.description import Channel, Scope
from crisp_compass.drive.served_live import hall_words, step_of
from crisp_compass.drive.served_parameters import ZERO
from crisp_compass.estimates import FloatArray, IntArray
from crisp_compass.motor import family_of, three_phases, turns_field
from crisp_compass.plant import state
from crisp_compass.plant.parameters import (
    ALIGN,
    CURRENT,
    HERTZ,
    LOCKED,
    MAINS,
    MOST_DELAY,
    OFF,
    STEP,
    Drive,
    Induction,
    Trapezoid,
)
from crisp_compass.plant.period import delays
from crisp_compass.plant.simulation import Simulation, Trace, join

#: What ``test`` may be: none, a voltage vector, a current at an angle of its own, a torque current, the bridge off, a voltage that turns.
NONE, VOLTAGE, FIELD, TORQUE, COAST, TURNING = range(6)
_MODES = {VOLTAGE: ALIGN, FIELD: STEP, TORQUE: CURRENT, COAST: OFF}
#: Words of the memory, and registers of its window.
_WORDS, _PAGE, _WINDOW_AT = 60_000, 120, 2000
#: Longest time [s] for which the turned field keeps one speed while it is ramped.
_RAMP_SLICE = 1e-3
#: Pieces that a period of a swept sine is made of at least.
_PIECES = 40


@dataclass(frozen=True)
class StandValue:
    """One command of the tests: kind, scale, unit, least and most, text."""

    name: str
    type: str
    scale: float
    unit: str
    low: float
    high: float
    text: str


def can_test(bench: Bench) -> bool:
    """Tell whether this drive has tests."""
    return family_of(bench).own_circuit or running_mode(bench) != HERTZ


def stand_values(bench: Bench, drive: Drive, top: float) -> list[StandValue]:
    """Return the commands of the tests of a drive; ``top`` is its fastest speed [rad/s]."""
    volts, amperes = float(f"{drive.inverter.v_supply:.6g}"), float(f"{drive.control.i_trip:.6g}")
    most = max(volts, amperes)
    cage = family_of(bench).own_circuit
    kinds = "0 none, 1 a voltage, 2 a current at an angle of its own, 3 a torque current, 4 the bridge off"
    if cage:
        kinds = "0 none, 1 a voltage, 2 a current that magnetizes, 3 a torque current of the magnetized motor, 4 the bridge off, 5 a voltage that turns"
    found = [
        StandValue("test", "uint16", 1.0, "", low=0, high=5 if cage else 4, text=f"{kinds}; only armed"),
        StandValue("test_level", "float32", 1.0, "", low=-most, high=most, text="V of a voltage, A of a current"),
        StandValue("test_swing", "float32", 1.0, "", low=-most, high=most, text="what a square wave adds to the level and takes off it" + ("; of a voltage that turns, what is left of it at standstill" if cage else "")),
        StandValue("test_half", "float32", 1.0, "s", low=0, high=10, text="half a period of the square wave, which begins anew when this is written; 0 for none"),
        StandValue("test_low", "float32", 1.0, "Hz", low=0, high=1e4, text="frequency at which a sine of the swing's size begins"),
        StandValue("test_high", "float32", 1.0, "Hz", low=0, high=1e4, text="frequency at which it ends; 0 for no sine"),
        StandValue("test_sweep", "float32", 1.0, "s", low=0, high=60, text="time in which it gets there, by equal ratios; behind that the swing is zero"),
    ]  # fmt: skip
    if cage:
        found += [
            StandValue("test_speed", "float32", 1.0, "rad/s", low=-2 * top, high=2 * top, text="speed, as the shaft would turn without slip, to which the voltage is turned up"),
            StandValue("test_ramp", "float32", 1.0, "rad/s²", low=0.1, high=1e6, text="how fast it gets there"),
        ]  # fmt: skip
    elif turns_field(bench):
        found += [
            StandValue("test_across", "float32", 1.0, "V", low=-volts, high=volts, text="voltage of the square wave across the level's direction"),
            StandValue("test_angle", "float32", 1.0, "deg", low=-3600, high=3600, text="electrical direction of the level, at the beginning if it turns"),
            StandValue("test_speed", "float32", 1.0, "rad/s", low=-top, high=top, text="speed of the shaft to which the field is turned up"),
            StandValue("test_ramp", "float32", 1.0, "rad/s²", low=0.1, high=1e6, text="how fast the field gets there"),
        ]  # fmt: skip
    found += [
        StandValue("scope_channels", "uint16", 1.0, "", low=1, high=65535, text="mask of the channels to capture"),
        StandValue("scope_every", "uint16", 1.0, "", low=1, high=10_000, text="every how many periods a row is kept"),
        StandValue("scope_trigger", "int16", 1.0, "", low=-16, high=16, text="number of the channel, from 1, whose crossing begins the capture: rising, or falling where negative; 0 begins at once"),
        StandValue("scope_level", "float32", 1.0, "", low=-1e9, high=1e9, text="where it crosses, in the channel's unit"),
        StandValue("scope_before", "uint16", 1.0, "", low=0, high=_WORDS, text="rows kept from before the crossing"),
        StandValue("scope_start", "uint16", 1.0, "", low=0, high=_WORDS, text="begins a capture of so many rows"),
        StandValue("scope_page", "uint16", 1.0, "", low=0, high=math.ceil(_WORDS / _PAGE) - 1, text="which page of the memory the window shows"),
    ]  # fmt: skip
    return found


def scope_of(bench: Bench, drive: Drive, top: float) -> Scope:
    """Return what the capture memory of a drive is."""
    volts, amperes = step_of(2.0 * drive.inverter.v_supply), drive.sensing.step or step_of(2.0 * drive.control.i_trip)
    star, turning = three_phases(bench), turns_field(bench)

    def of(names: tuple[str, ...], scale: float, unit: str) -> list[Channel]:
        return [Channel(name=n, signal=n, scale=scale, unit=unit) for n in names]

    found = of(("v_cmd", "v_ab", "v_bc"), volts, "V") if star else of(("v_a", "v_b") if turning else ("v_m",), volts, "V")
    found += of(("i_a", "i_b") if turning else ("i_m",), amperes, "A")
    found.append(Channel(name="i_ref", scale=amperes, unit="A"))
    if family_of(bench).own_circuit and running_mode(bench) != HERTZ:
        found += of(("i_d",), amperes, "A")
    if not without_sensor(bench) and drive.sensing.angle_sensor in (0.0, 1.0):
        found += of(("i_q",) if turning and running_mode(bench) != HERTZ else (), amperes, "A")
        found += of(("speed", "speed_ref"), step_of(1.5 * top), "rad/s")
        if uses_halls(bench):
            found.append(Channel(name="halls", type="uint16", bits=("hall_1", "hall_2", "hall_3")))
        else:
            step = 360.0 / drive.sensing.counts_per_rev
            found.append(Channel(name="position", signal="angle", type="uint16", scale=step, unit="deg", wraps=True))
    return Scope(period_s=drive.control.ts, words=_WORDS, window=_WINDOW_AT, page=_PAGE, channels=tuple(found))


class Stand:
    """Tests and memory of one simulated drive that drives no faster than ``top`` [rad/s]; ``zero`` is θe where its position counter is at zero, rad."""

    def __init__(self, bench: Bench, sim: Simulation, scope: Scope, *, top: float, seed: int = 1) -> None:
        self._sim, self.scope, self._top = sim, scope, top
        self._phases, self._turns, self._cage = three_phases(bench), turns_field(bench), family_of(bench).own_circuit
        self._halls = hall_words(bench)
        settled = settled_value(bench, ZERO)
        self.zero = settled.value if settled is not None else 0.0
        self._rng = np.random.default_rng(seed)
        self.values: dict[str, float] = {"scope_every": 1.0, "scope_channels": 1.0, "test_ramp": 100.0}
        self._clock = self._turning = 0.0
        self._commanded: deque[tuple[float, float]] = deque(maxlen=32)
        self._memory: FloatArray = np.empty((0, 0))
        self._filled = self._wanted = self._skip = 0
        self._kept: list[Channel] = []
        self._flowed: dict[str, float] = {}
        self._waits: Channel | None = None
        self._before, self._seen = np.empty((0, 0)), np.empty(0)

    # ---- the test

    @property
    def active(self) -> bool:
        """Whether a test has the windings."""
        return self.values.get("test", 0.0) != NONE

    def set(self, name: str, value: float) -> None:
        """Take a command over."""
        self.values[name] = value
        if name == "test":
            self._begin()
        elif name == "test_half":
            self._clock = 0.0
        elif name == "scope_start":
            self._arm(round(value))

    def end(self) -> None:
        """Let the windings go, and forget how the test was sized."""
        for name in [n for n in self.values if n.startswith("test")]:
            self.values[name] = 0.0
        self.values["test_ramp"] = 100.0

    def _begin(self) -> None:
        x = self._sim.state
        self._clock = self._turning = 0.0
        for place in (state.REF, state.INT_D, state.INT_Q, state.INT_SPEED, state.AT_REST):
            x[place] = 0.0
        x[state.FIELD] = math.radians(self.values.get("test_angle", 0.0))

    def prepared(self, drive: Drive) -> Drive:
        """Return the drive as it runs a test: no six steps, no table of microsteps, the field's ramp from here."""
        control = drive.control._replace(block=0.0, microsteps=0.0, idle_share=1.0, ramp=1e9)
        return drive._replace(control=control)

    @property
    def _magnetizing(self) -> float:
        """The current [A] that goes with a torque current: a cage has no magnet."""
        return float(self._sim.drive.control.i_flux) if self._cage else 0.0

    def _command(self) -> None:
        v, kind = self.values, int(self.values["test"])
        sign = 1.0
        half = v.get("test_half", 0.0)
        if half > 0:
            sign = 1.0 if int(self._clock / half + 1e-6) % 2 == 0 else -1.0
        level = v.get("test_level", 0.0) + (sign * v.get("test_swing", 0.0) if half > 0 else self._sine() * v.get("test_swing", 0.0))
        across = sign * v.get("test_across", 0.0) if half > 0 else 0.0
        if kind == VOLTAGE:
            angle = math.radians(v.get("test_angle", 0.0))
            c, s = math.cos(angle), math.sin(angle)
            most = self._sim.state[state.V_BUS] * self._sim.drive.control.volts_per_bus
            size = math.hypot(level, across)
            share = min(1.0, most / size) if size > 0 else 1.0
            level, across = level * share, across * share
            self._sim.command(ALIGN, i_d=level * c - across * s, i_q=level * s + across * c)
        elif kind == TORQUE:
            limit = self._sim.drive.control.i_limit
            if abs(self._sim.speed) > self._top and level * self._sim.speed > 0:
                level = 0.0  # a shaft without a load would run away
            self._sim.command(CURRENT, i_d=self._magnetizing, i_q=max(min(level, limit), -limit))
        elif kind == TURNING:
            most = self._sim.state[state.V_BUS] * self._sim.drive.control.volts_per_bus
            whole, rest = v.get("test_level", 0.0), v.get("test_swing", 0.0)
            size = rest + (whole - rest) * min(abs(self._turning / v["test_speed"]), 1.0) if v.get("test_speed", 0.0) else whole
            self._sim.command(MAINS, speed=self._turning, i_d=max(min(size, most), -most))
        elif kind == FIELD and self._cage:
            limit = self._sim.drive.control.i_limit
            self._sim.command(CURRENT, i_d=max(min(level, limit), -limit))
        else:
            limit = self._sim.drive.control.i_limit
            self._sim.command(_MODES[kind], speed=self._turning, i_d=max(min(level, limit), -limit))

    def _sine(self) -> float:
        """Return the sine that gets faster by equal ratios: phase f0·T/ln k·(k^(t/T) − 1) with k = f1/f0 (A. Farina, AES 108, 2000); 0 where there is none, or behind its end."""
        low, high, sweep = (self.values.get(f"test_{n}", 0.0) for n in ("low", "high", "sweep"))
        if not (low > 0 and high > low and 0 < self._clock < sweep):
            return 0.0
        ratio = math.log(high / low)
        return math.sin(2 * math.pi * low * sweep / ratio * math.expm1(self._clock / sweep * ratio))

    def _slice(self, left: float) -> float:
        """Return how long [s] the command stays as it is, at most ``left``."""
        v = self.values
        half = v.get("test_half", 0.0)
        span = left
        if half > 0:
            into = self._clock - half * int(self._clock / half + 1e-6)
            span = min(span, max(half - into, self.scope.period_s))
        high = v.get("test_high", 0.0)
        if high > 0:
            span = min(span, max(1.0 / (_PIECES * high), self.scope.period_s))
        if int(v["test"]) == TORQUE:
            span = min(span, _RAMP_SLICE)
        if int(v["test"]) in (FIELD, TURNING) and self._turning != v.get("test_speed", 0.0):
            span = min(span, _RAMP_SLICE)
        return max(span, self.scope.period_s)

    def advance(self, seconds: float) -> Trace:
        """Run the test on; return every period of it."""
        parts, left, ts = [], seconds, self.scope.period_s
        while left > 0.5 * ts:
            self._command()
            span = round(self._slice(left) / ts) * ts
            parts.append(self._sim.advance(span))
            left, self._clock = left - span, self._clock + span
            if int(self.values["test"]) in (FIELD, TURNING):
                most = self.values["test_ramp"] * span
                self._turning += max(min(self.values.get("test_speed", 0.0) - self._turning, most), -most)
        return join(parts)

    # ---- the memory

    def _arm(self, rows: int) -> None:
        mask = int(self.values["scope_channels"])
        self._kept = [c for k, c in enumerate(self.scope.channels) if mask >> k & 1]
        most = self.scope.words // max(len(self._kept), 1)
        self._wanted, self._filled, self._skip = min(rows, most) if self._kept else 0, 0, 0
        self._memory = np.zeros((self._wanted, len(self._kept)))
        self._before, self._seen = np.empty((0, len(self._kept))), np.empty(0)
        trigger = int(self.values.get("scope_trigger", 0.0))
        self._waits = self.scope.channels[abs(trigger) - 1] if trigger and abs(trigger) <= len(self.scope.channels) else None

    @property
    def rows(self) -> int:
        """Rows that the memory holds so far."""
        return self._filled

    def word(self, place: int) -> float:
        """Return the word that the window shows at a place, raw; 0 beyond the end."""
        at = int(self.values.get("scope_page", 0.0)) * self.scope.page + place
        flat = self._memory.ravel()
        return float(int(flat[at]) & 0xFFFF) if at < len(flat) else 0.0

    def feed(self, trace: Trace, mode: int) -> None:
        """Keep of a trace what the memory wants; ``mode`` is what the firmware did meanwhile."""
        n = len(trace["t"])
        if n == 0:
            return
        flowed = {k: 0.5 * (np.concatenate([[self._flowed.get(k, trace[k][0])], trace[k][:-1]]) + trace[k]) for k in ("i_a", "i_b", "i_c")}
        self._flowed = {k: float(trace[k][-1]) for k in flowed}
        if self._filled >= self._wanted:  # only what the next capture's first rows rest on
            self._volts(Trace({k: trace[k][-MOST_DELAY - 4 :] for k in ("v_d", "v_q", "theta_e", "theta_seen", "speed_seen", "speed_ref")}), mode)
            return
        volts = self._volts(trace, mode)
        every = max(int(self.values["scope_every"]), 1)
        keep: IntArray = np.arange(self._skip, n, every)
        self._skip = int(keep[-1]) + every - n if len(keep) else self._skip - n
        if not len(keep):
            return
        signals = self._signals(trace, volts, flowed, keep)
        rows = np.column_stack([self._words(c, signals[c.name]) for c in self._kept])
        if self._waits is not None:
            rows = self._crossed(rows, signals[self._waits.name])
        rows = rows[: self._wanted - self._filled]
        self._memory[self._filled : self._filled + len(rows)] = rows
        self._filled += len(rows)

    def _crossed(self, rows: FloatArray, values: FloatArray) -> FloatArray:
        """Return the rows from as many before the crossing as are wanted, none while it has not come."""
        sign = 1.0 if self.values["scope_trigger"] > 0 else -1.0
        before = int(self.values.get("scope_before", 0.0))
        every, known = np.vstack([self._before, rows]), np.concatenate([self._seen, sign * (values - self.values.get("scope_level", 0.0))])
        crossings = np.flatnonzero((known[1:] >= 0.0) & (known[:-1] < 0.0)) + 1
        if not len(crossings):
            self._before, self._seen = every[-max(before, 1) :], known[-max(before, 1) :]
            return rows[:0]
        self._waits = None
        return every[max(int(crossings[0]) - before, 0) :]

    def _words(self, channel: Channel, values: FloatArray) -> FloatArray:
        raw = np.floor(values / channel.scale + 0.5) if not channel.wraps else np.floor(values / channel.scale)
        if channel.wraps or channel.bits:
            return np.asarray(np.mod(raw, 65536.0))
        low, high = (-32768, 32767) if channel.type == "int16" else (0, 65535)
        return np.asarray(np.clip(raw, low, high))

    def _volts(self, trace: Trace, mode: int) -> tuple[FloatArray, FloatArray]:
        """Return α and β of what was commanded for the period that ends at each row, V."""
        c = self._sim.drive.control
        vd, vq = trace["v_d"], trace["v_q"]
        if mode == OFF:
            alpha = beta = np.zeros(len(vd))
        elif mode == ALIGN or not self._turns:
            alpha, beta = (vd, vq) if self._turns else (vq, np.zeros(len(vq)))
        else:
            turning = trace["speed_ref"] if mode in (MAINS, HERTZ) else trace["speed_seen"]
            at = trace["theta_e"] if mode == STEP else trace["theta_seen"] + c.delay_samples * c.ts * self._sim.drive.machine.pole_pairs * turning
            alpha, beta = vd * np.cos(at) - vq * np.sin(at), vd * np.sin(at) + vq * np.cos(at)
        whole, early = delays(c)
        before = len(self._commanded)
        told = np.array([*self._commanded, *zip(alpha, beta, strict=True)])
        self._commanded.extend(zip(alpha, beta, strict=True))
        share = early / c.ts
        place = before + np.arange(len(vd)) - 1 - whole
        newer, older = (told[np.clip(place - k, 0, None)] for k in (0, 1))
        for k, part in ((0, newer), (1, older)):
            part[place - k < 0] = 0.0
        acted = share * older + (1.0 - share) * newer
        return acted[:, 0], acted[:, 1]

    def _emf(self, trace: Trace, phase: int) -> FloatArray:
        """Return the back-EMF of a phase, winding or armature, V."""
        m = self._sim.drive.machine
        if not self._turns:
            return np.asarray(m.psi * trace["speed"])
        if self._cage:
            return self._fading(trace, phase)
        shift = phase * (2 * math.pi / 3 if self._phases else math.pi / 2)
        x = trace["theta_e"] - shift
        wave = np.sin(x)
        if isinstance(m, Trapezoid):
            wave = wave + m.h3 * np.sin(3 * x) + m.h5 * np.sin(5 * x) + m.h7 * np.sin(7 * x)
        return np.asarray(-m.pole_pairs * trace["speed"] * m.psi * wave)

    def _fading(self, trace: Trace, phase: int) -> FloatArray:
        """Return what the rotor's flux still induces in a phase of a cage without a current, V: (−1/Tr + jω)·ψ, with ψ as it stands at the end and fell before."""
        m, x = self._sim.drive.machine, self._sim.state
        assert isinstance(m, Induction)
        rate = m.rr / m.lm
        size = math.hypot(x[state.PSI_ALPHA], x[state.PSI_BETA]) * np.exp(np.clip(rate * (trace["t"][-1] - trace["t"]), 0.0, 50.0))
        at = trace["theta_e"] - phase * 2 * math.pi / 3
        return np.asarray(size * (-rate * np.cos(at) - m.pole_pairs * trace["speed"] * np.sin(at)))

    def _signals(self, trace: Trace, volts: tuple[FloatArray, FloatArray], flowed: Mapping[str, FloatArray], keep: IntArray) -> dict[str, FloatArray]:
        """Return the channels at the kept rows, physical; ``flowed`` are the mean currents of the periods that end there, which the bridge's losses go with."""
        f_a, f_b, f_c = (flowed[k][keep] for k in ("i_a", "i_b", "i_c"))
        t = Trace({k: v[keep] for k, v in trace.columns.items()})
        alpha, beta = volts[0][keep], volts[1][keep]
        drive = self._sim.drive
        found: dict[str, FloatArray] = {}
        s, i_a, i_b = drive.sensing, t["i_a"], t["i_b"]
        still = np.abs(alpha) + np.abs(beta) == 0.0
        off = still & (np.abs(i_a) + np.abs(i_b) < 1e-9)
        knee = max(drive.inverter.knee, 1e-9)

        def lost(i: FloatArray) -> FloatArray:
            return drive.inverter.dead_voltage * np.clip(i / knee, -1.0, 1.0)

        if self._phases:
            a, b = alpha, -0.5 * alpha + 0.5 * math.sqrt(3) * beta
            c = -a - b
            legs = [np.where(off, self._emf(t, k), v - lost(i)) for k, (v, i) in enumerate(((a, f_a), (b, f_b), (c, f_c)))]
            found |= {"v_cmd": alpha, "v_ab": legs[0] - legs[1], "v_bc": legs[1] - legs[2]}
        elif self._turns:
            found |= {name: np.where(off, self._emf(t, k), v - lost(i)) for k, (name, v, i) in enumerate((("v_a", alpha, f_a), ("v_b", beta, f_b)))}
        else:
            found["v_m"] = np.where(off, self._emf(t, 0), alpha - lost(f_a))
        for name, column in (("i_a", "i_a"), ("i_b", "i_b"), ("i_m", "i_a"), ("i_q", "i_q"), ("i_d", "i_d")):
            found[name] = np.clip(t[column] + s.noise * self._rng.standard_normal(len(keep)), -s.full_scale, s.full_scale)
        te = t["theta_e"]  # what the current is meant to be: along phase A, of a torque current or an armature itself
        along = t["i_d_ref"] * np.cos(te) - t["i_q_ref"] * np.sin(te)
        magnetizes = self._cage and int(self.values.get("test", 0.0)) == FIELD
        found["i_ref"] = along if self._turns and int(self._sim.inputs[state.IN_MODE]) == STEP else t["i_d_ref"] if magnetizes else t["i_q_ref"]
        found |= {"speed": t["speed_seen"], "speed_ref": t["speed_ref"], "position": np.degrees(t["angle"] - self.zero / drive.machine.pole_pairs)}
        if self._halls is not None:
            found["halls"] = self._halls(t["theta_e"])
        return found

    # ---- the shaft

    def clamped(self, drive: Drive) -> Drive:
        """Return the drive with its shaft held."""
        return drive._replace(load=LOCKED)
