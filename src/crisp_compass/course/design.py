"""Designing the loops and the drive from what is settled on the bench."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from pydantic import ValidationError

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench, Quantity
from crisp_compass.bench.rules import need, require_built, settled_value
from crisp_compass.conversions import kt_from_flux
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.current import CurrentDesign, limit_tracking, tune_current
from crisp_compass.loops.speed import SpeedDesign, SpeedPlant, edge_delay, lowest_speed, tune_speed
from crisp_compass.modulation.pwm import Budget, PwmFigures, TimerSettings, plan_pwm
from crisp_compass.modulation.sampling import SamplingWindow, sampling_limit, sampling_window, window_needed
from crisp_compass.motor.plate_outlook import pole_pairs_of
from crisp_compass.plant.parameters import ENCODER, HALLS, Control, Drive, Inverter, Load, Machine, Sensing
from crisp_compass.preparation.supply import rated_peak

CURRENT_INPUTS = ("resistance.resistance", "inductance.ld", "inductance.lq", "pwm.loop_hz", "plate.v_bus")
SPEED_INPUTS = (
    "mechanics.inertia", "mechanics.viscous_friction", "plate.pole_pairs", "flux.flux_linkage", "current_loop.bandwidth_hz", "pwm.loop_hz",
)  # fmt: skip


def _quantities(values: dict[str, tuple[float, str]]) -> dict[str, Quantity]:
    """Return values with their units; raises Refusal where one is beyond what anything on a bench can be."""
    try:
        return {name: Quantity(value=value, unit=unit) for name, (value, unit) in values.items()}
    except ValidationError:
        raise Refusal(
            "with these constants the design gives figures that no firmware can hold", "check the settled constants"
        ) from None


def plate_values(bench: Bench) -> dict[str, Quantity]:
    """Return what settling the plate settles."""
    p = bench.settings.plate
    values = {
        "pole_pairs": (float(pole_pairs_of(p)), ""), "v_bus": (p.v_bus, "V"), "rated_current": (rated_peak(bench), "A"),
        "top_speed": (p.top_speed, "rad/s"),
    }  # fmt: skip
    if p.inertia is not None:  # nobody's inertia is settled for them
        values |= {
            "inertia": (p.inertia, "kg·m²"),
            "viscous": (p.viscous, "N·m·s/rad"),
            "coulomb": (p.coulomb, "N·m"),
        }
    return _quantities(values)


def inductance_values(bench: Bench) -> dict[str, Quantity]:
    """Return Ld and Lq from the evidence: the newest capture decides how.

    A table over the rotor angle gives both; a capture of one axis needs one of the other; else one value is for both,
    with the saturation curve where one was found.
    Raises Refusal where only one axis was captured.
    """
    items = bench.evidence.get("inductance", ())
    if not items:
        raise Refusal("no step capture is loaded", "load one first")
    newest = items[-1]
    if "ld" in newest.estimates:
        return {"ld": newest.estimates["ld"], "lq": newest.estimates["lq"]}
    if newest.slot == "current":
        found = newest.estimates
        curve = {k: found[k] for k in ("saturated_inductance", "saturation_current")}
        return {"ld": found["inductance"], "lq": found["inductance"], **curve}
    slots = {e.slot: e.estimates["inductance"] for e in items if "inductance" in e.estimates}
    if newest.slot == "":
        return {"ld": slots[""], "lq": slots[""]}
    if {"d", "q"} <= set(slots):
        return {"ld": slots["d"], "lq": slots["q"]}
    missing = "q" if newest.slot == "d" else "d"
    raise Refusal(
        f"only the {newest.slot} axis was captured",
        f"capture the {missing} axis too, or load a capture for both axes",
    )


def bench_window(bench: Bench) -> SamplingWindow:
    """Return what sampling leaves with the bench's shunts, amplifier and converter."""
    settings = bench.settings.pwm
    needed = window_needed(settings.dead_time, settings.settling, settings.sample_time)
    return sampling_window(
        settings.scheme, bench.settings.plate.v_bus, settings.carrier_hz, settings.shunts, needed, centred=settings.aligned == "centre"
    )  # fmt: skip


