"""How hot this bench's motor gets under a duty, how long it may take a current, and whether the firmware's overload trip knows that."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from crisp_compass.bench.entered import enter, standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import settled_value
from crisp_compass.course.block import in_blocks
from crisp_compass.course.known import best_value
from crisp_compass.errors import Refusal
from crisp_compass.motor import family_of
from crisp_compass.plant.warming import Warming
from crisp_compass.thermal.classes import COOLANT, own_cooling, winding_limit
from crisp_compass.thermal.guard import Around, overload_for, worst_at_trip
from crisp_compass.thermal.model import (
    Bodies,
    Course,
    Stretch,
    continuous_current,
    follow,
    hottest,
    one_body,
    settled_cycle,
    shortest_period,
    steady,
    time_to,
)

#: Coldest winding that a resistance is taken for, °C: copper's rule ends at −235.
_COLDEST = -100.0
#: What of the continuous current a proposed overload trip lets flow for ever: the rest is what the overload heats.
_LEFT = 0.9


@dataclass(frozen=True)
class Known:
    """The motor's ``bodies``; ``timed`` where time constants are known, ``two`` where winding and housing are told apart; ``origin`` of the thermal resistance in words."""

    bodies: Bodies
    timed: bool
    two: bool
    origin: str


def limit_of(bench: Bench) -> float | None:
    """Return what the winding may have [°C, mean]: the lower of what is entered and the class's; None where neither is."""
    s = bench.settings.heat
    found = [v for v in (s.limit, winding_limit(s.insulation)) if v is not None]
    return min(found) if found else None


def _copper(bench: Bench) -> tuple[float, float, float] | None:
    """Return factor, resistance [Ω] and its temperature [°C]: factor·R·I² is lost in copper; None where no resistance is known."""
    r = best_value(bench, "resistance")
    if r is None or r <= 0:
        return None
    at = settled_value(bench, "resistance.temperature")
    noted = bench.settings.resistance.temperature if "resistance" in bench.settled else None
    reference = at.value if at is not None else noted if noted is not None else 20.0
    return 2.0 if in_blocks(bench) else bench.settings.plate.torque_factor, r, max(reference, _COLDEST)


def rotor_loss(bench: Bench, current: float) -> float:
    """Return what the torque current makes in a rotor's cage [W], at a current vector [A peak]; none in other motors."""
    if not family_of(bench).own_circuit:
        return 0.0
    try:
        machine = family_of(bench).machine(bench, None)
        flux = family_of(bench).believed(bench).get("i_flux", 0.0)
    except Refusal:
        return 0.0
    return 1.5 * float(getattr(machine, "rr", 0.0)) * max(current**2 - flux**2, 0.0)


def friction_loss(bench: Bench, speed: float) -> float:
    """Return what iron and bearings take [W] at a speed [rad/s]: the friction of the motor as measured or stated."""
    found = [settled_value(bench, f"mechanics.{k}") for k in ("viscous_friction", "coulomb_friction")]
    plate = bench.settings.plate
    viscous, coulomb = (q.value if q is not None else stated for q, stated in zip(found, (plate.viscous, plate.coulomb), strict=True))
    return max(viscous * abs(speed) + coulomb, 0.0) * abs(speed)


def _rated_speed(bench: Bench) -> float:
    return bench.settings.plate.rated_speed or bench.settings.plate.top_speed


def air_factor(bench: Bench, speed: float) -> float:
    """Return by what the housing's thermal resistance grows at a speed [rad/s], with a fan on the shaft."""
    s = bench.settings.heat
    return own_cooling(abs(speed) / _rated_speed(bench), s.standstill) if s.cooling == "own" else 1.0


def bodies_of(bench: Bench) -> Known | None:
    """Return the motor's thermal constants: as entered, else from the rated point; None where neither is known.

    The rated point: at the plate's current and speed, for ever, in air of 40 °C, the winding has what its class allows (IEC 60034-1, S1).
    """
    s, copper = bench.settings.heat, _copper(bench)
    if copper is None:
        return None
    factor, r, reference = copper
    if s.to_housing is not None and s.to_air is not None:
        timed = s.winding_time is not None and s.housing_time is not None
        return Known(Bodies(s.to_housing, s.to_air, s.winding_time or 1.0, s.housing_time or 1.0, factor=factor, r=r, reference=reference), timed, True, "as entered")
    if s.to_air is not None:
        return Known(one_body(s.to_air, s.housing_time or 1.0, factor, r, reference=reference), s.housing_time is not None, False, "as entered, winding to air")
    limit = winding_limit(s.insulation)
    if limit is None:
        return None
    amps, speed = rated_peak(bench.settings.plate), _rated_speed(bench)
    bodies = one_body(1.0, s.housing_time or 1.0, factor, r, reference=reference)
    watt = bodies.copper(amps, limit) + friction_loss(bench, speed) + rotor_loss(bench, amps)
    found = one_body((limit - COOLANT) / watt, s.housing_time or 1.0, factor, r, reference=reference)
    return Known(found, s.housing_time is not None, False, "by the rated point")


