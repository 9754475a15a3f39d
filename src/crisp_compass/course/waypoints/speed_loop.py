"""Speed loop: gains from settled mechanics, flux and current loop."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.plate import torque_constant as torque_constant_of_plate
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.capture import Capture
from crisp_compass.conversions import resistance_at
from crisp_compass.course.block import block_constant, in_blocks
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.sensorless import USUAL_FILTER_HZ, without_sensor
from crisp_compass.course.values import quantities
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.course.waypoints.circuit import closes_loops
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.loops.sampled import Sampled
from crisp_compass.loops.speed import (
    ArmatureSensor,
    LoadStep,
    SpeedDesign,
    SpeedPlant,
    edge_delay,
    is_stable,
    largest,
    load_step,
    lowest_speed,
    relay_swing,
    speed_gains,
    speed_loop,
    tune_speed,
)
from crisp_compass.motor import family_of, flux_of, pole_pairs_of, turns_field, winding_of
from crisp_compass.motor.brushed import brush_drop
from crisp_compass.plausible import limits
from crisp_compass.quantities import show
from crisp_compass.sensing import SENSORS
from crisp_compass.sensing.sensor import ARMATURE

if TYPE_CHECKING:
    from crisp_compass.course.speed_measured import MeasuredSpeed

#: Times the gain that a calm loop on the armature's voltage bears (6 dB), least corner of a filter that is looked at [Hz], and the swing of the current that nobody sees, of
#: the rated one.
_CALM, _LEAST_FILTER_HZ, _SEEN_SWING = 2.0, 0.5, 0.03


def inputs(bench: Bench) -> tuple[str, ...]:
    """Return what the design rests on."""
    return (
        "mechanics.inertia", "mechanics.viscous_friction", "plate.pole_pairs", *family_of(bench).flux_keys, "current_loop.bandwidth_hz", "pwm.loop_hz",
        *(("resistance.resistance", "inductance.lq") if armature_sensor(bench) else ()),
        *(("start_up.loop_hz",) if without_sensor(bench) and "start_up" in bench.settled else ()),
    )  # fmt: skip


def torque_constant(bench: Bench) -> float:
    """Return Kt in N·m per A of phase peak from settled flux and pole pairs; in six steps per A through two phases."""
    if in_blocks(bench):
        return block_constant(bench)
    return torque_constant_of_plate(bench.settings.plate, flux_of(bench), need(bench, "plate.pole_pairs"))


def design_speed(bench: Bench) -> SpeedDesign:
    """Design the speed loop from settled values with the page's settings; raises Refusal if one is missing."""
    bench = standing(bench, "speed_loop")
    settings = bench.settings.speed_loop
    plant = plant_of(bench)
    found = tune_speed(
        inertia=plant.inertia, kt=plant.kt, viscous=plant.viscous, loop_hz=plant.loop_hz, current_bandwidth_hz=plant.current_bandwidth_hz,
        filter_hz=plant.filter_hz, a=settings.a, bandwidth_hz=settings.bandwidth_hz if settings.method == "bandwidth" else None,
        sensor_delay=plant.sensor_delay, armature=plant.armature,
    )  # fmt: skip
    if found.margins.stable and not math.isfinite(found.margins.crossover_hz):
        raise Refusal(
            "with these gains the open loop crosses 0 dB nowhere in the range that was computed",
            "choose a higher bandwidth, or a smaller factor a",
        )
    return found


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
    settings, plant = bench.settings.speed_loop, plant_of(bench, filter_hz)
    if plant.armature is not None:
        plant = replace(plant, armature=plant.armature.at_swing(current))
    kp, ki = speed_gains(plant, a=settings.a, bandwidth_hz=settings.bandwidth_hz if settings.method == "bandwidth" else None)
    return is_stable(plant, kp, ki) and is_stable(plant, times * kp, times * ki)


def filter_of(bench: Bench) -> float:
    """Return the corner of the speed filter [Hz]: as entered, else the usual one, or what leaves a loop on the armature's voltage calm."""
    entered = bench.settings.speed_loop.filter_hz
    if entered is not None:
        return entered
    if armature_sensor(bench) is None:
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
        need(bench, "pwm.loop_hz") / bench.settings.speed_loop.divider, need(bench, "current_loop.bandwidth_hz"),
        filter_hz or filter_of(bench), sensor_delay(bench), armature_sensor(bench),
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
    return lowest_speed(plant_of(bench), design.kp, design.ki, edges * pole_pairs_of(bench.settings.plate)) if edges else 0.0


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