def plan_bench_pwm(bench: Bench) -> PwmFigures:
    """Return the PWM plan of the bench's settings at the plate's bus voltage; raises Refusal for a motor that is not computed."""
    require_built(bench)
    settings = bench.settings.pwm
    return plan_pwm(
        TimerSettings(
            settings.timer_hz, settings.carrier_hz, settings.dead_time, bench.settings.plate.v_bus, settings.scheme, settings.aligned == "centre",
            settings.loop_divider, settings.min_pulse, 2 if settings.updates == "twice" else 1, sampling_limit(bench_window(bench), settings.shunts),
        )
    )  # fmt: skip


@dataclass(frozen=True)
class UsableVoltage:
    """Phase peaks at the plate's bus: ``command`` [V] the longest vector the firmware may ask for, ``motor`` [V] what dead
    time leaves of it, ``per_bus`` the command over the bus."""

    command: float
    motor: float
    per_bus: float


def usable_voltage(bench: Bench, *, planned: bool = False) -> UsableVoltage:
    """Return how much voltage there is: of the settled PWM, else as the PWM page plans it. Everything that needs it asks here.

    ``planned`` asks for the plan of the fields as they stand, for pages that try other figures.

    Raises Refusal where the sampling window leaves none.
    """
    settled = {k: settled_value(bench, f"pwm.{k}") for k in ("v_usable", "v_command", "dead_time_voltage")}
    bus = settled_value(bench, "plate.v_bus")
    v_bus = bench.settings.plate.v_bus
    motor, lost = settled["v_usable"], settled["dead_time_voltage"]
    if motor is not None and not planned:
        # files of format 3 and before keep what reaches the motor only
        command = (
            settled["v_command"].value
            if settled["v_command"]
            else motor.value + (4 / math.pi * lost.value if lost else 0.0)
        )
        found = Budget(command, motor.value)
        v_bus = bus.value if bus else v_bus
    else:
        found = plan_bench_pwm(bench).budget
    if found.motor <= 0:
        raise Refusal(
            "the PWM settings leave no voltage for the motor",
            "look at sampling window, minimum pulse and dead time on the PWM leg",
        )
    return UsableVoltage(found.command, found.motor, found.command / v_bus)


def pwm_values(figures: PwmFigures) -> dict[str, Quantity]:
    """Return what settling the PWM settles."""
    values = {
        "loop_hz": (figures.loop_hz, "Hz"), "carrier_hz": (figures.carrier_actual_hz, "Hz"), "period_counts": (float(figures.period_counts), ""),
        "dead_time_counts": (float(figures.dead_time_counts), ""), "v_limit": (figures.v_limit, "V"), "v_command": (figures.budget.command, "V"), "v_usable": (figures.v_usable, "V"),
        "dead_time_voltage": (figures.dead_time_voltage, "V"), "loop_delay": (figures.loop_delay, "s"),
    }  # fmt: skip
    return _quantities(values)


def design_current(bench: Bench) -> CurrentDesign:
    """Design the current loop from settled R, L and PWM with the page's settings; raises Refusal if one is missing."""
    bench = standing(bench, "current_loop")
    settings = bench.settings.current_loop
    r, ld, lq, loop_hz, _ = (need(bench, key) for key in CURRENT_INPUTS)
    found = tune_current(
        r=r, ld=ld, lq=lq, loop_hz=loop_hz, v_limit=usable_voltage(bench).command, exact=True, delay_samples=settings.delay_samples,
        bandwidth_hz=None if settings.method == "modulus-optimum" else settings.bandwidth_hz,
        damping=settings.damping if settings.method == "placement" else None,
    )  # fmt: skip
    if any(a.margins.stable and not math.isfinite(a.margins.crossover_hz) for a in (found.d, found.q)):
        raise Refusal(
            "with these gains the open loop crosses 0 dB nowhere in the range that was computed",
            "choose a higher bandwidth",
        )
    return found


