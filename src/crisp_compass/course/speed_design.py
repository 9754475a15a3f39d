"""The speed loop as it is designed on a bench: its plant from what is settled, the gains by the page's method, and what they do."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.plate import torque_constant as torque_constant_of_plate
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.conversions import resistance_at
from crisp_compass.course.block import block_constant, in_blocks
from crisp_compass.course.coupling import coupling_of
from crisp_compass.course.observed import estimates
from crisp_compass.course.sensorless import USUAL_FILTER_HZ, without_sensor
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.loops.filters import Notch, TorqueFilters
from crisp_compass.loops.sampled import Margins, Sampled
from crisp_compass.loops.speed import (
    ArmatureSensor,
    SpeedDesign,
    SpeedPlant,
    analyse_speed,
    edge_delay,
    is_stable,
    largest,
    margins_of,
    smallest,
    speed_gains,
    speed_loop,
)
from crisp_compass.loops.speed_figures import LoadStep, load_step, lowest_speed, noise_of, relay_swing
from crisp_compass.motor import flux_of, pole_pairs_of, turns_field, winding_of
from crisp_compass.motor.brushed import brush_drop
from crisp_compass.quantities import show
from crisp_compass.sensing import SENSORS
from crisp_compass.sensing.sensor import ARMATURE

#: Times the gain that a calm loop on the armature's voltage bears (6 dB), least corner of a filter that is looked at [Hz], and the swing of the current that nobody sees, of
#: the rated one.
_CALM, _LEAST_FILTER_HZ, _SEEN_SWING = 2.0, 0.5, 0.03
#: Most that is asked for ahead of the loop, A per unit of the reference.
_MOST_AHEAD = 1e9


def torque_constant(bench: Bench) -> float:
    """Return Kt in N·m per A of phase peak from settled flux and pole pairs; in six steps per A through two phases."""
    if in_blocks(bench):
        return block_constant(bench)
    return torque_constant_of_plate(bench.settings.plate, flux_of(bench), need(bench, "plate.pole_pairs"))


def design_speed(bench: Bench) -> SpeedDesign:
    """Design the speed loop from settled values with the page's settings; raises Refusal if one is missing."""
    bench = standing(bench, "speed_loop")
    plant = plant_of(bench)
    kp, ki = _gains(bench, plant)
    found = analyse_speed(plant, kp, ki, _method(bench, plant))
    if found.margins.stable and not math.isfinite(found.margins.crossover_hz):
        raise Refusal(
            "with these gains the open loop crosses 0 dB nowhere in the range that was computed",
            "choose a higher bandwidth, or a smaller factor a",
        )
    return found


def _gains(bench: Bench, plant: SpeedPlant) -> tuple[float, float]:
    """Return Kp [A/(rad/s)] and Ki [A/rad] by the page's method."""
    s = bench.settings.speed_loop
    if s.method == "placement":
        return speed_gains(plant, placed=(s.bandwidth_hz, s.damping))
    if s.method == "stiffest":
        return speed_gains(plant, a=_stiffest(bench, plant)[1])
    return speed_gains(plant, a=s.a, bandwidth_hz=s.bandwidth_hz if s.method == "bandwidth" else None)


def _method(bench: Bench, plant: SpeedPlant) -> str:
    """Say how the gains were made, in a few words."""
    s = bench.settings.speed_loop
    return {
        "symmetric-optimum": f"symmetrical optimum, a = {s.a:g}",
        "bandwidth": f"crossover at {s.bandwidth_hz:g} Hz, integral time 4/(2π·crossover)",
        "placement": f"pair of poles at {s.bandwidth_hz:g} Hz with a damping of {s.damping:g}",
        "stiffest": f"as stiff as the sensor allows, a = {_stiffest(bench, plant)[1]:.3g}" if s.method == "stiffest" else "",
    }[s.method]


def ahead_of_the_loop(bench: Bench) -> dict[str, float]:
    """Return what is asked of the torque current ahead of the loop, by constant: A per rad/s² of inertia, A per rad/s and A of friction; raises Refusal for what no current is."""
    wish = bench.settings.speed_loop.feed_forward
    wanted = (*(("inertia",) if wish in ("inertia", "both") else ()), *(("viscous_friction", "coulomb_friction") if wish in ("friction", "both") else ()))
    found = {k: need(bench, f"mechanics.{k}") / torque_constant(bench) for k in wanted}
    if any(not math.isfinite(v) or v > _MOST_AHEAD for v in found.values()):
        raise Refusal("the torque constant is too small for torque ahead of the loop", "check flux and pole pairs, or ask for nothing ahead", field="speed_loop.feed_forward")
    return found


