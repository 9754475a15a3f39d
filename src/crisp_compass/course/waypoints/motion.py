"""Motion: moves from rest to rest, and the position loop that follows them."""

from __future__ import annotations

import math

from crisp_compass.bench.models import Bench
from crisp_compass.course.position import design_of, move_of, position_values, tells_position
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.errors import Refusal
from crisp_compass.quantities import show


def propose(bench: Bench) -> Proposal:
    """Return what settling the motion leg would settle; raises Refusal where something is missing or the loop would not hold."""
    design, move = design_of(bench), move_of(bench)
    if not math.isfinite(design.overshoot):
        raise Refusal(f"a position loop with {show(design.kv, '1/s', 3)} is not stable", f"at most {show(design.most, '1/s', 3)}, and less for calm", field="motion.kv")
    reason = f"{design.overshoot:.0f} % overshoot of a position step, {design.margins.phase_margin_deg:.0f}° margin"
    method = "entered gain" if bench.settings.motion.kv is not None else "largest gain without overshoot"
    rests_on = ("speed_loop.kp", "speed_loop.ki", "speed_loop.loop_hz", "speed_loop.filter_hz", "current_loop.bandwidth_hz", "mechanics.inertia")
    return Proposal(position_values(bench, design), f"Kv {show(design.kv, '1/s', 3)}, a move in {show(move.duration, 's', 3)}", reason, method, rests_on)


WAYPOINT = Waypoint(
    "motion",
    110,
    "Motion",
    "How closely does the shaft follow its move?",
    "Choose how a move is made and settle the position loop.",
    settles={
        "kv": ("1/s", 1e-3, 1e5),
        "speed": ("rad/s", 1e-3, 2.1e5),
        "accel": ("rad/s²", 1e-3, 1e9),
    },
    needs=("plate", "flux", "circuit", "pwm", "current_loop", "speed_loop"),
    applies=tells_position,
    optional=lambda _: True,
    headline=lambda settled: f"Kv {show(settled.values['kv'].value, '1/s', 3)}",
    propose=propose,
    sections=(Section("Move"),),
)
