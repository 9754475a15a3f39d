"""Vectors of a homing: what its state machine sees look by look, and what it must ask for.

The axis behind them is one of points: it is where it is told, so that a file has some hundred rows, and each way out of the machine is entered: found from outside and from within the switch, nothing found,
a fault, something else asked for; a current that pushes for too short a time, or at a shaft that turns.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from crisp_compass.course.homing import plan_of
from crisp_compass.firmware.plan import Plan
from crisp_compass.motion.homing import STILL
from crisp_compass.motion.homing import Plan as Homing
from crisp_compass.motion.seeking import BACK, SEEK, Look, Seeker, marks_of

HEAD = "begins,place [counts],contact,index,index_place [counts],ramp [rad/s],i_q_ref [A],speed_seen [rad/s],fault,asked,state,speed [rad/s],home [counts]"
#: Looks at most of one homing.
_MOST = 3000
#: Looks in which a way is gone at the fast speed, and a turn at the slow one.
_FAST, _SLOW = 40, 60
#: Most counts that a travel may have: beyond them a counter of 32 bits has turned over, and nothing would end the seeking.
_COUNTED = 2.0e9
#: So that no look lies on an edge or on the end of the travel, where single precision decides.
_UNEVEN = 1.013


@dataclass(frozen=True)
class _Case:
    """A homing, whether there is nothing that it could find, and what ends it at a look: a fault, or something else asked for."""

    plan: Homing
    travel: float
    nothing: bool = False
    ends_at: int = -1
    by: str = ""


def travel_of(plan: Plan) -> float:
    """Return the travel [rad] after which a homing gives up: what is set, and what a counter of 32 bits tells."""
    return min(plan.bench.settings.homing.travel, _COUNTED * plan.count)


def homing_rows(plan: Plan) -> str:
    """Return the file of a plan whose bench seeks its place."""
    home, travel = plan_of(plan.bench), travel_of(plan)
    inside = replace(home, begin=0.1 * home.switch_sign)
    cases = [_Case(home, travel), _Case(home, travel, nothing=True), _Case(home, travel, ends_at=3, by="fault"), _Case(home, travel, ends_at=5, by="else")]
    if not home.stops and home.reference != "index":
        cases.insert(1, _Case(inside, travel))
    closed = plan.bench.settings.homing.contact == "closed"
    return "\n".join([HEAD, *(row for case in cases for row in _played(case, plan.count, closed)), ""])


def _played(case: _Case, count: float, closed: bool) -> Iterator[str]:
    p = case.plan
    seeker, marks = Seeker(p, case.travel), marks_of(p)
    fast, slow = (case.travel / _FAST,) * 2 if case.nothing else (max(min(abs(p.begin), case.travel), 0.5) / _FAST, 2 * math.pi / _SLOW)
    place, ramp, pushing = 0.0, 0.0, _pushes(p)
    for k in range(_MOST):
        passed = marks.at(place)
        index, active = (None, False) if case.nothing else (passed, marks.active and not p.stops)
        current, speed = pushing(place == marks.edge) if p.stops and not case.nothing else (0.0, ramp)
        look = Look(place, active, index, current, speed=speed, rests=ramp == 0.0)
        if k == 0:
            seeker.start(look)
        elif k == case.ends_at:
            seeker.fail()
        else:
            seeker.look(look, p.scan)
        fault, asked = (1 if k == case.ends_at and case.by == "fault" else 0), (0 if k == case.ends_at and case.by == "else" else 1)
        counts = math.floor(place / count)
        yield (
            f"{int(k == 0)},{counts},{int(look.active != closed)},{int(index is not None)},{math.floor((index or 0.0) / count)},{ramp:.7g},{current:.7g},{speed:.7g},{fault},{asked},"
            f"{seeker.state},{seeker.speed:.7g},{math.floor(seeker.home / count)}"
        )
        if not seeker.runs:
            return
        ramp = 0.5 * ramp if abs(ramp) > 1e-3 and seeker.speed == 0.0 and k % 3 else seeker.speed  # it takes a look or two to rest
        step = _UNEVEN * (fast if seeker.state in (SEEK, BACK) else slow)
        place += math.copysign(step, seeker.speed) if seeker.speed else 0.0
        if p.stops and not case.nothing:
            place = min(place, marks.edge) if p.switch_sign > 0 else max(place, marks.edge)


def _pushes(p: Homing) -> Callable[[bool], tuple[float, float]]:
    """Return what tells current [A] and speed [rad/s] of a look: against the stop it pushes a look too short, then while it still turns, then for good."""
    short, seen = max(math.ceil(p.hold / p.scan - 1e-9) - 1, 0), 0

    def at(stop: bool) -> tuple[float, float]:
        nonlocal seen
        seen += stop
        if not stop or seen == short + 1:
            return 0.9 * p.push, 0.0
        return -1.1 * p.push if seen <= short else 1.1 * p.push, (1.2 if short < seen <= 2 * short + 3 else 0.5) * STILL * p.slow

    return at