def filters_of(bench: Bench) -> TorqueFilters:
    """Return what the torque current passes between the loops."""
    s = bench.settings.speed_loop
    return TorqueFilters(s.low_pass_hz, Notch(s.notch_hz, s.notch_width, s.notch_depth) if s.notch_hz else None)


def counts_of(bench: Bench) -> float | None:
    """Return the counts a turn of a sensor that counts; None where edges are timed, or none tells the angle."""
    sensor = SENSORS[bench.settings.sensor.kind]
    if not sensor.counted or sensor.kernel == ARMATURE or estimates(bench):
        return None
    return float(bench.settings.sensor.counts_per_rev) if sensor.steps is None else sensor.steps


def allowed_noise(bench: Bench) -> float:
    """Return what the sensor's steps may put into the torque current, A rms."""
    return bench.settings.speed_loop.noise_share * rated_peak(bench.settings.plate)


def _stiffest(bench: Bench, plant: SpeedPlant) -> tuple[float, float]:
    """Return the filter's corner [Hz] and the factor a that hold the shaft hardest, of all whose noise is allowed; the corner as entered where it is."""
    entered = bench.settings.speed_loop.filter_hz
    own = entered is not None or counts_of(bench) is None
    return _stiffest_of(replace(plant, filter_hz=None), (plant.filter_hz or USUAL_FILTER_HZ) if own else None, counts_of(bench), allowed_noise(bench))


@lru_cache(maxsize=64)
def _stiffest_of(plant: SpeedPlant, filter_hz: float | None, counts: float | None, most: float) -> tuple[float, float]:
    """Search along the filter's corner: for each the least a (never below the textbook's 2) that is calm and quiet; the stiffness is Kt·Ki."""
    best = (0.0, 0.0, 0.0)
    waiting = [filter_hz] if filter_hz else [float(f"{f:.2g}") for f in np.geomspace(2.0, 0.25 * plant.loop_hz, 26)]
    finer = filter_hz is None
    while waiting:
        at = replace(plant, filter_hz=waiting.pop())
        if at.kt * speed_gains(at, a=2.0)[1] > best[0]:  # no gain of this corner would be stiffer
            rms = noise_of(at, counts) if counts is not None else None

            def quiet(a: float, at: SpeedPlant = at, rms: Callable[[float, float], float] | None = rms) -> bool:
                kp, ki = speed_gains(at, a=a)
                return (rms is None or rms(kp, ki) <= most) and is_stable(at, 1.6 * kp, 1.6 * ki)  # 4 dB of margin

            a = smallest(quiet, 2.0, 50.0)
            stiff = at.kt * speed_gains(at, a=a)[1] if a is not None else 0.0
            if a is not None and stiff > best[0]:
                best = (stiff, at.filter_hz or 0.0, a)
        if not waiting and finer and best[0]:
            waiting, finer = [float(f"{f:.3g}") for f in np.geomspace(best[1] / 1.25, best[1] * 1.25, 14)], False
    if not best[0]:
        raise Refusal(
            f"no gain keeps what this sensor puts into the torque current below {show(most, 'A')}",
            "allow more noise, a sensor of more counts, or a slower speed loop", field="speed_loop.noise_share",
        )  # fmt: skip
    return best[1], best[2]


def armature_tells(bench: Bench) -> bool:
    """Tell whether the armature's voltage tells the speed of this motor: it has brushes and no sensor."""
    return SENSORS[bench.settings.sensor.kind].kernel == ARMATURE and not turns_field(bench)


def armature_sensor(bench: Bench) -> ArmatureSensor | None:
    """Return what the armature's voltage shows besides the speed, where it tells the speed; None with any other sensor."""
    if not armature_tells(bench):
        return None
    at, ke = winding_of(bench), flux_of(bench)
    left = (1 - bench.settings.speed_loop.compensation) * at.r
    return ArmatureSensor(left / ke, at.lq / ke, brush_drop(bench) / ke)


def _unseen_current(bench: Bench) -> float:
    """Return the current [A] whose swing nobody minds: what friction takes, at least a small part of the rated one."""
    idle = need(bench, "mechanics.coulomb_friction") / torque_constant(bench)
    return max(idle, _SEEN_SWING * rated_peak(bench.settings.plate))


