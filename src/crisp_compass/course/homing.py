"""Homing on this bench: the plan, its method, path and repeatability, what a drive on the profile CiA 402 is set with."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.load_side import way_text
from crisp_compass.course.open_loop import steps_open
from crisp_compass.estimates import Finding
from crisp_compass.motion.homing import NEAR_INDEX, Path, Plan, Repeats, follow, method_of, overtravel, repeat
from crisp_compass.quantities import grouped, show

_CAUTION = Finding(
    "caution", "homing-moves",
    "Homing moves by itself until it finds its switch, and nobody knows yet where it stands: hands out of every pinch point, travel free, a vertical axis held by its brake before, an emergency stop within reach.",
)  # fmt: skip


@dataclass(frozen=True)
class Homing:
    """``number`` of the method, one ``path``, a thousand ``repeats``, the travel behind the edge [rad], what is set as (object, value, what it is), and findings."""

    plan: Plan
    number: int
    path: Path
    repeats: Repeats
    beyond: float
    objects: tuple[tuple[str, str, str], ...]
    findings: tuple[Finding, ...]


def plan_of(bench: Bench) -> Plan:
    """Return how the place is sought; it stops along the ramp of the speeds."""
    s = bench.settings.homing
    accel = bench.settings.stepping.ramp if steps_open(bench) else bench.settings.speed_loop.ramp  # it runs at speeds, along their ramp
    return Plan(s.reference, s.active, s.side, s.ends == "index" and s.reference not in ("index", "here"), s.toward, s.fast, s.slow, accel, s.scan, s.hysteresis, s.scatter, s.index_at, s.begin)


def homing_of(bench: Bench) -> Homing:
    """Return what the page shows; raises Refusal where speeds make no sense."""
    plan = plan_of(bench)
    path, repeats, beyond = follow(plan), repeat(plan), overtravel(plan)
    number = method_of(plan)
    return Homing(plan, number, path, repeats, beyond, _objects(plan, number), tuple(_findings(bench, plan, repeats, beyond)))


def _objects(plan: Plan, number: int) -> tuple[tuple[str, str, str], ...]:
    if plan.reference == "here":
        return (("6060h", "6", "mode: homing"), ("6098h", "37", "method: the present place"))
    return (
        ("6060h", "6", "mode: homing"), ("6098h", str(number), "method"), ("6099h:1", f"{grouped(plan.fast * RPM_PER_RAD_S)} rpm", "speed, sought"),
        ("6099h:2", f"{grouped(plan.slow * RPM_PER_RAD_S)} rpm", "speed, found"), ("609Ah", show(plan.accel, "rad/s²", 3), "acceleration"), ("6040h", "0x0010", "bit 4: starts"),
        ("6041h", "0x1000", "bit 12: found"), ("6041h", "0x2000", "bit 13: not found"),
    )  # fmt: skip


def _findings(bench: Bench, plan: Plan, repeats: Repeats, beyond: float) -> list[Finding]:
    said, room = [], bench.settings.homing.room
    if plan.reference == "here":
        return [Finding("info", "here", "The place where it is switched on is taken for zero: nothing moves, and nothing is known of what moved meanwhile.")]
    switched = plan.reference != "index"
    if switched and room is not None and beyond > room:
        said.append(Finding("stop", "runs-into-the-stop", f"While it is sought it runs {way_words(bench, beyond)} beyond the switch, and {way_words(bench, room)} are there: slower, more deceleration, or a switch further off."))
    if plan.index and not NEAR_INDEX <= plan.index_at <= 1 - NEAR_INDEX:
        text = f"The index lies {100 * plan.index_at:.0f} % of a turn beyond the edge: a switch that moves a little finds the one before or after, a whole turn off. Turn switch or coupling until it is 25 to 75 %."
        said.append(Finding("caution", "index-near-edge", text))
    if repeats.turned:
        said.append(Finding("stop", "a-turn-off", f"{repeats.turned} of {len(repeats.found)} simulated homings land a whole turn off."))
    if switched and not plan.index and plan.slow > 0.5 * plan.fast:
        said.append(Finding("info", "slow-is-fast", "The place is found at nearly the speed at which it is sought: slower repeats better."))
    said.append(_CAUTION)
    return said


def way_words(bench: Bench, angle: float) -> str:
    """Return a way at the load where that is known, else of the shaft."""
    return way_text(bench, angle) or (show(angle, "deg", 3) if abs(angle) < 2 * math.pi else f"{angle / (2 * math.pi):.3g} turns")
