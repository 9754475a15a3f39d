"""PWM: carrier, dead time, scheme, and how much voltage and time they leave."""

from __future__ import annotations

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.conversions import FAMILIES
from crisp_compass.course.bridge import plan_bench_pwm
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.values import quantities
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.modulation.command_input import CommandSignal, read_command
from crisp_compass.modulation.pwm import PwmFigures
from crisp_compass.motor import three_phases
from crisp_compass.plausible import limits
from crisp_compass.quantities import show


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
    first_step="Check carrier, dead time and usable voltage, then settle the PWM.",
    settles=limits(loop_hz="loop_hz", carrier_hz="carrier_hz"),
    headline=lambda settled: show(settled.values["carrier_hz"].value, "Hz"),
    propose=propose,
    captures=(COMMAND,),
    sections=(
        Section("Timer"),
        *(Section(n, three_phases) for n in ("Carrier period", "Schemes", "Dead time")),
        Section("Command"),
    ),
)