def _holds(bench: Bench, filter_hz: float, times: float, *, current: float = math.inf) -> bool:
    """Tell whether the loop with its gains for this filter is stable, also with so many times that gain; the brushes' relay counts
    as it does at a swing of ``current`` [A]."""
    plant = plant_of(bench, filter_hz)
    if plant.armature is not None:
        plant = replace(plant, armature=plant.armature.at_swing(current))
    kp, ki = _gains(bench, plant)
    return is_stable(plant, kp, ki) and is_stable(plant, times * kp, times * ki)


def filter_of(bench: Bench) -> float:
    """Return the corner of the speed filter [Hz]: as entered, else the usual one, or what leaves a loop on the armature's voltage calm."""
    entered = bench.settings.speed_loop.filter_hz
    if entered is not None:
        return entered
    if armature_sensor(bench) is None:
        if bench.settings.speed_loop.method == "stiffest":
            return _stiffest(bench, plant_of(bench, USUAL_FILTER_HZ))[0]
        return USUAL_FILTER_HZ
    still = _unseen_current(bench)
    wishes = (
        lambda f: _holds(bench, f, _CALM) and _holds(bench, f, 1.0, current=still),
        lambda f: _holds(bench, f, _CALM),
        lambda f: _holds(bench, f, 1.0),
    )
    found = next((f for wish in wishes if (f := largest(wish, _LEAST_FILTER_HZ, USUAL_FILTER_HZ))), USUAL_FILTER_HZ)
    digit = 10.0 ** (math.floor(math.log10(found)) - 1)
    return round(math.floor(found / digit + 1e-9) * digit, 6)


@dataclass(frozen=True)
class ArmatureLimits:
    """What holds where the armature's voltage tells the speed: the largest filter [Hz] with this method and gain, the largest gain over
    the one designed with this filter (None: not even the least), and the ``swing`` [A] that the brushes leave around no current."""

    filter_hz: float | None
    gain: float | None
    swing: float


def armature_limits(bench: Bench, design: SpeedDesign) -> ArmatureLimits | None:
    """Return what still holds with the loop stable; None where another sensor tells the speed."""
    bench = standing(bench, "speed_loop")
    sensor = armature_sensor(bench)
    if sensor is None:
        return None
    plant = plant_of(bench)
    return ArmatureLimits(
        largest(lambda f: _holds(bench, f, 1.0), _LEAST_FILTER_HZ, 20 * USUAL_FILTER_HZ),
        largest(lambda g: is_stable(plant, g * design.kp, g * design.ki), 1e-3, 1e3), relay_swing(plant, design.kp, design.ki),
    )  # fmt: skip


def plant_of(bench: Bench, filter_hz: float | None = None) -> SpeedPlant:
    """Return what the speed loop acts on, perhaps with another filter; raises Refusal where something is not settled."""
    return SpeedPlant(
        need(bench, "mechanics.inertia"), torque_constant(bench), need(bench, "mechanics.viscous_friction"),
        need(bench, "pwm.loop_hz") / bench.settings.speed_loop.divider, current_bandwidth_hz=need(bench, "current_loop.bandwidth_hz"),
        filter_hz=filter_hz or filter_of(bench), sensor_delay=sensor_delay(bench), armature=armature_sensor(bench), filters=filters_of(bench),
        coupling=coupling_of(bench) if not armature_tells(bench) else None,
    )  # fmt: skip


def armature_findings(bench: Bench, design: SpeedDesign) -> list[Finding]:
    """Say what holds with this filter and gain, and what the brushes do to a motor that runs without load."""
    limits = armature_limits(bench, design)
    if limits is None:
        return []
    found = []
    corner = f"a filter up to {limits.filter_hz:.3g} Hz" if limits.filter_hz else "no filter"
    gain = f"a gain up to {limits.gain:.2g} times this one" if limits.gain else "no gain"
    text = f"By this method the loop is stable with {corner}; at this filter with {gain}. What is not compensated of the resistance is fed back as if it were speed."
    found.append(Finding("info" if limits.gain and limits.gain >= _CALM else "caution", "armature-limits", text))
    if design.margins.stable and limits.swing > _unseen_current(bench):
        text = f"The drop of the brushes changes its sign with the current and acts as a relay: with less load than {show(limits.swing, 'A')} the current may swing around zero. A lower filter or gain makes it smaller."
        found.append(Finding("caution", "brushes-swing", text))
    return found


