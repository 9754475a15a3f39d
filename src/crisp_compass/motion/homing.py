"""Finding a place again: the method's published number, the path, how well it repeats, and the travel that it takes.

Numbers of homing methods are those of IEC 61800-7-201 (profile CiA 402), object 6098h: 1 and 2 limit switch and index, 3 to 6 home switch and index, 17 to 22 the same without index, 33 and 34 index alone,
37 the present place. A hard stop has no published number: below zero they are the maker's own. Methods of a switch with two edges (7 to 14, 23 to 30) are not made here.

A switch that is looked at every T is seen up to v·T late: the place spreads evenly over v·T, behind the edge by the hysteresis. An index is latched; it repeats as long as the edge, with all its spread, stays within one
turn between two of them: best in the middle, at least a quarter of a turn from either (common practice).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

_SWITCHED = {("negative-limit", "", ""): 17, ("positive-limit", "", ""): 18, ("home-switch", "positive", "leaving"): 19, ("home-switch", "positive", "entering"): 20,
             ("home-switch", "negative", "leaving"): 21, ("home-switch", "negative", "entering"): 22}  # fmt: skip
#: Share of the slow speed below which a shaft stands against its stop.
STILL = 0.5
#: Nearest that an index may lie to the edge, part of a turn.
NEAR_INDEX = 0.25


@dataclass(frozen=True)
class Plan:
    """``reference`` as in the settings, active side and whether the edge is found leaving or entering (of a home switch), with ``index`` at ``index_at`` of a turn beyond the edge; ``fast`` and ``slow`` [rad/s], ``accel`` [rad/s²], ``scan`` [s], ``hysteresis`` and ``scatter`` [rad], ``begin`` [rad from the edge]. A hard stop is told by a current above ``push`` [A] for ``hold`` [s]."""

    reference: str
    active: str
    side: str
    index: bool
    toward: str
    fast: float
    slow: float
    accel: float
    scan: float
    hysteresis: float
    scatter: float
    index_at: float
    begin: float
    push: float = 0.0
    hold: float = 0.0

    @property
    def stops(self) -> bool:
        """Whether a hard stop tells the place, by the current that pushes against it."""
        return self.reference in ("negative-stop", "positive-stop")

    @property
    def switch_sign(self) -> float:
        """+1 where the switch is active beyond its edge in the positive way, or the stop lies there."""
        return {"negative-limit": -1.0, "positive-limit": 1.0, "negative-stop": -1.0, "positive-stop": 1.0}.get(self.reference, 1.0 if self.active == "positive" else -1.0)

    @property
    def leaves(self) -> bool:
        """Whether the place is found as the switch is left: limit switches always are."""
        return self.reference != "home-switch" or self.side == "leaving"

    @property
    def approach(self) -> float:
        """Way (±1) in which the place is found at the slow speed."""
        if self.reference == "index":
            return 1.0 if self.toward == "positive" else -1.0
        if self.stops:
            return self.switch_sign
        return -self.switch_sign if self.leaves else self.switch_sign


def method_of(plan: Plan) -> int:
    """Return the number of the method (object 6098h)."""
    if plan.reference == "here":
        return 37
    if plan.reference == "index":
        return 34 if plan.toward == "positive" else 33
    if plan.stops:
        return -1 if plan.switch_sign < 0 else -2
    key = (plan.reference, "", "") if plan.reference != "home-switch" else (plan.reference, plan.active, plan.side)
    return _SWITCHED[key] - (16 if plan.index else 0)


@dataclass(frozen=True)
class Path:
    """``time`` (n,) s and ``place`` (n,) rad from the edge; ``found`` [rad] where the place is, ``seconds``, and the most travel to the negative and the positive of the edge [rad]."""

    time: FloatArray
    place: FloatArray
    found: float
    seconds: float
    least: float
    most: float


def _to_edge(x: float, speed: float, way: float, edge: float, plan: Plan, phase: float) -> tuple[float, float, float]:
    """Return where a shaft that goes ``way`` (±1) at ``speed`` is seen beyond an ``edge``, where it has stopped then, and the time [s]; ``phase`` in 0 to 1 of a scan."""
    left = max((edge - x) * way, 0.0)
    seen = edge + way * speed * plan.scan * phase if left > 0 else x
    run = abs(seen - x)
    stops = seen + way * speed * speed / (2 * plan.accel)
    return seen, stops, run / speed + speed / plan.accel


def follow(plan: Plan, phases: tuple[float, float, float] = (0.5, 0.5, 0.5), scatter: float = 0.0) -> Path:
    """Return the path of one homing: scan phases (0 to 1) of its looks at the switch, and by how much [rad] the switch is off this time.

    Raises Refusal for speeds that make no sense.
    """
    if plan.slow > plan.fast and not plan.stops and plan.reference != "index":
        raise Refusal(f"the place is found at {plan.slow:.3g} rad/s, faster than the {plan.fast:.3g} at which the switch is sought", "a slower one", field="homing.slow")
    t, x = [0.0], [plan.begin]

    def go(place: float, seconds: float) -> None:
        x.append(place)
        t.append(t[-1] + max(seconds, 0.0))

    if plan.reference == "here":
        return Path(np.array(t), np.array(x), plan.begin, 0.0, least=min(plan.begin, 0.0), most=max(plan.begin, 0.0))
    turn = 2 * math.pi
    if plan.stops:
        if plan.begin * plan.switch_sign > 0:
            raise Refusal("the homing begins behind its stop", "a place on the other side of it", field="homing.begin")
        go(scatter, abs(scatter - plan.begin) / plan.slow)
        go(scatter, plan.hold)
        return _path(t, x, scatter)
    if plan.reference == "index":
        at = (plan.index_at - 1.0) * turn
        d = plan.approach
        k = math.ceil((plan.begin - at) * d / turn + 1e-12)
        found = at + d * k * turn
        go(found, abs(found - plan.begin) / plan.slow)
        go(found + d * plan.slow**2 / (2 * plan.accel), plan.slow / plan.accel)
        return _path(t, x, found)
    s = plan.switch_sign
    on, off = scatter + 0.5 * s * plan.hysteresis, scatter - 0.5 * s * plan.hysteresis  # it comes on further in, and goes off further out
    here = plan.begin
    active = (here - scatter) * s > 0
    if not active:
        _, here, took = _to_edge(here, plan.fast, s, on, plan=plan, phase=phases[0])
        go(here, took)
    if plan.leaves:
        seen, stops, took = _to_edge(here, plan.slow, -s, off, plan=plan, phase=phases[1])
    else:
        _, here, took = _to_edge(here, plan.fast, -s, off, plan=plan, phase=phases[1])
        go(here, took)
        seen, stops, took = _to_edge(here, plan.slow, s, on, plan=plan, phase=phases[2])
    d = plan.approach
    if not plan.index:
        go(stops, took)
        return _path(t, x, seen)
    # indices lie a turn apart, one of them index_at of a turn beyond the edge where it is without any spread
    first = d * plan.index_at * turn
    k = math.ceil((seen - first) * d / turn - 1e-12)
    found = first + d * k * turn
    go(seen, took - plan.slow / plan.accel)
    go(found, abs(found - seen) / plan.slow)
    go(found + d * plan.slow**2 / (2 * plan.accel), plan.slow / plan.accel)
    return _path(t, x, found)


def _path(t: list[float], x: list[float], found: float) -> Path:
    return Path(np.array(t), np.array(x), found, t[-1], least=min(*x, 0.0), most=max(*x, 0.0))


@dataclass(frozen=True)
class Repeats:
    """Places of many homings: ``found`` (n,) rad, their ``spread`` (largest less least) and standard deviation [rad], and how many landed a turn off."""

    found: FloatArray
    spread: float
    deviation: float
    turned: int


def repeat(plan: Plan, times: int = 1000, seed: int = 1) -> Repeats:
    """Find the place many times: scan phases even over a scan, the switch off by its scatter (normal)."""
    rng = np.random.default_rng(seed)
    phases, off = rng.random((times, 3)), plan.scatter * rng.standard_normal(times)
    found = np.array([follow(plan, (float(a), float(b), float(c)), float(o)).found for (a, b, c), o in zip(phases, off, strict=True)])
    turned = int(np.sum(np.abs(found - np.median(found)) > math.pi)) if plan.index else 0
    return Repeats(found, float(np.ptp(found)), float(np.std(found)), turned)


def overtravel(plan: Plan) -> float:
    """Return how far the shaft runs beyond the switch's edge while it is sought [rad]: v·T until it is seen, v²/2a to stop, and the hysteresis."""
    if plan.stops:
        return 0.0
    return plan.fast * plan.scan + plan.fast**2 / (2 * plan.accel) + plan.hysteresis + 3 * plan.scatter