def load_current(bench: Bench) -> float:
    """Return the current under load, A peak."""
    return bench.settings.heat.current or rated_peak(bench.settings.plate)


def load_speed(bench: Bench) -> float:
    """Return the speed under load, rad/s."""
    s = bench.settings
    return abs(s.run.speed) if s.heat.speed is None else s.heat.speed


def around(bench: Bench, speed: float, current: float = 0.0) -> Around:
    """Return what is around the motor at a speed [rad/s] and a current [A peak]."""
    return Around(bench.settings.heat.ambient, friction_loss(bench, speed) + rotor_loss(bench, current), air_factor(bench, speed))


def warming_of(bench: Bench) -> Warming | None:
    """Return what makes the simulated motor warm; None where its time constants are not known."""
    bench = standing(bench)
    known, s = bodies_of(bench), bench.settings
    if known is None or not known.timed:
        return None

    def losses(speed: float, current: float) -> tuple[float, float]:
        there = around(bench, speed, current)
        return there.housing_loss, there.air_factor

    factor = s.plate.torque_factor  # of the current vector, which is longer than the one current of two phases in six steps
    return Warming(known.bodies._replace(factor=factor), s.heat.ambient, losses, s.run.temp_trip)


@dataclass(frozen=True)
class Guard:
    """The firmware's overload trip: ``worst`` winding [°C] that it lets happen and the current [A] that does it; what is proposed instead: continuous current [A] and time [s] at the limit, None where none is needed or possible."""

    worst: float
    by: float
    continuous: float | None
    seconds: float | None


@dataclass(frozen=True)
class Outlook:
    """What a duty does: ``winding`` and ``housing`` [°C] at their hottest, infinite where it heats up without end; the ``course`` where time constants are known.

    ``continuous`` [A peak] at this speed and ``at_rest`` at standstill; ``cold`` and ``warm`` [s] that the load current may flow, from the air's temperature and from ``warm_start`` (winding, housing) after nine tenths of the continuous current; ``period`` [s], the shortest from one load to the next, NaN where not asked.
    """

    known: Known
    limit: float | None
    current: float
    speed: float
    losses: tuple[float, float]
    winding: float
    housing: float
    course: Course | None
    continuous: float
    at_rest: float
    cold: float
    warm: float
    warm_start: tuple[float, float]
    period: float
    guard: Guard | None


def heat_outlook(bench: Bench) -> Outlook:
    """Work out a duty; raises Refusal naming what is missing or cannot be."""
    bench = standing(bench)
    s, known = bench.settings.heat, bodies_of(bench)
    if known is None:
        if _copper(bench) is None:
            raise Refusal("the resistance is missing", "measure it on the resistance leg, or write the data sheet's on the plate")
        raise Refusal(
            "nothing tells how the motor sheds its heat",
            "choose the insulation's class, then the rated current tells it; enter the data sheet's thermal resistances; or warm the motor with a known current and load the capture", field="heat.insulation",
        )  # fmt: skip
    if s.duty != "S1" and not known.timed:
        raise Refusal("a duty that ends needs the thermal time constants", "enter the data sheet's, or load a capture of a motor that is warmed", field="heat.housing_time")
    if s.duty == "S3" and s.on_time > s.period:
        raise Refusal(f"a load of {s.on_time:g} s does not fit into a period of {s.period:g} s", "a longer period, or a shorter load", field="heat.period")
    b, current, speed = known.bodies, load_current(bench), load_speed(bench)
    there = around(bench, speed, current)
    loaded = Stretch(s.on_time, current, there.housing_loss, there.air_factor)
    still = Stretch(0.0, s.rest_current, 0.0, air_factor(bench, 0.0))
    winding, housing, course = _duty(bench, known, loaded, still)
    limit = limit_of(bench)
    continuous, at_rest = (continuous_current(b, limit, s.ambient, housing_loss=a.housing_loss, air_factor=a.air_factor) if limit is not None else math.nan for a in (there, around(bench, 0.0, current)))
    cold = warm = period = math.nan
    warm_start = (s.ambient, s.ambient)
    if limit is not None and known.timed:
        warm_start = _warm(b, there, _LEFT * continuous)
        cold, warm = (time_to(b, limit, current, s.ambient, start=at, housing_loss=there.housing_loss, air_factor=there.air_factor) for at in ((s.ambient, s.ambient), warm_start))
        if s.duty == "S3":
            period = shortest_period(b, limit, [loaded], still, ambient=s.ambient)
    return Outlook(known, limit, current, speed, losses=(b.copper(current, winding) if math.isfinite(winding) else math.inf, there.housing_loss), winding=winding, housing=housing, course=course, continuous=continuous, at_rest=at_rest, cold=cold, warm=warm, warm_start=warm_start, period=period, guard=_guard(bench, known, limit))


