"""What the bridge does on this bench: its PWM plan, the window that sampling leaves, and how much voltage there is."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import require_built, settled_value
from crisp_compass.errors import Refusal
from crisp_compass.modulation.pwm import Budget, PwmFigures, TimerSettings, plan_pwm
from crisp_compass.modulation.sampling import SamplingWindow, sampling_limit, sampling_window, window_needed
from crisp_compass.motion.load_side import screw, wheel
from crisp_compass.motor import pole_pairs_of, three_phases
from crisp_compass.typed import Motor


def bench_window(bench: Bench) -> SamplingWindow:
    """Return what sampling leaves with the bench's shunts, amplifier and converter."""
    settings = bench.settings.pwm
    needed = window_needed(settings.dead_time, settings.settling, settings.sample_time)
    return sampling_window(
        settings.scheme, bench.settings.plate.v_bus, settings.carrier_hz, settings.shunts, needed=needed, centred=settings.aligned == "centre"
    )  # fmt: skip


def plan_bench_pwm(bench: Bench) -> PwmFigures:
    """Return the PWM plan of the bench's settings at the plate's bus voltage; raises Refusal for a motor that is not computed."""
    require_built(bench, "pwm")
    settings = bench.settings.pwm
    if not three_phases(bench):  # a shunt in series with each winding is seen at every duty
        return plan_pwm(
            TimerSettings(
                settings.timer_hz,
                settings.carrier_hz,
                settings.dead_time,
                bench.settings.plate.v_bus,
                center_aligned=settings.aligned == "centre",
                loop_divider=settings.loop_divider,
                min_pulse=settings.min_pulse,
                updates=2 if settings.updates == "twice" else 1,
                decay=settings.decay,
                delay_samples=bench.settings.current_loop.delay_samples,
            )
        )
    return plan_pwm(
        TimerSettings(
            settings.timer_hz, settings.carrier_hz, settings.dead_time, bench.settings.plate.v_bus, scheme=settings.scheme, center_aligned=settings.aligned == "centre",
            loop_divider=settings.loop_divider, min_pulse=settings.min_pulse, updates=2 if settings.updates == "twice" else 1, sampling_limit=sampling_limit(bench_window(bench), settings.shunts),
            delay_samples=bench.settings.current_loop.delay_samples,
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


def typed_motor(bench: Bench) -> Motor:
    """Return what fields need of the motor to read a speed in hertz and a ramp in seconds."""
    try:
        pairs: float | None = pole_pairs_of(bench.settings.plate)
    except Refusal:
        pairs = None
    return Motor(pairs, bench.settings.plate.top_speed, travel_of(bench), bench.settings.load_side.unit)


def travel_of(bench: Bench) -> float | None:
    """Return how far the load moves for each radian of the shaft [m]; None where nothing is said of it."""
    s = bench.settings.load_side
    if s.kind == "wheel" and s.diameter is not None:
        return wheel(s.diameter, s.ratio, s.falls)
    if s.kind == "screw" and s.lead is not None:
        return screw(s.lead, s.ratio)
    return None
