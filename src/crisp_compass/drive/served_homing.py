"""Homing of the simulated drive on a wire: its axis with switch, index and stops as the bench has them, and where its zero lies since."""

from __future__ import annotations

import contextlib
from dataclasses import replace

from crisp_compass.bench.models import Bench
from crisp_compass.bench.settings.terminals import Function
from crisp_compass.course.drive import running_current, running_mode
from crisp_compass.course.homing import plan_of
from crisp_compass.course.position import holds_position
from crisp_compass.errors import Refusal
from crisp_compass.motion.homing import Plan, method_of
from crisp_compass.motion.seeking import DONE, FAILED, Seeker
from crisp_compass.plant import state
from crisp_compass.plant.parameters import Drive
from crisp_compass.plant.simulation import Simulation, Trace, join
from crisp_compass.studies.home_run import Homer, with_stops

#: What the drive tells of it: never or broken off, under way, found, not found.
NEVER, SEEKS, FOUND, NOT_FOUND = range(4)
#: Method of object 6098h that takes the present place for zero.
HERE = 37
_SHOWS: dict[str, Function] = {"home-switch": "home", "negative-limit": "limit_backwards", "positive-limit": "limit_forwards"}


class ServedHoming:
    """What a drive of a bench needs to find its place, at rest where it is switched on; ``zero`` [rad] is where its place 0 lies, as the firmware counts from there.

    ``method`` is the number of object 6098h that it seeks by, ``chosen`` that which is asked for, or the present place. ``shows`` is the function of the terminal that shows the axis' switch.
    """

    def __init__(self, bench: Bench, sim: Simulation) -> None:
        plan: Plan | None = None
        if holds_position(bench):
            with contextlib.suppress(Refusal):  # what cannot be sought on this bench is not offered
                plan = plan_of(bench)
        self.plan = plan if plan is not None and plan.reference != "here" else None
        self.method = self.chosen = method_of(self.plan) if self.plan is not None else HERE
        self.shows = _SHOWS.get(self.plan.reference) if self.plan is not None else None
        self.told, self.zero = NEVER, 0.0
        self._bench, self._sim, self._left = bench, sim, 0.0
        self._homer = None if self.plan is None else Homer(sim, self.plan, bench.settings.homing.travel, mode=running_mode(bench), i_d=running_current(bench))

    @property
    def runs(self) -> bool:
        """Whether it is under way."""
        return self._homer is not None and self._homer.seeker.runs

    @property
    def active(self) -> bool:
        """Whether the axis' switch is active."""
        return self._homer is not None and self._homer.marks.active

    def on_axis(self, drive: Drive) -> Drive:
        """Return the drive with the stops of its axis."""
        return drive if self.plan is None else with_stops(drive, self._bench, self.plan)

    def begin(self) -> None:
        """Seek by the chosen method; the present place is taken at once."""
        if self.plan is None or self._homer is None or self.chosen == HERE:
            self.told, self.zero = FOUND, self._sim.believed
            return
        self._homer.seeker = Seeker(self.plan, self._bench.settings.homing.travel)
        self._homer.start()
        self.told, self._left = SEEKS, self._homer.every

    def at_speeds(self, *, fast: float | None = None, slow: float | None = None) -> None:
        """Seek and find at other speeds [rad/s] from the next time on."""
        if self.plan is not None:
            self.plan = replace(self.plan, fast=fast or self.plan.fast, slow=slow or self.plan.slow)

    def end(self) -> None:
        """Break it off, if it runs."""
        if self.runs and self._homer is not None:
            self._homer.seeker.fail()
            self.told = NEVER

    def advance(self, seconds: float) -> Trace:
        """Let time pass, in a homing from look to look; return all periods."""
        if self._homer is None or not self.runs:
            trace = self._sim.advance(seconds, every=1)
            self.follow()
            return trace
        parts, ts = [], self._sim.drive.control.ts
        while seconds > 0.5 * ts:
            span = max(min(self._left, seconds), ts)
            parts.append(self._sim.advance(span, every=1))
            seconds, self._left = seconds - span, self._left - span
            if self._left <= 0.5 * ts:
                self._left = self._homer.every
                self._look(self._homer)
        return join(parts)

    def follow(self) -> None:
        """See where the axis is after the shaft turned for another reason."""
        if self._homer is not None:
            self._homer.marks.at(float(self._sim.state[state.THETA]))

    def _look(self, homer: Homer) -> None:
        if not homer.seeker.runs:
            self.follow()
            return
        homer.look(homer.every)
        if homer.seeker.state == DONE:
            self.told, self.zero = FOUND, homer.seeker.home
        elif homer.seeker.state == FAILED:
            self.told = NOT_FOUND
