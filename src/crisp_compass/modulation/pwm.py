"""PWM arithmetic: usable voltage, dead time, timer counts, samples per electrical turn, loop delay.

Formulas and sources: docs/theory.md, “PWM”.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.modulation.full_bridge import Decay, lost_voltage
from crisp_compass.modulation.losses import fundamental_share
from crisp_compass.modulation.vectors import VOLTAGE_PER_BUS, Scheme

AUDIBLE_HZ = 16000.0


@dataclass(frozen=True)
class TimerSettings:
    """Inputs as firmware people have them.

    ``timer_hz`` and ``carrier_hz`` in Hz, ``dead_time`` and ``min_pulse`` in s, ``v_bus`` in V; ``loop_divider`` is the
    number of timer loads per current loop step, ``updates`` how often a carrier period loads the timer (1 or 2, the
    latter centre aligned only); ``sampling_limit`` [V] what the sampling window leaves, infinite where it takes nothing;
    ``decay`` says that every winding lies between two legs of its own (steppers), whatever the scheme, and how they switch;
    ``delay_samples`` is the whole delay of the current loop in its periods.
    """

    timer_hz: float
    carrier_hz: float
    dead_time: float
    v_bus: float
    scheme: Scheme = "space-vector"
    center_aligned: bool = True
    loop_divider: int = 1
    min_pulse: float = 0.0
    updates: int = 1
    sampling_limit: float = math.inf
    decay: Decay | None = None
    delay_samples: float = 1.5

    @property
    def limit(self) -> float:
        """Peak [V] of the longest vector without overmodulation: two legs a winding give the whole link."""
        return self.v_bus if self.decay else linear_limit(self.v_bus, self.scheme)


@dataclass(frozen=True)
class Budget:
    """Phase peaks [V]: ``command`` the longest vector that may be commanded, ``motor`` what dead time leaves of it."""

    command: float
    motor: float


@dataclass(frozen=True)
class PwmFigures:
    """What follows from the settings.

    ``budget`` is what of the bus may be commanded and what reaches the motor.

    ``period_counts`` is the timer's reload value (counts up to the crest when centre aligned), ``duty_step`` one
    count as a part of the period, ``voltage_step`` that step in volts of one leg, ``dead_time_counts`` rounded up,
    ``dead_time_voltage`` the average voltage one leg loses [V], ``dead_time_vector`` the length of the error vector
    (4/3 of it), ``v_limit`` the linear limit of the phase peak [V], ``loop_hz``, ``loop_delay`` [s] (computing, and half a period of hold), ``carrier_actual_hz`` what the
    counts really give.
    """

    period_counts: int
    carrier_actual_hz: float
    duty_step: float
    voltage_step: float
    dead_time_counts: int
    dead_time_voltage: float
    dead_time_vector: float
    v_limit: float
    budget: Budget
    loop_hz: float
    loop_delay: float
    findings: tuple[Finding, ...]

    @property
    def v_usable(self) -> float:
        """What reaches the motor of the linear limit, V."""
        return self.budget.motor

    @property
    def audible(self) -> bool:
        """Whether people hear the carrier (most ears end near 16 kHz)."""
        return self.carrier_actual_hz < AUDIBLE_HZ


def dead_time_voltage(dead_time: float, carrier_hz: float, v_bus: float) -> float:
    """Return the average voltage [V] one leg loses: dead time × carrier × bus, against the current's sign."""
    return dead_time * carrier_hz * v_bus


def linear_limit(v_bus: float, scheme: Scheme) -> float:
    """Return the peak phase voltage [V] that the scheme reaches without overmodulation."""
    return v_bus * VOLTAGE_PER_BUS[scheme]


def family_limit(v_bus: float, family: str) -> float:
    """Return the longest voltage vector [V] that a bridge gives in every direction.

    Three legs: Vdc/√3 with space-vector modulation. A stepper's windings have two legs each, so each takes up to Vdc, and the
    circle inside that square has the radius Vdc; an armature between two legs takes Vdc.
    """
    return {"stepper": v_bus, "brushed": v_bus}.get(family, linear_limit(v_bus, "space-vector"))


def voltage_budget(
    scheme: Scheme, v_bus: float, carrier_hz: float, *, min_pulse: float, sampling_limit: float, lost: float
) -> Budget:
    """Return what minimum pulse [s] and sampling window [V] leave of the scheme's linear limit, and dead time of that.

    ``lost`` [V] is what one switching leg loses (``dead_time_voltage``); its part in the fundamental is the scheme's.
    """
    command = max(min(linear_limit(v_bus, scheme) * (1 - 2 * min_pulse * carrier_hz), sampling_limit), 0.0)
    return Budget(command, max(command - fundamental_share(scheme) * lost, 0.0))


def samples_per_turn(loop_hz: float, electrical_hz: float) -> float:
    """Return loop steps in one electrical turn."""
    return loop_hz / electrical_hz if electrical_hz > 0 else math.inf


