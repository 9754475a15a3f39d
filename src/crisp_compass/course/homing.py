"""Homing on this bench: the plan, its method, path and repeatability, what a drive on the profile CiA 402 is set with."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.load_side import way_text
from crisp_compass.course.open_loop import steps_open, watches
from crisp_compass.course.speed_design import torque_constant
from crisp_compass.errors import Refusal
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
    counted = not steps_open(bench) or watches(bench)  # an index is an encoder's
    if s.reference == "index" and not counted:
        raise Refusal("an index is an encoder's, and nothing tells this motor's angle", "a switch", field="homing.reference")
    index = s.ends == "index" and s.reference in ("home-switch", "negative-limit", "positive-limit") and counted
    plan = Plan(
        s.reference, s.active, s.side, index, toward=s.toward, fast=s.fast, slow=s.slow, accel=accel, scan=s.scan, hysteresis=s.hysteresis, scatter=s.scatter, index_at=s.index_at, begin=s.begin,
        push=s.push if s.push is not None else 0.5 * bench.settings.run.i_limit, hold=s.hold,
    )  # fmt: skip
    if plan.stops and steps_open(bench):
        raise Refusal("the current of a stepped field does not tell that it pushes against a stop", "a switch, or an encoder that closes the loops", field="homing.reference")
    return plan


def homing_of(bench: Bench) -> Homing:
    """Return what the page shows; raises Refusal where speeds make no sense."""
    plan = plan_of(bench)
    path, repeats, beyond = follow(plan), repeat(plan), overtravel(plan)
    number = method_of(plan)
    return Homing(plan, number, path, repeats, beyond=beyond, objects=_objects(plan, number), findings=tuple(_findings(bench, plan, repeats, beyond, found=path.found)))


def _objects(plan: Plan, number: int) -> tuple[tuple[str, str, str], ...]:
    if plan.reference == "here":
        return (("6060h", "6", "mode: homing"), ("6098h", "37", "method: the present place"))
    if plan.stops:
        return (
            ("6060h", "6", "mode: homing"), ("6098h", "below 0", "method: the maker's own"), ("6099h:2", f"{grouped(plan.slow * RPM_PER_RAD_S)} rpm", "speed towards the stop"),
            ("", show(plan.push, "A", 3), "current that tells it, peak"), ("", show(plan.hold, "s", 3), "for so long"), ("6040h", "0x0010", "bit 4: starts"), ("6041h", "0x1000", "bit 12: found"), ("6041h", "0x2000", "bit 13: not found"),
        )  # fmt: skip
    return (
        ("6060h", "6", "mode: homing"), ("6098h", str(number), "method"), ("6099h:1", f"{grouped(plan.fast * RPM_PER_RAD_S)} rpm", "speed, sought"),
        ("6099h:2", f"{grouped(plan.slow * RPM_PER_RAD_S)} rpm", "speed, found"), ("609Ah", show(plan.accel, "rad/s²", 3), "acceleration"), ("6040h", "0x0010", "bit 4: starts"),
        ("6041h", "0x1000", "bit 12: found"), ("6041h", "0x2000", "bit 13: not found"),
    )  # fmt: skip


def _findings(bench: Bench, plan: Plan, repeats: Repeats, beyond: float, found: float) -> list[Finding]:
    said, room = [], bench.settings.homing.room
    if plan.reference == "here":
        return [Finding("info", "here", "The place where it is switched on is taken for zero: nothing moves, and nothing is known of what moved meanwhile.")]
    if plan.stops:
        return [*_stop_findings(bench, plan), _CAUTION]
    switched = plan.reference != "index"
    if switched and room is not None and beyond > room:
        said.append(Finding("stop", "runs-into-the-stop", f"While it is sought it runs {way_words(bench, beyond)} beyond the switch, and {way_words(bench, room)} are there: slower, more deceleration, or a switch further off."))
    soft = bench.settings.motion.high if plan.switch_sign > 0 else bench.settings.motion.low
    if switched and room is not None and soft is not None:
        end = plan.switch_sign * room - found  # of the travel, from the place that is 0
        if (soft - end) * plan.switch_sign > 0:
            said.append(Finding("stop", "soft-beyond-hard", f"The limit of {way_words(bench, soft)} for points lies beyond the stop, {way_words(bench, end)} from the place found: soft limits belong inside the hard ones."))
    if switched and bench.settings.homing.contact == "open":
        said.append(Finding("caution", "open-contact", "A contact that is open at rest looks the same with a broken wire: the axis runs on over it. One that is closed at rest stops there."))
    if plan.index and not NEAR_INDEX <= plan.index_at <= 1 - NEAR_INDEX:
        text = f"The index lies {100 * plan.index_at:.0f} % of a turn beyond the edge: a switch that moves a little finds the one before or after, a whole turn off. Turn switch or coupling until it is 25 to 75 %."
        said.append(Finding("caution", "index-near-edge", text))
    if repeats.turned:
        said.append(Finding("stop", "a-turn-off", f"{repeats.turned} of {len(repeats.found)} simulated homings land a whole turn off."))
    if switched and not plan.index and plan.slow > 0.5 * plan.fast:
        said.append(Finding("info", "slow-is-fast", "The place is found at nearly the speed at which it is sought: slower repeats better."))
    said.append(_CAUTION)
    return said


def _stop_findings(bench: Bench, plan: Plan) -> list[Finding]:
    """Return what speaks against finding a hard stop so."""
    said = [Finding("caution", "pushes-the-stop", "It runs into a stop and pushes: slowly, with little current, only where the mechanism is built for it; nothing soft or alive may be in between.")]
    limit, kt, friction = bench.settings.run.i_limit, torque_constant(bench), settled_value(bench, "mechanics.coulomb_friction")
    if plan.push >= limit:
        said.append(Finding("stop", "push-above-limit", f"The {show(plan.push, 'A', 3)} that tell the stop are not below the current limit of {show(limit, 'A', 3)}: it is never told, and the drive trips on a stall."))
    takes = (abs(bench.settings.run.load) + (friction.value if friction else 0.0)) / kt
    if plan.push < 1.5 * takes:
        said.append(Finding("caution", "push-is-friction", f"Load and friction alone take {show(takes, 'A', 3)}, which is near the {show(plan.push, 'A', 3)} that tell the stop: a stiff place is taken for it."))
    energy = 0.5 * bench.settings.run.flywheel * plan.slow**2
    inertia = settled_value(bench, "mechanics.inertia")
    energy += 0.5 * (inertia.value if inertia else 0.0) * plan.slow**2
    said.append(Finding("info", "stop-takes", f"The stop takes {show(energy, 'J', 2)} at {grouped(plan.slow * RPM_PER_RAD_S)} rpm, and {show(plan.push * kt, 'N·m', 2)} at the shaft from then on."))
    return said


def way_words(bench: Bench, angle: float) -> str:
    """Return a way at the load where that is known, else of the shaft."""
    return way_text(bench, angle) or (show(angle, "deg", 3) if abs(angle) < 2 * math.pi else f"{angle / (2 * math.pi):.3g} turns")
