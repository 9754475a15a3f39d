"""The state machine of a homing, look by look: what the firmware's does, fed with what it sees of switch, index, current and speed."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.motion.homing import STILL, Plan

#: What it is at; the firmware's own numbers. 0 is none.
IDLE, SEEK, BACK, FIND, INDEX, STOP, DONE, FAILED = range(8)


@dataclass(frozen=True)
class Look:
    """What one look sees: ``place`` [rad], whether the switch is ``active``, an ``index`` that has passed since the last look [rad], torque ``current`` [A], ``speed`` [rad/s], and whether the ramp ``rests`` at 0."""

    place: float
    active: bool = False
    index: float | None = None
    current: float = 0.0
    speed: float = 0.0
    rests: bool = False


class Seeker:
    """What looks at the switch and asks for a ``speed`` [rad/s]; ``home`` [rad] is the place found, once it is; it gives up after ``travel`` [rad]."""

    def __init__(self, plan: Plan, travel: float) -> None:
        self.plan, self.travel = plan, travel
        self.state, self.speed, self.home, self.held = IDLE, 0.0, 0.0, 0.0
        self._begin = 0.0

    @property
    def runs(self) -> bool:
        """Whether it is under way."""
        return self.state not in (IDLE, DONE, FAILED)

    def _go(self, state: int, speed: float) -> None:
        self.state, self.speed = state, speed

    def _inside(self) -> None:
        p = self.plan
        self._go(FIND, -p.switch_sign * p.slow) if p.leaves else self._go(BACK, -p.switch_sign * p.fast)

    def start(self, look: Look) -> None:
        """Begin where it is."""
        p, self._begin, self.held = self.plan, look.place, 0.0
        self.home = look.place
        if p.reference == "here":
            self._go(DONE, 0.0)
        elif p.reference == "index":
            self._go(INDEX, p.approach * p.slow)
        elif p.stops:
            self._go(FIND, p.approach * p.slow)
        elif look.active:
            self._inside()
        else:
            self._go(SEEK, p.switch_sign * p.fast)

    def fail(self) -> None:
        """End without a place: a fault, or somebody else asks for something."""
        self._go(FAILED, 0.0)

    def look(self, look: Look, seconds: float) -> None:
        """Look once, ``seconds`` after the last time."""
        p = self.plan
        if not self.runs:
            return
        if abs(look.place - self._begin) > self.travel:
            self.fail()
        elif self.state == SEEK and look.active:
            self._inside()
        elif self.state == BACK and not look.active:
            self._go(FIND, p.switch_sign * p.slow)
        elif self.state == FIND and p.stops:
            self.held = self.held + seconds if abs(look.current) > p.push and abs(look.speed) < STILL * p.slow else 0.0
            if self.held >= p.hold - 1e-9:  # looks add up to the time, not to a part of a scan less
                self.home = look.place
                self._go(STOP, 0.0)
        elif self.state == FIND and look.active != p.leaves:
            self.home = look.place
            self._go(INDEX if p.index else STOP, self.speed if p.index else 0.0)
        elif self.state == INDEX and look.index is not None:
            self.home = look.index
            self._go(STOP, 0.0)
        elif self.state == STOP and look.rests:
            self.state = DONE


@dataclass
class Marks:
    """Switch and index of an axis: ``edge`` [rad] and the sign of its active side, ``hysteresis`` [rad], one ``index`` of them a turn apart [rad]; ``active`` and the last place [rad] as they were seen."""

    edge: float
    sign: float
    hysteresis: float
    index: float
    active: bool
    was: float

    def at(self, place: float) -> float | None:
        """Move on to a place [rad]; return an index that was passed [rad], else None. A switch comes on half its hysteresis further in, and goes off half of it further out."""
        self.active = (place - self.edge) * self.sign > (-0.5 if self.active else 0.5) * self.hysteresis
        turn = 2 * math.pi
        before, now = (self.was - self.index) / turn, (place - self.index) / turn
        passed = math.floor(now) if now > before and math.floor(now) > before else math.ceil(now) if now < before and math.ceil(now) < before else None
        self.was = place
        return None if passed is None else self.index + passed * turn


def marks_of(plan: Plan, place: float = 0.0) -> Marks:
    """Return the marks of the axis of a plan whose homing begins at a ``place`` [rad]."""
    edge = place - plan.begin
    return Marks(edge, plan.switch_sign, plan.hysteresis, edge + plan.approach * plan.index_at * 2 * math.pi, active=(place - edge) * plan.switch_sign > 0, was=place)