def plan_pwm(settings: TimerSettings) -> PwmFigures:
    """Turn settings (Hz, s, V) into counts, limits [V] and delay [s].

    Raises
    ------
    Refusal
        A figure is not positive, the timer is too slow for the carrier, or dead time fills the period.
    """
    for name, value in (
        ("timer clock", settings.timer_hz),
        ("carrier", settings.carrier_hz),
        ("bus voltage", settings.v_bus),
    ):
        if not (value > 0 and math.isfinite(value)):
            raise Refusal(f"the {name} is {value:g}", "a value above zero is needed")
    if settings.dead_time < 0 or settings.loop_divider < 1:
        raise Refusal("dead time below zero or loop divider below one", "check the settings")
    ways = 2 if settings.center_aligned else 1
    counts = round(settings.timer_hz / settings.carrier_hz / ways)
    if counts < 20:
        raise Refusal(
            f"the timer gives {counts} counts per period",
            "at least 20 are needed; lower the carrier or raise the timer clock",
        )
    actual = settings.timer_hz / counts / ways
    dead_counts = math.ceil(settings.dead_time * settings.timer_hz - 1e-9)
    if 2 * settings.dead_time * actual > 0.5:
        raise Refusal("dead time takes more than half of the carrier period", "shorten it or lower the carrier")
    lost = dead_time_voltage(dead_counts / settings.timer_hz, actual, settings.v_bus)
    limit = settings.limit
    if settings.updates not in (1, 2) or (settings.updates == 2 and not settings.center_aligned):
        raise Refusal("an edge-aligned carrier loads the timer once a period", "choose once, or centre aligned")
    if 2 * settings.min_pulse * actual >= 0.5:
        raise Refusal(
            "the shortest pulse takes more than a quarter of the carrier period", "shorten it or lower the carrier"
        )
    if settings.decay:
        held, taken = lost_voltage(lost, settings.decay)
        command = settings.v_bus * (1 - 2 * settings.min_pulse * actual)
        budget = Budget(command, max(command - taken, 0.0))
    else:
        held = 4 / 3 * lost  # held along phase A of a star
        budget = voltage_budget(
            settings.scheme,
            settings.v_bus,
            actual,
            min_pulse=settings.min_pulse,
            sampling_limit=settings.sampling_limit,
            lost=lost,
        )
    loop_hz = actual * settings.updates / settings.loop_divider
    findings = _findings(settings, counts, actual, lost)
    return PwmFigures(
        counts, actual, 1 / counts, settings.v_bus / counts, dead_time_counts=dead_counts, dead_time_voltage=lost, dead_time_vector=held, v_limit=limit,
        budget=budget, loop_hz=loop_hz, loop_delay=settings.delay_samples / loop_hz, findings=tuple(findings),
    )  # fmt: skip


def _findings(settings: TimerSettings, counts: int, actual: float, lost: float) -> list[Finding]:
    findings = []
    if abs(actual / settings.carrier_hz - 1) > 1e-3:
        findings.append(
            Finding(
                "info",
                "carrier-rounded",
                f"Whole counts give {actual:.6g} Hz instead of {settings.carrier_hz:.6g} Hz.",
            )
        )
    if counts < 500:
        findings.append(
            Finding(
                "caution",
                "coarse-duty",
                f"Only {counts} counts per period: one count is {settings.v_bus / counts * 1e3:.3g} mV; low-speed torque will be grainy.",
            )
        )
    if lost > 0.04 * settings.v_bus:
        findings.append(
            Finding(
                "caution",
                "dead-time-large",
                f"Dead time costs {100 * lost / settings.v_bus:.2g} % of the bus in every leg; compensate it or slow the carrier.",
            )
        )
    if settings.sampling_limit <= 0:
        findings.append(
            Finding(
                "stop",
                "window-closed",
                "The shunts are seen long enough at no voltage at all: shorten dead time, settling or sample time, slow the carrier, or use other shunts.",
            )
        )
    elif settings.sampling_limit < 0.8 * settings.limit:
        findings.append(
            Finding(
                "caution",
                "window-narrow",
                f"Above {settings.sampling_limit:.3g} V the shunts are not seen long enough at every angle: fewer periods can be sampled there, or the duties must be shifted.",
            )
        )
    if actual < AUDIBLE_HZ:
        findings.append(Finding("info", "carrier-audible", f"A carrier of {actual / 1e3:.3g} kHz can be heard."))
    return findings


def turn_verdict(samples: float) -> Finding:
    """Judge loop steps per electrical turn at top speed (common practice: 16 is workable, 10 is the edge)."""
    if samples < 10:
        return Finding(
            "stop",
            "too-few-samples-per-turn",
            f"Only {samples:.1f} loop steps in an electrical turn at top speed: raise the loop rate or lower the speed.",
        )
    if samples < 16:
        return Finding(
            "caution",
            "few-samples-per-turn",
            f"{samples:.1f} loop steps in an electrical turn at top speed: advance the angle for the delay and decouple carefully.",
        )
    return Finding("info", "samples-per-turn", f"{samples:.0f} loop steps in an electrical turn at top speed.")
