"""Motion: moves from rest to rest, and the position loop that follows them."""

from __future__ import annotations

import math

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Settled
from crisp_compass.course.open_loop import steps_open, watches
from crisp_compass.course.position import count_of, design_of, move_of, moves, position_values
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.errors import Refusal
from crisp_compass.quantities import grouped, show


def propose(bench: Bench) -> Proposal:
    """Return what settling the motion leg would settle; raises Refusal where something is missing or the loop would not hold."""
    move = move_of(bench)
    if steps_open(bench):
        rate = move.speed / count_of(bench)
        return Proposal(position_values(bench, None), f"a move in {show(move.duration, 's', 3)}", f"{grouped(rate)} steps of the table a second at most", "profile", rests_on=("plate.pole_pairs", "current_loop.bandwidth_hz"))
    design = design_of(bench)
    if not math.isfinite(design.overshoot):
        raise Refusal(f"a position loop with {show(design.kv, '1/s', 3)} is not stable", f"at most {show(design.most, '1/s', 3)}, and less for calm", field="motion.kv")
    reason = f"{design.overshoot:.0f} % overshoot of a position step, {design.margins.phase_margin_deg:.0f}° margin"
    method = "entered gain" if bench.settings.motion.kv is not None else "largest gain without overshoot"
    rests_on = ("speed_loop.kp", "speed_loop.ki", "speed_loop.loop_hz", "speed_loop.filter_hz", "current_loop.bandwidth_hz", "mechanics.inertia")
    return Proposal(position_values(bench, design), f"Kv {show(design.kv, '1/s', 3)}, a move in {show(move.duration, 's', 3)}", reason, method, rests_on=rests_on)


def _headline(settled: Settled) -> str:
    kv = settled.values.get("kv")
    return f"Kv {show(kv.value, '1/s', 3)}" if kv is not None else show(settled.values["accel"].value, "rad/s²", 3)


WAYPOINT = Waypoint(
    "motion",
    110,
    "Motion",
    "How closely does the shaft follow its move?",
    first_step="Choose how a move is made and settle the position loop.",
    settles={
        "speed": ("rad/s", 1e-3, 2.1e5),
        "accel": ("rad/s²", 1e-3, 1e9),
    },
    needs=("plate", "flux", "circuit", "pwm", "current_loop", "speed_loop"),
    applies=moves,
    optional=lambda _: True,
    headline=_headline,
    propose=propose,
    sections=(Section("Move"), Section("Success", steps_open), Section("Watching", watches), Section("Points"), Section("Axis"), Section("Homing"), Section("Ways and pulses")),
)