def current_values(bench: Bench, design: CurrentDesign) -> dict[str, Quantity]:
    """Return what settling the current loop settles."""
    # the crossover that was asked for and met; nine digits, so that it does not move with what it does not rest on
    crossover = float(f"{design.q.margins.crossover_hz:.9g}")
    values = {
        "kp_d": (design.d.kp, "V/A"), "ki_d": (design.d.ki, "V/(A·s)"), "kp_q": (design.q.kp, "V/A"), "ki_q": (design.q.ki, "V/(A·s)"),
        "bandwidth_hz": (crossover, "Hz"), "phase_margin": (math.radians(design.q.margins.phase_margin_deg), "rad"),
    }  # fmt: skip
    return _quantities(values)


def current_tracking(bench: Bench) -> tuple[float, float]:
    """Return what the integrators of d and q do at the voltage limit, of the settled gains and winding."""
    ts, r = 1 / need(bench, "pwm.loop_hz"), need(bench, "resistance.resistance")
    d, q = (
        limit_tracking(need(bench, f"current_loop.kp_{axis}"), need(bench, f"current_loop.ki_{axis}"), ts, r, need(bench, f"inductance.l{axis}"))
        for axis in "dq"
    )  # fmt: skip
    return d, q


def torque_constant(bench: Bench) -> float:
    """Return Kt in N·m per A of phase peak from settled flux and pole pairs."""
    return kt_from_flux(need(bench, "flux.flux_linkage"), "peak", need(bench, "plate.pole_pairs"))


def design_speed(bench: Bench) -> SpeedDesign:
    """Design the speed loop from settled values with the page's settings; raises Refusal if one is missing."""
    bench = standing(bench, "speed_loop")
    settings = bench.settings.speed_loop
    return tune_speed(
        inertia=need(bench, "mechanics.inertia"), kt=torque_constant(bench), viscous=need(bench, "mechanics.viscous_friction"),
        loop_hz=need(bench, "pwm.loop_hz") / settings.divider, current_bandwidth_hz=need(bench, "current_loop.bandwidth_hz"),
        filter_hz=settings.filter_hz, a=settings.a, bandwidth_hz=settings.bandwidth_hz if settings.method == "bandwidth" else None,
        sensor_delay=sensor_delay(bench),
    )  # fmt: skip


def lowest_wanted_speed(bench: Bench) -> float:
    """Return the lowest speed [rad/s] that the speed loop is to hold."""
    return bench.settings.speed_loop.lowest_speed or 0.1 * bench.settings.plate.top_speed


def sensor_delay(bench: Bench) -> float:
    """Return how late the speed is [s] at the lowest speed wanted: with halls edges are timed, six an electrical turn."""
    if bench.settings.plate.sensor != "halls":
        return 0.0
    return edge_delay(6 * pole_pairs_of(bench.settings.plate), lowest_wanted_speed(bench))


def sensor_lowest_speed(bench: Bench, design: SpeedDesign) -> float:
    """Return the lowest speed [rad/s] at which the angle sensor leaves the designed speed loop calm; 0 with an encoder."""
    if bench.settings.plate.sensor != "halls":
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
    return _quantities(values)


def hall_edges(bench: Bench) -> FloatArray | None:
    """Return the settled hall edges (6,) in rad, ascending, or None without a hall table."""
    settled = bench.settled.get("commutation")
    if settled is None or settled.halls is None:
        return None
    return np.sort(np.radians([s.from_deg % 360 for s in settled.halls.states.values()]))


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
    plate, run = bench.settings.plate, bench.settings.run
    loop_hz = need(bench, "pwm.loop_hz")
    kp_d, ki_d, kp_q, ki_q = (need(bench, f"current_loop.{k}") for k in ("kp_d", "ki_d", "kp_q", "ki_q"))
    kp, ki, speed_hz = (need(bench, f"speed_loop.{k}") for k in ("kp", "ki", "loop_hz"))
    filter_hz, ramp = need(bench, "speed_loop.filter_hz"), need(bench, "speed_loop.ramp")
    if plate.sensor == "halls" and hall_edges(bench) is None:
        raise Refusal("the hall table is not settled", "settle it on the commutation leg first")
    full_scale = max(2.5 * run.i_trip, 1.0)
    dead = settled_value(bench, "pwm.dead_time_voltage")
    sensing = Sensing(
        full_scale,
        2 * full_scale / 4096,
        full_scale * 4e-4,
        0.0,
        0.0,
        float(HALLS if plate.sensor == "halls" else ENCODER),
        float(plate.counts_per_rev),
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
