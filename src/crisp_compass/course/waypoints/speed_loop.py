"""Speed loop: gains from settled mechanics, flux and current loop."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.plate import torque_constant as torque_constant_of_plate
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.conversions import resistance_at
from crisp_compass.course.block import block_constant, in_blocks
from crisp_compass.course.machine import brush_drop
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.course.values import quantities
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.course.waypoints.circuit import closes_loops
from crisp_compass.errors import Refusal
from crisp_compass.loops.speed import SpeedDesign, SpeedPlant, edge_delay, lowest_speed, tune_speed
from crisp_compass.motor import family_of, flux_of, pole_pairs_of, winding_of
from crisp_compass.quantities import show


def inputs(bench: Bench) -> tuple[str, ...]:
    """Return what the design rests on."""
    return (
        "mechanics.inertia", "mechanics.viscous_friction", "plate.pole_pairs", *family_of(bench).flux_keys, "current_loop.bandwidth_hz", "pwm.loop_hz",
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
    found = tune_speed(
        inertia=need(bench, "mechanics.inertia"), kt=torque_constant(bench), viscous=need(bench, "mechanics.viscous_friction"),
        loop_hz=need(bench, "pwm.loop_hz") / settings.divider, current_bandwidth_hz=need(bench, "current_loop.bandwidth_hz"),
        filter_hz=settings.filter_hz, a=settings.a, bandwidth_hz=settings.bandwidth_hz if settings.method == "bandwidth" else None,
        sensor_delay=sensor_delay(bench),
    )  # fmt: skip
    if found.margins.stable and not math.isfinite(found.margins.crossover_hz):
        raise Refusal(
            "with these gains the open loop crosses 0 dB nowhere in the range that was computed",
            "choose a higher bandwidth, or a smaller factor a",
        )
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


def sensor_delay(bench: Bench) -> float:
    """Return how late the speed is [s] at the lowest speed wanted: with halls edges are timed, six an electrical turn; without a sensor the
    phase-locked loop's integrator follows by 2ζ/ω_n, ζ = 1 (its closed loop is ω_n²/(s² + 2ζω_n·s + ω_n²))."""
    loop = settled_value(bench, "start_up.loop_hz") if without_sensor(bench) else None
    if loop is not None:
        return 1 / (math.pi * loop.value)
    if bench.settings.sensor.kind != "halls":
        return 0.0
    return edge_delay(6 * pole_pairs_of(bench.settings.plate), lowest_wanted_speed(bench))


def sensor_lowest_speed(bench: Bench, design: SpeedDesign) -> float:
    """Return the lowest speed [rad/s] at which the angle sensor leaves the designed speed loop calm; 0 with an encoder."""
    if bench.settings.sensor.kind != "halls":
        return 0.0
    settings = bench.settings.speed_loop
    plant = SpeedPlant(
        need(bench, "mechanics.inertia"), torque_constant(bench), need(bench, "mechanics.viscous_friction"), need(bench, "pwm.loop_hz") / settings.divider,
        need(bench, "current_loop.bandwidth_hz"), settings.filter_hz,
    )  # fmt: skip
    return lowest_speed(plant, design.kp, design.ki, 6 * pole_pairs_of(bench.settings.plate))


def speed_values(bench: Bench, design: SpeedDesign) -> dict[str, Quantity]:
    """Return what settling the speed loop settles."""
    settings = bench.settings.speed_loop
    values = {
        "kp": (design.kp, "A/(rad/s)"), "ki": (design.ki, "A/rad"), "loop_hz": (1 / design.loop.ts, "Hz"),
        "filter_hz": (settings.filter_hz, "Hz"), "ramp": (settings.ramp, "rad/s²"),
    }  # fmt: skip
    return quantities(values)


def propose(bench: Bench) -> Proposal:
    """Return what settling the speed loop would settle; raises Refusal where something is missing."""
    design = design_speed(bench)
    what = f"Kp {show(design.kp, 'A/(rad/s)')}, Ki {show(design.ki, 'A/rad')}"
    margin = f"{design.method}, {design.margins.phase_margin_deg:.0f}° margin"
    return Proposal(speed_values(bench, design), what, margin, design.method, inputs(bench))


WAYPOINT = Waypoint(
    "speed_loop",
    100,
    "Speed loop",
    "What gains hold the speed?",
    "Choose the speed loop's gains and settle them.",
    settles={
        "kp": ("A/(rad/s)", 1e-12, 1e7),
        "ki": ("A/rad", 1e-12, 1e9),
        "loop_hz": ("Hz", 1e-3, 1e6),
        "filter_hz": ("Hz", 1e-3, 1e6),
        "ramp": ("rad/s²", 1e-6, 1e9),
    },
    needs=("plate", "flux", "circuit", "pwm", "current_loop"),
    applies=closes_loops,
    headline=lambda settled: show(settled.values["kp"].value, "A/(rad/s)").replace("A/(rad/s)", "As/rad"),
    propose=propose,
    sections=(Section("Design"), Section("Outer loop", lambda bench: bench.settings.plate.windings == 1)),
)
