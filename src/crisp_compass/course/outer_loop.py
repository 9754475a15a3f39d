"""A speed loop around an existing voltage or current controller: its gain as measured, headroom, gains, and what must be put back.

Voltage controller: it answers a command u [V] with a speed, ω/u = K/(1 + s·T); the PI's integral time is T and its gain 2πf·T/K, so that
the loop crosses at f. Current controller: a command makes a current K·u and the shaft integrates it, Kt·K/(J·s); the gain is 2πf·J/(Kt·K),
the integral time 4/(2πf) (symmetrical optimum with a = 4 and no further lag).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.course.speed_design import torque_constant
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.quantities import show

#: By how much the inner range should go beyond the wanted speed, so that the outer loop keeps authority (common practice).
HEADROOM = 1.5


@dataclass(frozen=True)
class OuterLoop:
    """``gain`` of the existing controller (rad/s or A per V) and its command at rest ``offset`` [V]; ``reach`` [rad/s] of the largest
    command (NaN for a current controller) and ``headroom`` over the wanted speed; ``kp`` [V per rad/s], ``ki`` [V per rad]."""

    gain: float
    offset: float
    reach: float
    headroom: float
    kp: float
    ki: float
    findings: tuple[Finding, ...]


def outer_loop(bench: Bench) -> OuterLoop:
    """Return the loop around the existing controller; raises Refusal naming what is missing."""
    s, top = bench.settings.outer_loop, bench.settings.plate.top_speed
    voltage = s.inner == "voltage"
    first, second = (s.speed1, s.speed2) if voltage else (s.current1, s.current2)
    if s.command1 is None or s.command2 is None or first is None or second is None:
        what = "speed" if voltage else "current"
        raise Refusal(
            "the existing controller is not measured yet",
            f"set its trims to neutral, give two commands and enter the {what} at each",
            code="not-measured",
        )
    if abs(s.command2 - s.command1) < 0.02 * s.most:
        raise Refusal("the two commands are nearly the same", "choose them at least a fifth of the range apart")
    gain = (second - first) / (s.command2 - s.command1)
    if gain == 0:
        raise Refusal("the controller does not answer its command", "check that it is enabled, and the two readings")
    offset = s.command1 - first / gain
    findings = list(_findings(bench, gain, offset))
    f = 2 * math.pi * s.bandwidth_hz
    reach = headroom = math.nan
    if voltage:
        reach = abs(gain) * (s.most - abs(offset))
        headroom = reach / top
        if headroom < HEADROOM:
            text = f"The largest command of {show(s.most, 'V')} reaches {headroom:.2f} times the wanted speed; {HEADROOM:g} times leaves the outer loop room to correct (common practice): raise the inner gain or range."
            findings.append(Finding("caution", "no-headroom", text))
        if f * s.answer_time > 5:
            text = "The outer loop would be five times faster than the controller answers: lower the bandwidth."
            findings.append(Finding("caution", "too-fast", text))
        kp, ki = f * s.answer_time / gain, f / gain
    else:
        kt, inertia = torque_constant(bench), need(bench, "mechanics.inertia")
        kp = f * inertia / (kt * gain)
        ki = kp * f / 4
    return OuterLoop(gain, offset, reach, headroom, kp=kp, ki=ki, findings=tuple(findings))


def _findings(bench: Bench, gain: float, offset: float) -> list[Finding]:
    s = bench.settings.outer_loop
    found = []
    if gain < 0:
        text = "A positive command turns the shaft backwards: exchange the motor's leads or the command's sign before closing the loop, or it runs away."
        found.append(Finding("stop", "inverted", text))
    if s.trims != "neutral":
        text = "The controller's trims (gain, offset, compensation) are not noted as neutral: a gain measured now is lost when somebody turns one."
        found.append(Finding("caution", "trims-not-neutral", text))
    if abs(offset) > 0.05 * s.most:
        text = f"At rest the command is {show(offset, 'V')}: set the offset trim so that no command gives no motion."
        found.append(Finding("caution", "command-offset", text))
    return found


def standing_reminders(bench: Bench) -> list[Finding]:
    """Return what was changed for tuning and is not put back yet."""
    if bench.settings.outer_loop.limits != "opened":
        return []
    text = "The existing controller's limits (current, speed, ramp) were opened for tuning and are not put back yet: put them back before the machine works."
    return [Finding("caution", "limits-opened", text)]
