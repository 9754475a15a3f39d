"""The position loop and the move of this bench: what is proposed, and what of it is settled."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need, settle
from crisp_compass.course.observed import estimates
from crisp_compass.course.open_loop import closes_loops, full_step, steps_open, watches
from crisp_compass.course.speed_design import armature_tells, plant_of
from crisp_compass.course.values import quantities
from crisp_compass.errors import Refusal
from crisp_compass.loops.position import PositionDesign, design_position
from crisp_compass.motion.profile import Profile, shortest
from crisp_compass.plant.parameters import MOVE, PULSE
from crisp_compass.plant.state import MOST_ROUNDING
from crisp_compass.sensing import SENSORS


def tells_position(bench: Bench) -> bool:
    """Tell whether this bench has a position that loops can hold: a counted sensor on a motor that closes loops on it."""
    sensor = SENSORS[bench.settings.sensor.kind]
    closed = closes_loops(bench) and not steps_open(bench) and not estimates(bench) and not armature_tells(bench)
    return closed and sensor.counted and sensor.key in bench.settings.plate.sensors


def moves(bench: Bench) -> bool:
    """Tell whether this bench's firmware can be asked for a place: its loops know one, or a field that is stepped is believed to be followed."""
    return tells_position(bench) or steps_open(bench)


def holds_position(bench: Bench) -> bool:
    """Tell whether moves are settled, so that the drive can be asked for a place."""
    settled = bench.settled.get("motion")
    # settled for a stepped field it has no gain: with a sensor nothing would hold the place
    return settled is not None and (steps_open(bench) or (tells_position(bench) and "kv" in settled.values))


def moving_mode(bench: Bench) -> int:
    """Return the mode of the firmware that goes to a place."""
    return PULSE if steps_open(bench) else MOVE


def count_of(bench: Bench) -> float:
    """Return the least way [rad] that is commanded: a count of the sensor, an entry of the current table where nothing tells the angle."""
    if steps_open(bench):
        return 2 * math.pi / (4 * need(bench, "plate.pole_pairs") * bench.settings.stepping.microsteps)
    return 2 * math.pi / bench.settings.sensor.counts_per_rev


@dataclass(frozen=True)
class Move:
    """A move: ``distance`` [rad, signed] within ``speed`` [rad/s] and ``accel`` [rad/s²], the speed's profile averaged over ``rounding`` [s], as the firmware makes it."""

    distance: float
    speed: float
    accel: float
    rounding: float

    @property
    def trapezoid(self) -> Profile:
        """The move before it is rounded."""
        return shortest(self.distance, self.speed, self.accel)

    @property
    def duration(self) -> float:
        """Time from rest to rest, s."""
        return self.trapezoid.duration + (self.rounding if self.distance else 0.0)

    @property
    def jerk(self) -> float:
        """The most jerk, rad/s³; infinite where the acceleration is there at once."""
        return self.trapezoid.peak_accel / self.rounding if self.rounding else math.inf


def move_of(bench: Bench) -> Move:
    """Return the move of the page; raises Refusal where a ramp is missing, or the rounding is longer than the firmware keeps."""
    s = bench.settings.motion
    usual = bench.settings.stepping.ramp if steps_open(bench) else bench.settings.speed_loop.ramp
    accel = s.accel if s.accel is not None else usual
    rounding, period = s.rounding or 0.0, speed_period(bench)
    if rounding > MOST_ROUNDING * period:
        raise Refusal(
            f"a rounding over {rounding:.3g} s is {rounding / period:.0f} steps of the speed loop, more than the {MOST_ROUNDING} that the firmware keeps",
            f"at most {MOST_ROUNDING * period:.3g} s, or a lower acceleration", field="motion.rounding",
        )  # fmt: skip
    steps = round(rounding / period)
    return Move(s.distance, s.speed if s.speed is not None else bench.settings.plate.top_speed, accel, steps * period if steps > 1 else 0.0)


def speed_period(bench: Bench) -> float:
    """Return the period of the speed loop [s], in which profile and position loop run too."""
    if steps_open(bench):
        return bench.settings.speed_loop.divider / need(bench, "pwm.loop_hz")
    return 1.0 / need(bench, "speed_loop.loop_hz")


def place_counts(bench: Bench, place: float) -> float:
    """Return a place [rad] on the nearest count, rad."""
    count = count_of(bench)
    return round(place / count) * count


def design_of(bench: Bench) -> PositionDesign:
    """Return the position loop around the settled speed loop; raises Refusal where something is missing."""
    if not tells_position(bench):
        raise Refusal("this bench's sensor tells no position", "choose an encoder on the plate", field="sensor.kind")
    seen = standing(bench, "motion")
    return design_position(plant_of(seen), need(bench, "speed_loop.kp"), need(bench, "speed_loop.ki"), bench.settings.motion.kv)


def position_values(bench: Bench, design: PositionDesign | None) -> dict[str, Quantity]:
    """Return what settling the motion leg settles; 0 is none. Without a position loop (``design`` None) only the profile."""
    move, s = move_of(bench), bench.settings.motion
    found = {"speed": (move.speed, "rad/s"), "accel": (move.accel, "rad/s²"), "rounding": (move.rounding, "s")}
    if design is not None:
        found |= {"kv": (design.kv, "1/s"), "ahead": (s.ahead, ""), "follow_limit": (s.follow_limit or 0.0, "rad")}
    if design is not None or watches(bench):
        found["window"] = (s.window or 0.0, "rad")
    return quantities(found)


def as_designed(bench: Bench) -> Bench:
    """Return the bench with its moves settled as the page has them, for a run; raises Refusal where something is missing."""
    design = None if steps_open(bench) else design_of(bench)
    return settle(bench, "motion", position_values(bench, design), reason="tried", when="")


def watched_with(bench: Bench) -> dict[str, float]:
    """Return what an encoder that watches a stepped field is set with, as the plant takes it."""
    s = bench.settings.stepping
    return {"lost_limit": s.lost_after * full_step(bench), "settle": s.settle, "corrections": float(s.corrections), "slower": s.slower, "lost_holds": float(s.on_lost == "hold")}


def firmware_of(bench: Bench, period: float) -> dict[str, float]:
    """Return what the firmware of the plant runs with; nothing where no position is settled."""
    if not holds_position(bench):
        return {}
    values = {k: q.value for k, q in bench.settled["motion"].values.items()}
    steps = min(max(round(values.get("rounding", 0.0) / period), 1), MOST_ROUNDING)
    found = {} if not watches(bench) else watched_with(bench)
    return found | {
        "kv": values.get("kv", 0.0), "ahead_speed": values.get("ahead", 1.0), "move_speed": values["speed"], "move_accel": values["accel"], "move_steps": float(steps),
        "follow_limit": values.get("follow_limit", 0.0), "window": values.get("window", 0.0),
    }  # fmt: skip
