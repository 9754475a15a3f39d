"""A drive identified end to end: every capture taken through it, read as anybody's, settled, and written back.

The order is that of the course: resistance and inductance at standstill with voltages alone, then the current loop, then a turned field whose coast gives the flux
linkage (and the hall table, or an alignment the encoder's zero), then a run-up for inertia and friction, then the speed loop; a step of each loop proves its gains.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence, LedgerEntry
from crisp_compass.bench.rules import need, settle, settled_value
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.speed_design import design_speed, loop_at
from crisp_compass.course.waypoints import BY_KEY, KINDS
from crisp_compass.course.waypoints.current_loop import design_current
from crisp_compass.drive import routines
from crisp_compass.drive.compare import bench_values
from crisp_compass.drive.hand import Hand
from crisp_compass.drive.identification_plan import Progress, steps_of
from crisp_compass.drive.routines import Taken
from crisp_compass.drive.step_proof import VAGUE, step_overshoot
from crisp_compass.drive.taking import AXIS, Taker
from crisp_compass.drive.writing import write_and_check
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.quantities import show

#: Phase margin [deg] of a current loop that is left as it was chosen.
_CALM = 50.0
#: Captures of speed steps, until their mean tells the overshoot.
_PROOFS = 6
#: Captures that an identification may take.
CAPTURES = ("levels", "steps", "steps-d", "steps-q", "current-step", "coast", "halls", "alignment", "run-up", "locked", "no-load")
_REASON = "taken by the program through the drive"


class Identification(Taker):
    """Takes every step in turn; ``tell`` hears where it is and ``now`` gives the time of the ledger."""

    def __init__(
        self, bench: Bench, hand: Hand, folder: Path, *, tell: Callable[[Progress], None] = lambda _: None, now: Callable[[], str], prefix: str = "drive",
    ) -> None:  # fmt: skip
        super().__init__(bench, hand, folder, now=now, prefix=prefix)
        self._tell = tell
        self.steps = steps_of(bench, hand.description)

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
                self._tell(Progress(step, "left out", refusal.sentence, self._clock() - began, bench=self.bench))
                raise refusal.at(step.name) from None
            except BaseException:
                self._hand.stop()
                raise
            took = self._clock() - began
            line = LedgerEntry(when=self._now(), kind="drive", text=f"{step.name}, through the drive, {took:.1f} s: {text}"[:4000])
            self.bench = self.bench.model_copy(update={"ledger": (*self.bench.ledger, line)})
            self._tell(Progress(step, "done", text, took, bench=self.bench))
            if step.key == "coast" and not again and self._pulled_aside():
                again, queue = True, [s for s in self.steps if s.key in ("levels", "steps", "current_loop")] + queue
        self._hand.stop()
        self._write_all()
        return self.bench

    def _take(self, topic: str, name: str, taken: Taken) -> Evidence:
        evidence = super()._take(topic, name, taken)
        stops = [f for f in evidence.findings if f.level == "stop"]
        if stops:
            raise Refusal(stops[0].text.rstrip("."), "nothing was settled by it", where=self.file_of(name))
        return evidence

    def _pulled_aside(self) -> bool:
        """Tell whether the current of the first captures pulled the rotor off its axis, and take less from now on."""
        most = self._on_axis()
        if self._motor.current <= most / AXIS * 0.9:
            return False
        self._motor = replace(self._motor, current=most)
        text = f"The saliency of this motor pulls the rotor aside of a larger current: resistance and inductance were taken again with {show(most, 'A')}. Friction may hold the rotor aside of so little: compare Ld and Lq with captures of a clamped rotor."
        self.findings.append(Finding("caution", "less-current", text))
        return True

    # ---- what is made of captures

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
        return self._settle("resistance", self.take_levels())

    def _steps(self) -> str:
        evidence = self.take_steps()
        if self._motor.star:
            evidence = self.take_steps_across()
        return self._settle("inductance", evidence)

    def _circuit(self) -> str:
        self.take_locked()
        text = self._settle("circuit", self.take_no_load())
        self._write("circuit")
        return text

    def _current_loop(self) -> str:
        hand = self._hand
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
        self.take_current_step()
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
        return self._settle("flux", self.take_coast())

    def _halls(self) -> str:
        return self._settle("commutation", self.take_halls())

    def _alignment(self) -> str:
        text = self._settle("commutation", self.take_alignment())
        self._write("commutation")
        return text

    def _run_up(self) -> str:
        return self._settle("mechanics", self.take_run_up())

    def _speed_loop(self) -> str:
        hand, motor = self._hand, self._motor
        text = self._settle("speed_loop")
        hand.settle_down(10.0)
        wrote = self._write("speed_loop")
        if not wrote:
            return f"{text}; the drive takes no gains"
        low, step, hold = self.speed_step()
        design = design_speed(self.bench)
        loop = loop_at(self.bench, design, low + step)
        captures: list[Taken] = []
        stays: Refusal | None = None
        try:
            with self.without_ramp():
                while len(captures) < _PROOFS:
                    captures.append(routines.speed_steps(hand, motor, low, low + step, seconds=hold))
                    overshoot, u, expected = step_overshoot(captures, low, low + step, loop, crossover_hz=design.margins.crossover_hz)
                    if u < VAGUE or u > 3 * VAGUE:
                        break
                    hand.ready()
        except Refusal as refusal:
            if refusal.code != "stays":
                raise
            stays = refusal
        hand.settle_down(20.0)
        if stays is not None:
            self.findings.append(Finding("caution", "speed-stays", f"{stays.problem[:1].upper()}{stays.problem[1:]}: {stays.remedy}."))
            return f"{text}; not proven: {stays.problem}"
        if u > VAGUE:
            return f"{text}; a step of {show(step * RPM_PER_RAD_S, 'rpm', 2)}, all that its limits allow, is too small against this sensor's noise to tell the overshoot"
        return f"{text}; {self._beside('overshoot', overshoot, expected)}"
