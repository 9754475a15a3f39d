"""Every capture that the program takes through a drive: sized by what the bench knows, written beside it, read for its leg. Nothing is settled here."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.capture import write_capture
from crisp_compass.course.captures import Evaluated, add_evidence, evaluate
from crisp_compass.course.circuit import rated_hertz
from crisp_compass.course.speed_design import design_speed
from crisp_compass.drive import routines
from crisp_compass.drive.conversation import factor_to_si
from crisp_compass.drive.description import Entry
from crisp_compass.drive.hand import Hand
from crisp_compass.drive.identification_plan import motor_of
from crisp_compass.drive.routines import Taken
from crisp_compass.drive.served_stand import COAST, VOLTAGE
from crisp_compass.drive.writing import write_and_check
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.motor import family_of

#: Refusals after which nothing is tried again.
ENDS = ("tripped", "disarmed", "too-fast", "stopped")
#: Shares of the top speed up to which the shaft is turned for a coast, and in how many seconds, until one of them shows enough.
_COASTS = ((0.5, 3.0), (0.8, 8.0), (0.25, 5.0), (0.12, 5.0))
#: Share of ψ/(Lq − Ld) that a current which aligns the rotor takes at most.
AXIS = 0.6
#: Of a cage: share of the voltage that the bus can give, time in which it is run up [s], time for which its flux is looked at [s].
_USABLE, _RAMP_S, _FADES_S = 0.9, 4.0, 1.2
#: Share of the sampling rate that a turned voltage has at most.
_FINE = 0.003
#: Where a free motor hunts other frequencies are tried; change of the current's size that counts as calm.
_OTHERS, _CALM = (1.0, 2.0, 0.5), 0.03


class Taker:
    """Takes captures through one drive for a bench; ``now`` gives the time of the evidence, captures are named by ``prefix``."""

    def __init__(self, bench: Bench, hand: Hand, folder: Path, *, now: Callable[[], str], prefix: str = "drive") -> None:
        self._prefix = prefix
        self.bench, self._hand, self._folder = bench, hand, folder
        self._now, self._clock = now, hand.clock
        hand.look()
        self._motor = motor_of(bench, hand.signal("v_bus") or need(bench, "plate.v_bus"))
        self._rated = self._motor.current  # a short current across moves nothing, so it may be all of it
        hand.most_speed = 1.5 * self._motor.top_speed
        self._volts = self._tau = 0.0
        self._clamped = False
        self._coasted: Taken | None = None
        self.findings: list[Finding] = []

    def _let_go(self) -> None:
        """Let go of a shaft that was clamped for this, and was not before."""
        if self._clamped:
            self._clamped = False
            with contextlib.suppress(Refusal):
                self._hand.command("hold", 0.0)

    def _on_axis(self) -> float:
        """Return the current [A] that still holds the rotor on its axis, with room.

        Torque of a current I at an angle δ to the magnet is ψ·I·sin δ − (Lq − Ld)·I²·sin δ·cos δ: beyond ψ/(Lq − Ld) the rotor rests beside the current, at
        cos δ = ψ/((Lq − Ld)·I).
        """
        found = [settled_value(self.bench, k) for k in ("inductance.ld", "inductance.lq", "flux.flux_linkage")]
        if any(q is None for q in found):
            return math.inf
        ld, lq, psi = (q.value for q in found if q is not None)
        return AXIS * psi / (lq - ld) if lq > ld else math.inf

    def file_of(self, name: str) -> str:
        """Return the file of a capture by its name in ``CAPTURES``."""
        return f"{self._prefix}-{name}.csv"

    def _read(self, found: Evaluated) -> None:
        """Hear of a capture that was read."""

    def _take(self, topic: str, name: str, taken: Taken) -> Evidence:
        """Write a capture beside the bench and read it for a waypoint; the drive is disarmed, as nobody looks at it meanwhile."""
        self._hand.stop()
        family = family_of(self.bench).captures
        path = self._folder / self.file_of(name)
        known = {k: v for k, v in taken.channels().items() if v.size}
        notes = {"origin": f"taken by the program from {self._hand.description.name or 'a drive'}", "family": family, **taken.notes}
        write_capture(path, taken.time, known, notes)
        found = evaluate(self.bench, topic, path, base=self._folder, when=self._now())
        self._read(found)
        self.findings += [Finding(f.level, f.code, f.text) for f in found.evidence.findings if f.level != "info"]
        self.bench = add_evidence(self.bench, found.evidence)
        return found.evidence

    def _time_constant(self) -> float:
        """Return L/R [s] roughly, from how a step of the current rises."""
        hand, motor = self._hand, self._motor
        half = 200 * hand.period
        for _ in range(4):
            rough = routines.steps(hand, motor, self._volts, half, 0.2 * self._volts)
            time_, current = rough.time, rough.columns["i_a" if motor.turned else "i_m"]
            # the area between a step and what it comes to, over its height, is the time constant
            edges = np.flatnonzero(np.abs(np.diff(rough.columns[next(k for k in rough.columns if k.startswith("v_"))])) > 0.2 * self._volts)
            period = round(half / hand.period)
            taus = []
            for at in edges:
                if at + period < len(time_):
                    piece = current[at + 1 : at + 1 + period]
                    end = float(np.mean(piece[-max(period // 10, 3) :]))
                    height = end - float(current[at])
                    if abs(height) > 0.02 * motor.current:
                        taus.append(float(np.sum(end - piece)) / height * hand.period)
            if taus and 4.0 * float(np.median(taus)) < half:
                return max(float(np.median(taus)), 0.5 * hand.period)
            half *= 4.0
        raise Refusal("the current does not come to rest within a step", "look at the supply's current limit")

    def _reach(self, wanted: float) -> float:
        """Return the share of the top speed to which the field is turned, no more than is ``wanted`` and the drive allows."""
        entry = self._hand.description.role("commands", "test_speed")
        most = entry.max if entry is not None and entry.max is not None else math.inf
        return min(wanted, 0.99 * most / self._motor.top_speed)

    # ---- at standstill

    def _hold_still(self) -> None:
        """Clamp a shaft that a voltage would turn; the drive that does it is asked."""
        hand = self._hand
        entry = hand.description.role("commands", "hold")
        before = hand.line.read([entry]).get(entry.name, 0.0) if entry is not None and entry.readable else 0.0
        hand.command("hold", 1.0)
        self._clamped = before == 0.0

    def _size(self) -> None:
        """Find the voltage along the first winding that drives the test current, where it is not known yet; it is held then."""
        hand, motor = self._hand, self._motor
        if not motor.turned and not self._clamped:
            self._hold_still()
        hand.ready()
        if self._volts == 0.0:
            self._volts = routines.volts_for(hand, motor)

    def take_levels(self) -> Evidence:
        """Take a staircase of voltages for the resistance."""
        self._volts = 0.0
        self._size()
        return self._take("resistance", "levels", routines.levels(self._hand, self._motor, self._volts))

    def _resistance(self) -> float:
        """Return the resistance [Ω] as settled, else roughly as the test current found it."""
        found = settled_value(self.bench, "resistance.resistance")
        if found is None and self._volts == 0.0:
            self._size()
        return found.value if found is not None else self._volts / self._motor.current

    def take_steps(self) -> Evidence:
        """Take steps of a voltage along the magnet, or of an armature, for the inductance."""
        self._size()
        motor, ts = self._motor, self._hand.period
        self._tau = self._time_constant()
        half = min(max(1.5 * self._tau, 10 * ts), 0.02)
        swing = min(0.4 * motor.current * self._resistance() / (1.0 - math.exp(-half / self._tau)), 0.3 * motor.volts)
        return self._take("inductance", "steps-d" if motor.star else "steps", routines.steps(self._hand, motor, self._volts, half, swing))

    def take_steps_across(self) -> Evidence:
        """Take steps of a voltage across the magnet, too short for the rotor to move."""
        self._size()
        if self._tau == 0.0:
            self._tau = self._time_constant()
            self._hand.ready()
        known = [e.estimates["inductance"].value for e in self.bench.evidence.get("inductance", ()) if "inductance" in e.estimates]
        inductance = known[-1] if known else self._tau * self._resistance()
        half = min(max(0.12 * self._tau, 8 * self._hand.period), 1e-3)
        across = min(0.4 * self._rated * inductance / half, 0.3 * self._motor.volts)
        return self._take("inductance", "steps-q", routines.steps_across(self._hand, self._volts, half, across))

    def take_current_step(self) -> Evidence:
        """Take steps of the current loop with the gains that are settled."""
        hand, motor = self._hand, self._motor
        gains = self._held_gains("current_loop", ("kp_d", "ki_d"))
        if not motor.turned and not self._clamped:
            self._hold_still()
        hand.ready()
        if motor.turned and not motor.cage:
            if self._volts == 0.0:
                self._volts = routines.volts_for(hand, motor)
            hand.begin(VOLTAGE, level=self._volts)
            hand.settle_down(3.0)
        half = min(max(8.0 / need(self.bench, "current_loop.bandwidth_hz"), 40 * hand.period), 0.05)
        return self._take("current_loop", "current-step", routines.current_step(hand, motor, half, gains))

    def take_pole_search(self) -> Evidence:
        """Take pulses all round at standstill: where the magnet lies, without turning the shaft."""
        motor = self._motor
        r, ld, lq = (need(self.bench, k) for k in ("resistance.resistance", "inductance.ld", "inductance.lq"))
        half = min(max(0.12 * min(ld, lq) / r, 4 * self._hand.period), 2e-3)
        volts = min(self._rated * min(ld, lq) / half, 0.5 * motor.volts)
        return self._take("commutation", "pole-search", routines.pole_pulses(self._hand, volts, half, 6.0 * max(ld, lq) / r))

    # ---- a cage

    def take_locked(self) -> Evidence:
        """Clamp the shaft and let rated current flow at a quarter of rated frequency: leakage and rotor resistance."""
        hand, motor = self._hand, self._motor
        self._hold_still()
        hand.ready()
        hertz = min(0.25 * self._hertz(), 0.5 * self._fine())
        return self._take("circuit", "locked", routines.locked_rotor(hand, motor, hertz, 0.01 * motor.volts))

    def _hertz(self) -> float:
        found = rated_hertz(self.bench)
        if not found:
            raise Refusal("the rated frequency is missing", "enter it on the Plate")
        return found

    def _fine(self) -> float:
        """Return the frequency [Hz] up to which the steps of the sampling period do not show in a turned voltage: flux over voltage is the same at a lower one."""
        return _FINE / self._hand.period

    def _full(self, part: float = 1.0) -> tuple[float, float, float]:
        """Return voltage [V peak, phase] and frequency [Hz] of full flux that the bus reaches and the sampling shows, or at so many times its frequency, and the voltage that is left at standstill."""
        plate, hertz = self.bench.settings.plate, self._hertz()
        rated = getattr(plate, "rated_voltage", None)
        if not rated:
            raise Refusal("the rated voltage is missing", "enter it on the Plate")
        whole = math.sqrt(2 / 3) * rated
        share = min(1.0, _USABLE * self._motor.volts / math.sqrt(3) / whole, part * self._fine() / hertz)
        return share * whole, share * hertz, 0.5 * self._resistance() * self._motor.current

    def take_no_load(self) -> Evidence:
        """Let the motor run at no load and full flux: the magnetizing inductance."""
        self._let_go()
        found: list[tuple[float, Taken]] = []
        for share in _OTHERS:
            self._hand.ready()
            volts, hertz, boost = self._full(share)
            taken = routines.turned_voltage(self._hand, self._motor, volts, hertz, held=False, ramp_s=_RAMP_S, boost=boost)
            found.append((routines.unsteady(taken), taken))
            if found[-1][0] < _CALM:
                break
            self._hand.stop()
        return self._take("circuit", "no-load", min(found, key=lambda f: f[0])[1])

    def take_decay(self) -> Evidence:
        """Run the motor up at no load and switch off: how the rotor's flux dies away."""
        self._let_go()
        hand = self._hand
        hand.ready()
        volts, hertz, boost = self._full()
        routines.turned_voltage(hand, self._motor, volts, hertz, held=False, ramp_s=_RAMP_S, boost=boost)
        hand.command("test", float(COAST))
        hand.wait(0.01)  # until the last current is gone
        names = ("v_ab", "v_bc")
        rows = min(hand.most_rows(names), 12_000)
        hand.open_scope(names, rows, max(1, math.ceil(_FADES_S / hand.period / rows)))
        return self._take("circuit", "decay", Taken(hand.close_scope()))

    # ---- turning

    def take_coast(self) -> Evidence:
        """Turn the shaft by its own field, or an armature by a current, and let it coast: the flux linkage, or Ke."""
        hand, motor = self._hand, self._motor
        if not motor.turned:
            hand.settle_down(5.0)
            self._let_go()
        last = None
        for wanted, seconds in _COASTS:
            hand.ready()
            try:
                taken = self._coasted = routines.coast(hand, motor, self._reach(wanted), seconds)
                names = [n for n in ("v_ab", "v_bc", "v_a", "v_b", "v_m", "speed", "angle") if n in taken.columns]
                return self._take("flux", "coast", Taken({"t": taken.time, **{n: taken.columns[n] for n in names}}, taken.notes))
            except Refusal as refusal:  # it lost the field, or stood too soon
                if refusal.code in ENDS:
                    raise
                last = refusal
                hand.stop()
        assert last is not None
        raise last

    def take_halls(self) -> Evidence:
        """Read the halls beside the windings' own voltages, of a coast that was taken or is now."""
        if self._coasted is None:
            self.take_coast()
        assert self._coasted is not None
        columns = self._coasted.columns
        wanted = ("t", "v_ab", "v_bc", "hall_1", "hall_2", "hall_3")
        return self._take("commutation", "halls", Taken({k: columns[k] for k in wanted}, self._coasted.notes))

    def take_alignment(self) -> Evidence:
        """Hold a voltage at one angle after another and read where the shaft rests: the encoder's zero."""
        hand = self._hand
        self._size()
        share = min(1.0, self._on_axis() / self._motor.current)
        try:
            return self._take("commutation", "alignment", routines.alignment(hand, self._motor, share * self._volts))
        except Refusal as refusal:  # a heavy shaft falls behind
            if refusal.code in ENDS:
                raise
            hand.ready()
            return self._take("commutation", "alignment", routines.alignment(hand, self._motor, share * self._volts, slower=4))

    def take_run_up(self) -> Evidence:
        """Run the shaft up with a constant torque current and let it coast: inertia and friction."""
        self._let_go()
        return self._take("mechanics", "run-up", routines.run_up(self._hand, self._motor))

    def take_chirp(self) -> Evidence:
        """Run the shaft up with a torque current that swings faster and faster, and let it coast: inertia and friction, and what resonates."""
        self._let_go()
        return self._take("mechanics", "chirp", routines.run_up(self._hand, self._motor, chirp=True))

    def _held_gains(self, topic: str, names: tuple[str, str]) -> tuple[float, float]:
        """Return two gains [SI] as the drive holds them, where it tells, else as settled."""
        found = []
        for name in names:
            entry = next((e for e in self._hand.description.parameters if e.bench == f"{topic}.{name}" and e.readable), None)
            held = self._hand.line.read([entry]).get(entry.name) if entry is not None else None
            found.append(held * factor_to_si(entry) if entry is not None and held else need(self.bench, f"{topic}.{name}"))
        return found[0], found[1]

    def torque_current(self) -> float:
        """Return the current [A] that the drive lets the speed loop ask for, as far as it tells."""
        told = next((e for e in self._hand.description.parameters if e.name == "current_limit" and e.readable), None)
        held = self._hand.line.read([told]).get(told.name) if told is not None else None
        return held * factor_to_si(told) if told is not None and held else self._motor.current

    def speed_step(self) -> tuple[float, float, float]:
        """Return the lower speed, the step on it [rad/s] and how long each is held [s], so that neither current limit nor voltage hold it back."""
        motor = self._motor
        current = min(0.6 * self.torque_current(), 0.3 * motor.volts / need(self.bench, "current_loop.kp_q"))
        step = min(current / need(self.bench, "speed_loop.kp"), 0.3 * motor.top_speed)
        margins = design_speed(self.bench).margins
        if not (margins.stable and math.isfinite(margins.crossover_hz)):
            raise Refusal("the speed loop as designed is not stable", "choose gains that hold on the Speed loop leg first")
        return 0.3 * motor.top_speed, step, min(max(8.0 / margins.crossover_hz, 0.05), 3.0)

    @contextlib.contextmanager
    def without_ramp(self) -> Iterator[None]:
        """Let a reference step as it is asked for: a ramp would hide what the loop does by itself; what the drive held comes back."""
        hand = self._hand
        ramp = next((e for e in hand.description.parameters if e.bench == "speed_loop.ramp" and e.writable and e.max is not None), None)
        before = hand.line.read([ramp]).get(ramp.name) if ramp is not None else None
        if ramp is not None:
            assert ramp.max is not None
            write_and_check(hand.line, hand.description, ramp, ramp.max)
        try:
            yield
        finally:
            if ramp is not None and before is not None:
                hand.stop()
                with contextlib.suppress(Refusal):
                    hand.settle_down(20.0)
                self._put_back(ramp, before)

    def _put_back(self, entry: Entry, value: float) -> None:
        """Write what a drive held before; where that does not go it is said, and what ended the capture stays the reason of its end."""
        try:
            became = write_and_check(self._hand.line, self._hand.description, entry, value)
            kept = not any(f.level == "stop" for f in became.findings())
        except Refusal:
            kept = False
        if not kept:
            text = f"{entry.name} could not be put back to {value:.6g} {entry.unit}: write it before the drive is used.".replace("  ", " ")
            self.findings.append(Finding("caution", "not-put-back", text))

    def take_speed_steps(self) -> Evidence:
        """Take steps of the closed speed loop with the gains that the drive holds."""
        self._let_go()
        gains = self._held_gains("speed_loop", ("kp", "ki"))
        low, step, hold = self.speed_step()
        with self.without_ramp():
            taken = routines.speed_steps(self._hand, self._motor, low, low + step, seconds=hold, times=2)
        return self._take("speed_loop", "speed-steps", Taken(taken.columns, {**taken.notes, "kp": f"{gains[0]:.9g}", "ki": f"{gains[1]:.9g}"}))

    def take_start(self) -> Evidence:
        """Let the drive start without a sensor by its own sequence, and keep what windings and currents do meanwhile."""
        hand_over, ramp = (need(self.bench, f"start_up.{k}") for k in ("hand_over", "acceleration"))
        whole = need(self.bench, "start_up.align_time") + hand_over / ramp + need(self.bench, "start_up.hold") + 1.0
        asked = abs(self.bench.settings.run.speed)
        speed = min(asked if asked > 1.2 * hand_over else 1.5 * hand_over, self._motor.top_speed)
        return self._take("start_up", "start", routines.start(self._hand, speed, 1.3 * whole))
