"""PWM: carrier, dead time, scheme, and how much voltage and time they leave."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import require_built, settled_value
from crisp_compass.conversions import FAMILIES
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.values import quantities
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.errors import Refusal
from crisp_compass.modulation.command_input import CommandSignal, read_command
from crisp_compass.modulation.pwm import Budget, PwmFigures, TimerSettings, plan_pwm
from crisp_compass.modulation.sampling import SamplingWindow, sampling_limit, sampling_window, window_needed
from crisp_compass.quantities import show


def three_phases(bench: Bench) -> bool:
    """Tell whether three legs feed the motor."""
    return bench.settings.plate.windings == 3


def bench_window(bench: Bench) -> SamplingWindow:
    """Return what sampling leaves with the bench's shunts, amplifier and converter."""
    settings = bench.settings.pwm
    needed = window_needed(settings.dead_time, settings.settling, settings.sample_time)
    return sampling_window(
        settings.scheme, bench.settings.plate.v_bus, settings.carrier_hz, settings.shunts, needed, centred=settings.aligned == "centre"
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
            )
        )
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
    return quantities(values)


def command_values(found: CommandSignal) -> dict[str, Quantity]:
    """Return what a command capture tells as quantities."""
    return {
        "frequency": to_quantity(found.frequency),
        "duty": to_quantity(found.duty),
        "jitter": Quantity(value=found.jitter, unit=""),
    }


def propose(bench: Bench) -> Proposal:
    """Return what settling the PWM would settle; raises Refusal where it cannot be planned."""
    figures = plan_bench_pwm(bench)
    what = f"{show(figures.carrier_actual_hz, 'Hz')}, {show(figures.v_usable, 'V')} usable"
    return Proposal(pwm_values(figures), what, "as the firmware sets its timer", rests_on=("plate.v_bus",))


def _headline(evidence: Evidence) -> str:
    return f"duty {100 * evidence.estimates['duty'].value:.2f} %"


COMMAND = CaptureKind(
    "command",
    "pwm",
    lambda _, capture: read_command(capture),
    _headline,
    title=", command",
    section="Command",
    signals=("command",),
    rank=40,
    claims=lambda capture, _: "command" in capture,
    quantities=lambda _, __, result: command_values(result),
    needs=((), ("frequency", "duty", "jitter")),
    sketch="encoder",
    families=FAMILIES,
    view="command",
)
WAYPOINT = Waypoint(
    "pwm",
    70,
    "PWM",
    "How much voltage and time does the modulator give?",
    "Check carrier, dead time and usable voltage, then settle the PWM.",
    settles={"loop_hz": ("Hz", 10, 1e6), "carrier_hz": ("Hz", 10, 1e7)},
    headline=lambda settled: show(settled.values["carrier_hz"].value, "Hz"),
    propose=propose,
    captures=(COMMAND,),
    sections=(
        Section("Timer"),
        *(Section(n, three_phases) for n in ("Carrier period", "Schemes", "Dead time")),
        Section("Command"),
    ),
)