def speed_values(bench: Bench, design: SpeedDesign) -> dict[str, Quantity]:
    """Return what settling the speed loop settles."""
    settings = bench.settings.speed_loop
    values = {
        "kp": (design.kp, "A/(rad/s)"), "ki": (design.ki, "A/rad"), "loop_hz": (1 / design.loop.ts, "Hz"),
        "filter_hz": (filter_of(bench), "Hz"), "ramp": (settings.ramp, "rad/s²"),
    }  # fmt: skip
    return quantities(values)


def propose(bench: Bench) -> Proposal:
    """Return what settling the speed loop would settle; raises Refusal where something is missing."""
    design = design_speed(bench)
    what = f"Kp {show(design.kp, 'A/(rad/s)')}, Ki {show(design.ki, 'A/rad')}"
    margin = f"{design.method}, {design.margins.phase_margin_deg:.0f}° margin"
    return Proposal(speed_values(bench, design), what, margin, design.method, inputs(bench))


def _read_response(bench: Bench, capture: Capture) -> MeasuredSpeed:
    from crisp_compass.course.speed_measured import read_speed_response  # it needs this waypoint's design

    return read_speed_response(bench, capture)


def _claims_response(capture: Capture, _: str) -> bool:
    if not ({"speed_ref", "speed"} <= set(capture.columns) and {"i_q", "i_m"} & set(capture.columns)):
        return False
    reference = capture["speed_ref"]
    return bool(len(reference)) and float(np.ptp(reference)) > 0.0  # a shaft that is held is the current loop's


def _response_quantities(_: Bench, __: Capture, found: MeasuredSpeed) -> dict[str, Quantity]:
    """Return what a measured response tells: the plant, the figures of its first step, the gains as they act."""
    values = {k: to_quantity(e) for k, e in found.estimates.items()}
    for name, value, unit in (
        ("overshoot", found.figures.overshoot / 100, ""), ("rise", found.figures.rise, "s"), ("settling", found.figures.settling, "s"), ("expected_overshoot", found.expected.overshoot / 100, ""),
        ("expected_rise", found.expected.rise, "s"), ("kp", found.kp, "A/(rad/s)"), ("ki", found.ki, "A/rad"), ("limited", found.limited, ""),
    ):  # fmt: skip
        if value is not None and math.isfinite(value):
            values[name] = Quantity(value=value, unit=unit)
    return values


def _response_headline(evidence: Evidence) -> str:
    over = evidence.estimates.get("overshoot")
    return f"response: overshoot {100 * over.value:.0f} %" if over is not None else "response of the speed"


RESPONSE = CaptureKind(
    "speed_response",
    "speed_loop",
    _read_response,
    _response_headline,
    title=", measured response",
    section="Measured response",
    signals=("speed_ref", "speed", "i_q"),
    rank=28,
    claims=_claims_response,
    quantities=_response_quantities,
    needs=((), ("limited",)),
    sketch="encoder",
    families=("pm", "stepper", "induction"),
    view="speed_response",
)
ARMATURE_RESPONSE = replace(RESPONSE, key="armature_response", signals=("speed_ref", "speed", "i_m"), families=("brushed",))
WAYPOINT = Waypoint(
    "speed_loop",
    100,
    "Speed loop",
    "What gains hold the speed?",
    "Choose the speed loop's gains and settle them.",
    settles={
        **limits(kp="kp_speed", ki="ki_speed", filter_hz="filter_hz"),
        "loop_hz": ("Hz", 1e-3, 1e6),
        "ramp": ("rad/s²", 1e-6, 1e9),
    },
    needs=("plate", "flux", "circuit", "pwm", "current_loop"),
    applies=lambda bench: closes_loops(bench) and not steps_open(bench),
    headline=lambda settled: show(settled.values["kp"].value, "A/(rad/s)"),
    propose=propose,
    captures=(RESPONSE, ARMATURE_RESPONSE),
    sections=(Section("Design"), Section("Measured response", lambda bench: not without_sensor(bench)), Section("Outer loop", lambda bench: not turns_field(bench))),
)
