"""Run: the drive as settled."""

from __future__ import annotations

import math

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.course.waypoint import Waypoint
from crisp_compass.course.waypoints.commutation import hall_edges, uses_halls
from crisp_compass.course.waypoints.current_loop import current_tracking
from crisp_compass.course.waypoints.pwm import usable_voltage
from crisp_compass.errors import Refusal
from crisp_compass.plant.parameters import ENCODER, HALLS, Control, Drive, Inverter, Load, Machine, Sensing


def _iron(bench: Bench, inductance: float) -> tuple[float, float]:
    """Return the share of the inductance that stays in saturated iron, and the current [A] around which it falls."""
    low, knee = (settled_value(bench, f"inductance.{k}") for k in ("saturated_inductance", "saturation_current"))
    if low is None or knee is None:
        return 1.0, 1.0
    return min(max(low.value / inductance, 0.01), 1.0), knee.value


def build_drive(bench: Bench) -> Drive:
    """Assemble the simulated drive from settled values; raises Refusal naming what is missing."""
    bench = standing(bench)
    r, ld, lq, psi = (
        need(bench, k) for k in ("resistance.resistance", "inductance.ld", "inductance.lq", "flux.flux_linkage")
    )
    run = bench.settings.run
    loop_hz = need(bench, "pwm.loop_hz")
    kp_d, ki_d, kp_q, ki_q = (need(bench, f"current_loop.{k}") for k in ("kp_d", "ki_d", "kp_q", "ki_q"))
    kp, ki, speed_hz = (need(bench, f"speed_loop.{k}") for k in ("kp", "ki", "loop_hz"))
    filter_hz, ramp = need(bench, "speed_loop.filter_hz"), need(bench, "speed_loop.ramp")
    if bench.settings.sensor.kind == "halls" and hall_edges(bench) is None:
        raise Refusal("the hall table is not settled", "settle it on the commutation leg first")
    full_scale = max(2.5 * run.i_trip, 1.0)
    dead = settled_value(bench, "pwm.dead_time_voltage")
    sensing = Sensing(
        full_scale,
        2 * full_scale / 4096,
        full_scale * 4e-4,
        0.0,
        0.0,
        float(HALLS if bench.settings.sensor.kind == "halls" else ENCODER),
        float(bench.settings.sensor.counts_per_rev),
    )
    control = Control(
        1 / loop_hz, kp_d, ki_d, kp_q, ki_q, max(round(loop_hz / speed_hz), 1), kp, ki, 2 * math.pi * filter_hz, run.i_limit, run.i_trip,
        run.v_min, ramp, 0.5, 1.0, ld, lq, psi, 0.0, *current_tracking(bench), bench.settings.current_loop.delay_samples,
        usable_voltage(bench).per_bus,
    )  # fmt: skip
    return Drive(
        Machine(r, ld, lq, psi, need(bench, "plate.pole_pairs"), *_iron(bench, (ld + lq) / 2)),
        Load(need(bench, "mechanics.inertia"), need(bench, "mechanics.viscous_friction"), need(bench, "mechanics.coulomb_friction")),
        Inverter(need(bench, "plate.v_bus"), 0.05, dead.value if dead else 0.0, max(0.02 * run.i_trip, 1e-3)),
        sensing, control,
    )  # fmt: skip


def _hall_table(bench: Bench) -> tuple[str, ...]:
    """Return commutation where halls are used and no table is settled: an encoder's zero is no hall table."""
    return ("commutation",) if uses_halls(bench) and hall_edges(bench) is None else ()


WAYPOINT = Waypoint(
    "run",
    "Run",
    "Does it run the way it should?",
    needs=("plate", "resistance", "inductance", "flux", "pwm", "current_loop", "speed_loop"),
    also_needs=_hall_table,
)
