"""A drive identified end to end: every capture taken through it, read as anybody's, settled, and written back.

The order is that of the course: resistance and inductance at standstill with voltages alone, then the current loop, then a turned field whose coast gives the flux
linkage (and the hall table, or an alignment the encoder's zero), then a run-up for inertia and friction, then the speed loop; a step of each loop proves its gains.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence, LedgerEntry
from crisp_compass.bench.rules import need, settle, settled_value
from crisp_compass.capture import write_capture
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.captures import add_evidence, evaluate
from crisp_compass.course.waypoints import BY_KEY, KINDS
from crisp_compass.course.waypoints.current_loop import design_current
from crisp_compass.course.waypoints.speed_loop import design_speed, loop_at
from crisp_compass.drive import routines
from crisp_compass.drive.compare import bench_values
from crisp_compass.drive.conversation import factor_to_si
from crisp_compass.drive.hand import Hand
from crisp_compass.drive.identification_plan import Progress, motor_of, steps_of
from crisp_compass.drive.routines import Taken
from crisp_compass.drive.served_stand import VOLTAGE
from crisp_compass.drive.step_proof import VAGUE, step_overshoot
from crisp_compass.drive.writing import write_and_check
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.motor import family_of
from crisp_compass.quantities import show

#: Refusals after which nothing is tried again.
_ENDS = ("tripped", "disarmed", "too-fast", "stopped")
#: Shares of the top speed up to which the shaft is turned for a coast, and in how many seconds, until one of them shows enough.
_COASTS = ((0.5, 3.0), (0.8, 8.0), (0.25, 5.0), (0.12, 5.0))
#: Phase margin [deg] of a current loop that is left as it was chosen.
_CALM = 50.0
#: Share of ψ/(Lq − Ld) that a current which aligns the rotor takes at most.
_AXIS = 0.6
#: Captures of speed steps, until their mean tells the overshoot.
_PROOFS = 6
#: Captures that an identification may take.
CAPTURES = ("levels", "steps", "steps-d", "steps-q", "current-step", "coast", "halls", "alignment", "run-up")
_REASON = "taken by the program through the drive"


class Identification:
    """Takes every step in turn; ``tell`` hears where it is and ``now`` gives the time of the ledger."""

    def __init__(
        self, bench: Bench, hand: Hand, folder: Path, *, tell: Callable[[Progress], None] = lambda _: None, now: Callable[[], str], prefix: str = "drive",
    ) -> None:  # fmt: skip
        self._prefix = prefix
        self.bench, self._hand, self._folder = bench, hand, folder
        self._tell, self._now, self._clock = tell, now, hand.clock
        self.steps = steps_of(bench, hand.description)
        hand.look()
        self._motor = motor_of(bench, hand.signal("v_bus") or need(bench, "plate.v_bus"))
        self._rated = self._motor.current  # a short current across moves nothing, so it may be all of it
        hand.most_speed = 1.5 * self._motor.top_speed
        self._volts = self._tau = 0.0
        self._clamped = False
        self._coasted: Taken | None = None
        self.findings: list[Finding] = []

    def run(self) -> Bench:
        """Take every step and return the bench with all of it; the drive is stopped at the end, whatever happens.

        Raises Refusal naming the step; what was found until then is in ``bench``.
        """
        try:
            return self._run()
        finally:
            self._let_go()

    def _run(self) -> Bench:
        queue, again = list(self.steps), False
        while queue:
            step = queue.pop(0)
            self._tell(Progress(step, "runs"))
            began = self._clock()
            try:
                text = getattr(self, f"_{step.key}")()
            except Refusal as refusal:
                self._hand.stop()
                self._tell(Progress(step, "left out", refusal.sentence, self._clock() - began, self.bench))
                raise refusal.at(step.name) from None
            except BaseException:
                self._hand.stop()
                raise
            took = self._clock() - began
            line = LedgerEntry(when=self._now(), kind="drive", text=f"{step.name}, through the drive, {took:.1f} s: {text}"[:4000])
            self.bench = self.bench.model_copy(update={"ledger": (*self.bench.ledger, line)})
            self._tell(Progress(step, "done", text, took, self.bench))
            if step.key == "coast" and not again and self._pulled_aside():
                again, queue = True, [s for s in self.steps if s.key in ("levels", "steps", "current_loop")] + queue
        self._hand.stop()
        self._write_all()
        return self.bench

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
        return _AXIS * psi / (lq - ld) if lq > ld else math.inf

    def _pulled_aside(self) -> bool:
        """Tell whether the current of the first captures pulled the rotor off its axis, and take less from now on."""
        most = self._on_axis()
        if self._motor.current <= most / _AXIS * 0.9:
            return False
        self._motor = replace(self._motor, current=most)
        text = f"The saliency of this motor pulls the rotor aside of a larger current: resistance and inductance were taken again with {show(most, 'A')}. Friction may hold the rotor aside of so little: compare Ld and Lq with captures of a clamped rotor."
        self.findings.append(Finding("caution", "less-current", text))
        return True

    # ---- what is made of captures

    def file_of(self, name: str) -> str:
        """Return the file of a capture by its name in ``CAPTURES``."""
        return f"{self._prefix}-{name}.csv"

    def _take(self, topic: str, name: str, taken: Taken) -> Evidence:
        """Write a capture beside the bench and read it for a waypoint; the drive is disarmed, as nobody looks at it meanwhile."""
        self._hand.stop()
        family = family_of(self.bench).captures
        path = self._folder / self.file_of(name)
        known = {k: v for k, v in taken.channels().items() if v.size}
        notes = {"origin": f"taken by the program from {self._hand.description.name or 'a drive'}", "family": family, **taken.notes}
        write_capture(path, taken.time, known, notes)
        found = evaluate(self.bench, topic, path, base=self._folder, when=self._now())
        stops = [f for f in found.evidence.findings if f.level == "stop"]
        if stops:
            raise Refusal(stops[0].text.rstrip("."), "nothing was settled by it", where=path.name)
        self.findings += [Finding(f.level, f.code, f.text) for f in found.evidence.findings if f.level != "info"]
        self.bench = add_evidence(self.bench, found.evidence)
        return found.evidence

    def _settle(self, topic: str, evidence: Evidence | None = None) -> str:
        """Settle what a waypoint proposes of a capture, or by design; return its headline."""
        waypoint = BY_KEY[topic]
        if evidence is not None:
            propose = KINDS[evidence.kind].propose
            proposal = propose(self.bench, evidence) if propose is not None else None
        else:
            proposal = waypoint.propose(self.bench) if waypoint.propose is not None else None
        if proposal is None:
            raise Refusal(f"the {waypoint.inline_name} cannot be settled by this capture", "look at it on its leg")
        self.bench = settle(
            self.bench, topic, proposal.values, reason=_REASON if evidence is not None else f"{proposal.reason}; {_REASON}", when=self._now(), method=proposal.method,
            rests_on=proposal.rests_on, halls=proposal.halls, headline=proposal.headline, origin=proposal.origin,
        )  # fmt: skip
        return proposal.headline

    def _write(self, *topics: str) -> list[str]:
        """Write what the bench has settled of some waypoints to the drive; return what was written. Raises Refusal where the drive keeps something else."""
        described, wrote = self._hand.description, []
        for entry, value in bench_values(self.bench, described.parameters):
            if entry.writable and entry.bench is not None and (not topics or entry.bench.partition(".")[0] in topics):
                became = write_and_check(self._hand.line, described, entry, value)
                bad = [f for f in became.findings() if f.level == "stop"]
                if bad:
                    raise Refusal(bad[0].text.rstrip("."), "look at the limits in its description")
                wrote.append(f"{entry.name} {became.value:.6g} {entry.unit}".rstrip())
        return wrote

    def _write_all(self) -> None:
        wrote = self._write()
        if self._hand.description.role("commands", "restart") is not None and any(e.restart for e in self._hand.description.parameters):
            self._hand.settle_down(10.0)
            self._hand.command("restart", 1.0)
        text = f"identified through the drive and written back: {', '.join(wrote)}" if wrote else "identified through the drive"
        self.bench = self.bench.model_copy(update={"ledger": (*self.bench.ledger, LedgerEntry(when=self._now(), kind="drive", text=text[:4000]))})

    # ---- the steps

    def _levels(self) -> str:
        hand, motor = self._hand, self._motor
        if not motor.turned:
            entry = hand.description.role("commands", "hold")
            before = hand.line.read([entry]).get(entry.name, 0.0) if entry is not None and entry.readable else 0.0
            hand.command("hold", 1.0)
            self._clamped = before == 0.0
        hand.ready()
        self._volts = routines.volts_for(hand, motor)
        evidence = self._take("resistance", "levels", routines.levels(hand, motor, self._volts))
        return self._settle("resistance", evidence)

    def _steps(self) -> str:
        hand, motor, ts = self._hand, self._motor, self._hand.period
        r = need(self.bench, "resistance.resistance")
        hand.ready()
        self._tau = self._time_constant()
        half = min(max(1.5 * self._tau, 10 * ts), 0.02)
        swing = min(0.4 * motor.current * r / (1.0 - math.exp(-half / self._tau)), 0.3 * motor.volts)
        evidence = self._take("inductance", "steps-d" if motor.star else "steps", routines.steps(hand, motor, self._volts, half, swing))
        if motor.star:
            inductance = evidence.estimates["inductance"].value
            half = min(max(0.12 * self._tau, 8 * ts), 1e-3)  # too short for the rotor to move
            across = min(0.4 * self._rated * inductance / half, 0.3 * motor.volts)
            hand.ready()
            evidence = self._take("inductance", "steps-q", routines.steps_across(hand, self._volts, half, across))
        return self._settle("inductance", evidence)

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

    def _current_loop(self) -> str:
        hand, motor = self._hand, self._motor
        if settled_value(self.bench, "pwm.loop_hz") is None:
            self._settle("pwm")
        told = 1.0 / hand.period
        if not math.isclose(need(self.bench, "pwm.loop_hz"), told, rel_tol=0.01):
            raise Refusal(f"the drive samples at {show(told, 'Hz')}, the bench at {show(need(self.bench, 'pwm.loop_hz'), 'Hz')}", "set carrier and divider on the PWM leg as the drive has them")
        if settled_value(self.bench, "current_loop.kp_d") is None:
            self.bench = self._with_fitting_bandwidth()
        text = self._settle("current_loop")
        wrote = self._write("current_loop")
        if not wrote:
            return f"{text}; the drive takes no gains"
        hand.ready()
        if motor.turned:
            hand.begin(VOLTAGE, level=self._volts)
            hand.settle_down(3.0)
        gains = (need(self.bench, "current_loop.kp_d"), need(self.bench, "current_loop.ki_d"))
        bandwidth = need(self.bench, "current_loop.bandwidth_hz")
        half = min(max(8.0 / bandwidth, 40 * hand.period), 0.05)
        taken = routines.current_step(hand, motor, half, gains)
        self._take("current_loop", "current-step", taken)
        design = design_current(self.bench)
        return f"{text}; {self._beside('overshoot', 100.0 * float(self.bench.evidence['current_loop'][-1].estimates['overshoot'].value), design.d.overshoot_pct)}"

    def _with_fitting_bandwidth(self) -> Bench:
        """Return the bench with a bandwidth that the delay leaves calm: the one that was chosen, or a twentieth of the loop's rate where that leaves too little margin."""
        most = float(f"{0.05 / self._hand.period:.3g}")
        if self.bench.settings.current_loop.bandwidth_hz <= most:
            return self.bench
        margin = design_current(self.bench).q.margins.phase_margin_deg
        return self.bench if margin >= _CALM else enter(self.bench, "current_loop", {"bandwidth_hz": most})

    @staticmethod
    def _beside(what: str, measured: float, designed: float) -> str:
        return f"{what} {measured:.1f} %, by design {designed:.1f} %"

    def _coast(self) -> str:
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
                evidence = self._take("flux", "coast", Taken({"t": taken.time, **{n: taken.columns[n] for n in names}}, taken.notes))
            except Refusal as refusal:  # it lost the field, or stood too soon
                if refusal.code in _ENDS:
                    raise
                last = refusal
                hand.stop()
                continue
            return self._settle("flux", evidence)
        assert last is not None
        raise last

    def _reach(self, wanted: float) -> float:
        """Return the share of the top speed to which the field is turned, no more than is ``wanted`` and the drive allows."""
        entry = self._hand.description.role("commands", "test_speed")
        most = entry.max if entry is not None and entry.max is not None else math.inf
        return min(wanted, 0.99 * most / self._motor.top_speed)

    def _halls(self) -> str:
        assert self._coasted is not None
        columns = self._coasted.columns
        wanted = ("t", "v_ab", "v_bc", "hall_1", "hall_2", "hall_3")
        evidence = self._take("commutation", "halls", Taken({k: columns[k] for k in wanted}, self._coasted.notes))
        return self._settle("commutation", evidence)

    def _alignment(self) -> str:
        hand, motor = self._hand, self._motor
        hand.ready()
        share = min(1.0, self._on_axis() / motor.current)
        try:
            evidence = self._take("commutation", "alignment", routines.alignment(hand, motor, share * self._volts))
        except Refusal as refusal:  # a heavy shaft falls behind
            if refusal.code in _ENDS:
                raise
            hand.ready()
            evidence = self._take("commutation", "alignment", routines.alignment(hand, motor, share * self._volts, slower=4))
        text = self._settle("commutation", evidence)
        self._write("commutation")
        return text

    def _run_up(self) -> str:
        hand = self._hand
        evidence = self._take("mechanics", "run-up", routines.run_up(hand, self._motor))
        return self._settle("mechanics", evidence)

    def _torque_current(self) -> float:
        """Return the current [A] that the drive lets the speed loop ask for, as far as it tells."""
        told = next((e for e in self._hand.description.parameters if e.name == "current_limit" and e.readable), None)
        held = self._hand.line.read([told]).get(told.name) if told is not None else None
        return held * factor_to_si(told) if told is not None and held else self._motor.current

    def _speed_loop(self) -> str:
        hand, motor = self._hand, self._motor
        text = self._settle("speed_loop")
        hand.settle_down(10.0)
        wrote = self._write("speed_loop")
        if not wrote:
            return f"{text}; the drive takes no gains"
        low = 0.3 * motor.top_speed
        # neither the current limit nor the voltage may hold it back
        current = min(0.6 * self._torque_current(), 0.3 * motor.volts / need(self.bench, "current_loop.kp_q"))
        step = min(current / need(self.bench, "speed_loop.kp"), 0.3 * motor.top_speed)
        ramp = next((e for e in hand.description.parameters if e.bench == "speed_loop.ramp" and e.writable and e.max is not None), None)
        if ramp is not None:  # a ramp would hide what the loop does by itself
            assert ramp.max is not None
            write_and_check(hand.line, hand.description, ramp, ramp.max)
        design = design_speed(self.bench)
        hold, loop = min(max(8.0 / design.margins.crossover_hz, 0.05), 3.0), loop_at(self.bench, design, low + step)
        captures: list[Taken] = []
        stays: Refusal | None = None
        try:
            while len(captures) < _PROOFS:
                captures.append(routines.speed_steps(hand, motor, low, low + step, hold))
                overshoot, u, expected = step_overshoot(captures, low, low + step, loop, design.margins.crossover_hz)
                if u < VAGUE or u > 3 * VAGUE:
                    break
                hand.ready()
        except Refusal as refusal:
            if refusal.code != "stays":
                raise
            stays = refusal
        hand.settle_down(20.0)
        if ramp is not None:
            self._write("speed_loop")
        if stays is not None:
            self.findings.append(Finding("caution", "speed-stays", f"{stays.problem[:1].upper()}{stays.problem[1:]}: {stays.remedy}."))
            return f"{text}; not proven: {stays.problem}"
        if u > VAGUE:
            return f"{text}; a step of {show(step * RPM_PER_RAD_S, 'rpm', 2)}, all that its limits allow, is too small against this sensor's noise to tell the overshoot"
        return f"{text}; {self._beside('overshoot', overshoot, expected)}"
