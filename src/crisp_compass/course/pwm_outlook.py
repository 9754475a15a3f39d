"""The modulator's pictures and tables for this motor: one carrier period, schemes side by side, dead time in figures."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.course.bridge import bench_window, plan_bench_pwm
from crisp_compass.course.drive import machine_of
from crisp_compass.estimates import FloatArray
from crisp_compass.modulation.command_input import CommandMap, command_map
from crisp_compass.modulation.losses import DeadTimeEffect, Losses, dead_time_effect, losses
from crisp_compass.modulation.pwm import PwmFigures, linear_limit, voltage_budget
from crisp_compass.modulation.ripple import Period, Ripple, one_period, ripple
from crisp_compass.modulation.sampling import (
    SamplingWindow,
    gate_signals,
    sampling_limit,
    sampling_spans,
    sampling_window,
    window_needed,
    window_open,
)
from crisp_compass.modulation.vectors import SCHEMES, Scheme, duties

_DEPTHS = np.linspace(0.02, 1.0, 25)


@dataclass(frozen=True)
class CarrierPicture:
    """One carrier period at the working point.

    ``peak`` [V] and ``angle`` [rad] of the voltage, ``duty`` (3,), the period's corners with ripple currents, ``window``
    as all round, ``open_here`` whether this period can be sampled, ``allowed`` the spans (begin, end) as parts of the
    period in which the sample may end; ``gates`` (m, 6) of high and low switches by leg at ``gate_time`` (m,), parts of
    the period.
    """

    peak: float
    angle: float
    duty: FloatArray
    period: Period
    window: SamplingWindow
    open_here: bool
    allowed: tuple[tuple[float, float], ...]
    gate_time: FloatArray
    gates: FloatArray
    carrier_hz: float


def carrier_picture(bench: Bench) -> CarrierPicture:
    """Return one carrier period at the page's modulation depth and angle; raises Refusal where the motor is not known or six-step is chosen."""
    settings, v_bus = bench.settings.pwm, bench.settings.plate.v_bus
    machine, _ = machine_of(bench)
    peak = bench.settings.view.modulation_depth * linear_limit(v_bus, settings.scheme)
    centred = settings.aligned == "centre"
    figures = plan_bench_pwm(bench)
    f = figures.carrier_actual_hz
    period = one_period(
        settings.scheme, peak, v_bus, f, ld=machine.ld, lq=machine.lq, theta=bench.settings.view.voltage_angle, centred=centred
    )
    duty = duties(settings.scheme, peak, v_bus, np.array([bench.settings.view.voltage_angle]))
    window = bench_window(bench)
    here = bool(window_open(duty, settings.shunts, window.needed, f, centred=centred)[0])
    time = np.linspace(0.0, 1.0, 2001)
    return CarrierPicture(
        peak, bench.settings.view.voltage_angle, duty[0], period, window=window, open_here=here,
        allowed=sampling_spans(duty[0], settings.shunts, window.needed * f, centred=centred), gate_time=time,
        gates=gate_signals(duty[0], time, settings.dead_time * f, centred=centred), carrier_hz=f,
    )  # fmt: skip


@dataclass(frozen=True)
class SchemeRow:
    """One scheme for this motor: V, A, W. ``ripple`` is None for six-step."""

    scheme: Scheme
    limit: float
    usable: float
    window: float
    ripple: Ripple | None
    losses: Losses


def scheme_rows(bench: Bench) -> list[SchemeRow]:
    """Return every scheme at the page's modulation depth of *its* space-vector voltage, at rated current; raises Refusal as above."""
    settings, v_bus = bench.settings.pwm, bench.settings.plate.v_bus
    machine, _ = machine_of(bench)
    figures = plan_bench_pwm(bench)
    f, centred = figures.carrier_actual_hz, settings.aligned == "centre"
    current = rated_peak(bench.settings.plate)
    wanted = bench.settings.view.modulation_depth * linear_limit(v_bus, "space-vector")
    needed = window_needed(settings.dead_time, settings.settling, settings.sample_time)
    rows = []
    for scheme in SCHEMES:
        limit = linear_limit(v_bus, scheme)
        peak = min(wanted, limit)
        window = sampling_window(scheme, v_bus, f, settings.shunts, needed=needed, centred=centred)
        found = None
        if scheme != "six-step":
            found = ripple(scheme, peak, v_bus, f, ld=machine.ld, lq=machine.lq, centred=centred)
        # six-step switches each leg once a half turn: its switching hardly counts
        loss = losses(scheme, peak, v_bus, f, current=current, r_switch=settings.r_switch, t_on=settings.t_on, t_off=settings.t_off)
        budget = voltage_budget(
            scheme,
            v_bus,
            f,
            min_pulse=settings.min_pulse,
            sampling_limit=sampling_limit(window, settings.shunts),
            lost=figures.dead_time_voltage,
        )
        rows.append(SchemeRow(scheme, limit, budget.motor, window.limit, ripple=found, losses=loss))
    return rows