def lowest_wanted_speed(bench: Bench) -> float:
    """Return the lowest speed [rad/s] that the speed loop is to hold."""
    return bench.settings.speed_loop.lowest_speed or 0.1 * bench.settings.plate.top_speed


@dataclass(frozen=True)
class Droop:
    """How far the speed [rad/s] falls at rated current where the armature's voltage tells it: with copper as settled (``cold``), and
    at ``temperature`` [°C] (``hot``)."""

    cold: float
    hot: float
    temperature: float


def armature_droop(bench: Bench) -> Droop:
    """Return what the uncompensated part of the armature's drop costs: ω falls by ((R_true − k·R)·I + V0)/Ke."""
    r, ke = winding_of(bench).r, flux_of(bench)
    settings = bench.settings
    taken = settled_value(bench, "resistance.temperature")
    at = taken.value if taken is not None else settings.resistance.reference
    hot = settings.current_loop.hot
    k, current, drop = settings.speed_loop.compensation, rated_peak(settings.plate), brush_drop(bench)
    falls = [((true - k * r) * current + drop) / ke for true in (r, resistance_at(r, at, hot))]
    return Droop(falls[0], falls[1], hot)


def timed_by_edges(bench: Bench) -> bool:
    """Tell whether the speed comes from the time between a sensor's edges."""
    return SENSORS[bench.settings.sensor.kind].edges > 0


def sensor_delay(bench: Bench) -> float:
    """Return how late the speed is [s] at the lowest speed wanted: with halls edges are timed, six an electrical turn; without a sensor the
    phase-locked loop's integrator follows by 2ζ/ω_n, ζ = 1 (its closed loop is ω_n²/(s² + 2ζω_n·s + ω_n²))."""
    loop = settled_value(bench, "start_up.loop_hz") if without_sensor(bench) else None
    if loop is not None:
        return 1 / (math.pi * loop.value)
    edges = SENSORS[bench.settings.sensor.kind].edges
    return edge_delay(edges * pole_pairs_of(bench.settings.plate), lowest_wanted_speed(bench)) if edges else 0.0


def sensor_lowest_speed(bench: Bench, design: SpeedDesign) -> float:
    """Return the lowest speed [rad/s] at which the angle sensor leaves the designed speed loop calm; 0 with an encoder."""
    edges = SENSORS[bench.settings.sensor.kind].edges
    if not edges:
        return 0.0
    turn = edges * pole_pairs_of(bench.settings.plate)
    full, s = lowest_speed(plant_of(bench), design.kp, design.ki, turn), bench.settings.speed_loop
    if not s.slow_below or full > 2 * s.slow_below:  # where the full gains act they must be calm by themselves
        return full
    return min(full, max(lowest_speed(plant_of(bench), design.kp * s.slow_share, design.ki * s.slow_share**2, turn), 0.0))


def slow_loop(bench: Bench, design: SpeedDesign) -> Margins | None:
    """Return the margins of the loop as it is below the speed at which it is slower; None with one set of gains."""
    s = bench.settings.speed_loop
    if not s.slow_below:
        return None
    plant, edges = plant_of(bench), SENSORS[bench.settings.sensor.kind].edges
    if edges:
        plant = replace(plant, sensor_delay=edge_delay(edges * pole_pairs_of(bench.settings.plate), s.slow_below))
    return margins_of(plant, design.kp * s.slow_share, design.ki * s.slow_share**2)


def loop_at(bench: Bench, design: SpeedDesign, speed: float) -> Sampled:
    """Return the designed loop as it is at a speed [rad/s]: halls tell a fast shaft sooner than the slow one that it was designed for."""
    edges = SENSORS[bench.settings.sensor.kind].edges
    if not edges:
        return design.loop
    return speed_loop(replace(plant_of(bench), sensor_delay=edge_delay(edges * pole_pairs_of(bench.settings.plate), speed)), design.kp, design.ki)


def rated_load_step(bench: Bench, design: SpeedDesign) -> tuple[float, LoadStep] | None:
    """Return rated torque [N·m] and what a sudden load of 1 N·m does to the designed loop; None where it cannot be said."""
    plant = plant_of(standing(bench, "speed_loop"))
    crossover = design.margins.crossover_hz
    found = load_step(plant, design.kp, design.ki, 12.0 / crossover) if math.isfinite(crossover) and crossover > 0 else None
    return (plant.kt * rated_peak(bench.settings.plate), found) if found is not None else None
