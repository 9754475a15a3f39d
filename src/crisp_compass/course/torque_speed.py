"""Torque over speed of this motor on this drive and bus, and how fast full voltage raises the current."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.course.bridge import plan_bench_pwm, usable_voltage
from crisp_compass.course.drive import machine_of
from crisp_compass.loops.weakening import Limits, TorqueSpeed, best_point, torque_speed, voltage_at


@dataclass(frozen=True)
class WeakeningOutlook:
    """The curve with its limits; ``at_top`` torque [N·m] at the plate's top speed (NaN beyond the curve); ``rise`` [s] to rated
    current at standstill and ``rise_top`` at top speed (infinite where the voltage does not suffice)."""

    limits: Limits
    curve: TorqueSpeed
    top_speed: float
    at_top: float
    rise: float
    rise_top: float
    advance: float


def weakening_outlook(bench: Bench) -> WeakeningOutlook:
    """Return the outlook with the usable voltage of the PWM page and rated current; raises Refusal where the motor is not known."""
    machine, _ = machine_of(bench)
    figures = plan_bench_pwm(bench)
    v = usable_voltage(bench, planned=True).motor
    limits = Limits(
        machine.r,
        machine.ld,
        machine.lq,
        machine.psi,
        pole_pairs=machine.pole_pairs,
        v_limit=v,
        i_limit=rated_peak(bench.settings.plate),
        torque_factor=machine.torque_factor,
    )
    curve = torque_speed(limits)
    top = bench.settings.plate.top_speed
    return WeakeningOutlook(
        limits, curve, top, best_point(limits, top)[0], rise=time_to_current(limits, limits.i_limit, 0.0), rise_top=time_to_current(limits, limits.i_limit, top),
        advance=figures.loop_delay * machine.pole_pairs * top,
    )  # fmt: skip


def time_to_current(limits: Limits, current: float, speed: float) -> float:
    """Return the time [s] in which full voltage brings i_q from nought to ``current`` [A] at ``speed`` [rad/s], i_d held at nought.

    L·di/dt = √(V² − (ω_e·Lq·i)²) − ω_e·ψ − R·i, integrated by current; infinite where it never gets there.
    """
    if voltage_at(limits, speed, 0.0, current) >= limits.v_limit:
        return math.inf
    we, steps, total = limits.pole_pairs * speed, 400, 0.0
    for k in range(steps):
        i = (k + 0.5) * current / steps
        slope = math.sqrt(max(limits.v_limit**2 - (we * limits.lq * i) ** 2, 0.0)) - we * limits.psi - limits.r * i
        if slope <= 0:
            return math.inf
        total += limits.lq * current / steps / slope
    return total