@dataclass(frozen=True)
class RippleCurves:
    """Ripple over the voltage: ``peak`` (n,) [V], by scheme rms and peak to peak (n,) [A]."""

    peak: FloatArray
    rms: dict[Scheme, FloatArray]
    swing: dict[Scheme, FloatArray]


def ripple_curves(bench: Bench, schemes: tuple[Scheme, ...]) -> RippleCurves:
    """Return ripple from nought to the limit; NaN beyond a scheme's own limit. Raises Refusal where the motor is not known."""
    v_bus = bench.settings.plate.v_bus
    machine, _ = machine_of(bench)
    figures = plan_bench_pwm(bench)
    centred = bench.settings.pwm.aligned == "centre"
    peak = _DEPTHS * linear_limit(v_bus, "space-vector")
    rms: dict[Scheme, FloatArray] = {}
    swing: dict[Scheme, FloatArray] = {}
    for scheme in schemes:
        limit = linear_limit(v_bus, scheme)
        found = [
            ripple(scheme, float(v), v_bus, figures.carrier_actual_hz, ld=machine.ld, lq=machine.lq, centred=centred)
            if v <= limit * 1.0001 else None
            for v in peak
        ]  # fmt: skip
        rms[scheme] = np.array([math.nan if r is None else r.rms for r in found])
        swing[scheme] = np.array([math.nan if r is None else r.peak_to_peak for r in found])
    return RippleCurves(peak, rms, swing)


def bench_command_map(bench: Bench) -> CommandMap:
    """Return the map of the page's settings, its highest speed the plate's top speed; raises Refusal where it is upside down."""
    settings = bench.settings.pwm
    top = bench.settings.plate.top_speed
    return command_map(
        band=(settings.band_low, settings.band_high), duty=(settings.command_low, settings.command_high), speed=(0.0, top),
        duty_step=settings.command_step, volts=bench.settings.supply.command_volts, by=settings.command_by,
    )  # fmt: skip


@dataclass(frozen=True)
class DeadTimePicture:
    """Effect at rated current, compensation in compare counts and volts, and the leg's loss over its current: (n,) A, V.

    A centre-aligned compare moves both edges, so half the dead time's counts make up for it.
    """

    effect: DeadTimeEffect
    counts: float
    volts: float
    knee: float
    current: FloatArray
    loss: FloatArray


def dead_time_picture(bench: Bench, figures: PwmFigures) -> DeadTimePicture:
    """Return what dead time does to this motor; raises Refusal where the motor is not known.

    Below the knee the ripple turns the current's sign within a period and part of the loss cancels: the compensation must
    fade in over half the ripple's peak to peak.
    """
    machine, _ = machine_of(bench)
    settings, v_bus = bench.settings.pwm, bench.settings.plate.v_bus
    rated = rated_peak(bench.settings.plate)
    effect = dead_time_effect(figures.dead_time_voltage, machine.r, rated, settings.scheme)
    scheme: Scheme = "space-vector" if settings.scheme == "six-step" else settings.scheme
    near_rest = ripple(
        scheme, 0.05 * linear_limit(v_bus, scheme), v_bus, figures.carrier_actual_hz, ld=machine.ld, lq=machine.lq,
        centred=settings.aligned == "centre",
    )  # fmt: skip
    knee = max(0.5 * near_rest.peak_to_peak, 1e-6)
    current = np.linspace(-4 * knee, 4 * knee, 161)
    loss = figures.dead_time_voltage * np.clip(current / knee, -1, 1)
    centred = settings.aligned == "centre"
    counts = figures.dead_time_counts * (0.5 if centred else 1.0)
    return DeadTimePicture(effect, counts, figures.dead_time_voltage, knee, current=current, loss=loss)