def _warm(b: Bodies, there: Around, current: float) -> tuple[float, float]:
    return steady(b, current, there.ambient, housing_loss=there.housing_loss, air_factor=there.air_factor)


def _duty(bench: Bench, known: Known, loaded: Stretch, still: Stretch) -> tuple[float, float, Course | None]:
    """Return the hottest winding and housing [°C] of the duty, and its course."""
    s, b = bench.settings.heat, known.bodies
    cold = (s.ambient, s.ambient)
    if s.duty == "S1":
        winding, housing = steady(b, loaded.current, s.ambient, housing_loss=loaded.housing_loss, air_factor=loaded.air_factor)
        return winding, housing, follow(b, [loaded._replace(seconds=5 * b.housing_time)], s.ambient, cold, points=400) if known.timed else None
    if s.duty == "S2":
        course = follow(b, [loaded, still._replace(seconds=2 * s.on_time)], s.ambient, cold, points=200)
        return float(course.winding.max()), float(course.housing.max()), course
    cycle = [loaded, still._replace(seconds=s.period - s.on_time)]
    start = settled_cycle(b, cycle, s.ambient)
    if start is None:
        return math.inf, math.inf, follow(b, cycle * 3, s.ambient, cold)
    course = follow(b, cycle * 2, s.ambient, start)
    return max(hottest(b, cycle, s.ambient), float(course.winding.max())), float(course.housing.max()), course


def _guard(bench: Bench, known: Known, limit: float | None) -> Guard | None:
    """Judge the overload trip of Run against the motor, at standstill and at the speed of the load, and propose one."""
    if limit is None or not known.timed:
        return None
    run, b = bench.settings.run, known.bodies
    places = [around(bench, 0.0, run.i_limit), around(bench, load_speed(bench), run.i_limit)]
    if run.i_continuous is not None and run.i_continuous < run.i_limit:
        i2t = (run.i_limit**2 - run.i_continuous**2) * run.overload_time
        worst = max(worst_at_trip(b, p, run.i_continuous, i2t, most=run.i_limit) for p in places)
    else:
        worst = max((_warm(b, p, run.i_limit)[0], run.i_limit) for p in places)
    forever = min(continuous_current(b, limit, p.ambient, housing_loss=p.housing_loss, air_factor=p.air_factor) for p in places)
    lets = float(f"{_LEFT * forever:.3g}")
    if lets >= run.i_limit or lets <= 0:
        return Guard(*worst, None, None)
    times = [overload_for(b, p, limit, lets, most=run.i_limit) for p in places]
    found = [t for t in times if t is not None]
    seconds = min(found) if len(found) == len(times) else None
    return Guard(*worst, lets, math.floor(1e3 * seconds) / 1e3 if seconds is not None and seconds >= 0.01 else None)


def with_guard(bench: Bench, guard: Guard) -> Bench:
    """Return the bench with the proposed overload trip; raises Refusal where there is none."""
    if guard.continuous is None or guard.seconds is None:
        raise Refusal("no overload trip is needed or possible here", "see what is said of the firmware")
    return enter(bench, "run", {"i_continuous": guard.continuous, "overload_time": min(float(f"{guard.seconds:.3g}"), 3600.0)})


def taken(bench: Bench, evidence: Evidence) -> Bench:
    """Return the bench with the thermal constants of a capture."""
    told = {k: float(f"{q.value:.4g}") for k, q in evidence.estimates.items()}
    if "to_housing" in told:
        return enter(bench, "heat", {k: told[k] for k in ("to_housing", "to_air", "winding_time", "housing_time")})
    return enter(bench, "heat", {"to_housing": None, "to_air": told["whole"], "winding_time": None, "housing_time": told["time"]})


def rated_point(bench: Bench) -> float | None:
    """Return the winding's temperature [°C] at the plate's rated current and speed in air of 40 °C by thermal resistances that are entered; None where they are not, or no class."""
    known, s = bodies_of(bench), bench.settings.heat
    if known is None or s.to_air is None or winding_limit(s.insulation) is None:
        return None
    amps, speed = rated_peak(bench.settings.plate), _rated_speed(bench)
    there = replace(around(bench, speed, amps), ambient=COOLANT)
    return _warm(known.bodies, there, amps)[0]
