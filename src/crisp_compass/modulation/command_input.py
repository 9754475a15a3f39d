"""A PWM command from a capture, and what it asks for: frequency, duty, jitter; duty to speed; the 0–10 V counterpart."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray
from crisp_compass.quantities import grouped


@dataclass(frozen=True)
class CommandSignal:
    """What the capture shows: frequency [Hz], duty (0 … 1), jitter of the period (standard deviation over the mean).

    ``rises`` (n,) s are the rising edges, ``duties`` (n − 1,) of each period; ``lost`` periods longer than three usual ones.
    """

    frequency: Estimate
    duty: Estimate
    jitter: float
    lost: int
    rises: FloatArray
    duties: FloatArray
    method: str
    findings: tuple[Finding, ...]


@without_gaps
def read_command(capture: Capture) -> CommandSignal:
    """Measure the command in channel ``command`` (0/1 or volts).

    Raises
    ------
    Refusal
        A level that stays, fewer than three periods, or sampling too coarse for the duty.
    """
    level, t = capture["command"].astype(int), capture.time
    if np.ptp(level) == 0:
        state = "high" if level[0] else "low"
        raise Refusal(
            f"the command stays {state} throughout: no pulses",
            "check the lead and the sender; a drive takes this as loss of signal",
            where=capture.source,
        )
    edges = np.flatnonzero(np.diff(level))
    middle = 0.5 * (t[edges] + t[edges + 1])
    up = level[edges + 1] == 1
    rises, falls = middle[up], middle[~up]
    if len(rises) < 4:
        raise Refusal(
            f"{max(len(rises) - 1, 0)} whole periods are too few", "capture three or more", where=capture.source
        )
    falls = falls[falls > rises[0]]
    periods = np.diff(rises)
    usual = float(np.median(periods))
    step = float(np.median(np.diff(t)))
    if usual < 8 * step:
        raise Refusal(
            f"a period holds {usual / step:.1f} samples",
            "sample at least eight times as fast as the command",
            where=capture.source,
        )
    whole = periods < 3 * usual
    lost = int(np.sum(~whole))
    high = falls[: len(periods)] - rises[: len(falls[: len(periods)])]
    duties = (high / periods[: len(high)])[whole[: len(high)]]
    kept = periods[whole]
    findings = list(capture.findings)
    if lost:
        findings.append(
            Finding("caution", "command-gaps", f"{lost} gaps are longer than three periods: the command drops out.")
        )
    quantum = step / math.sqrt(6)  # two edges, each within one sample
    n = len(kept)
    u_period = math.hypot(float(np.std(kept)) / math.sqrt(n), quantum / n)
    frequency = Estimate.from_u(
        1 / float(np.mean(kept)), "Hz", u_period / float(np.mean(kept)) ** 2, dof=max(n - 1, 1)
    )
    spread = float(np.std(duties)) / math.sqrt(len(duties))
    duty = Estimate.from_u(
        float(np.mean(duties)),
        "",
        math.hypot(spread, quantum / usual / math.sqrt(len(duties))),
        dof=max(len(duties) - 1, 1),
    )
    jitter = math.sqrt(max(float(np.var(kept)) - quantum**2, 0.0)) / float(np.mean(kept))
    if jitter > 0.02:
        findings.append(
            Finding(
                "caution",
                "command-jitter",
                f"The period varies by {100 * jitter:.1f} %: the speed asked for will wander.",
            )
        )
    return CommandSignal(
        frequency, duty, jitter, lost, rises=rises, duties=duties, method=f"{n} periods, edges between samples", findings=tuple(findings)
    )


@dataclass(frozen=True)
class CommandMap:
    """How a drive takes a command: legal band [Hz], duty at which it begins to turn and at top speed, speeds [rad/s], volts; ``by`` which of both asks for the
    speed: a frequency does so from the lower end of its band to the upper one."""

    band_low: float
    band_high: float
    duty_low: float
    duty_high: float
    speed_low: float
    speed_high: float
    duty_step: float
    volts: float
    by: Literal["duty", "frequency"] = "duty"

    def asked(self, frequency: float, duty: float) -> float:
        """Return the speed [rad/s] that a command asks for; nought outside the legal band."""
        if not self.band_low <= frequency <= self.band_high:
            return 0.0
        if self.by == "duty":
            return self.speed(duty)
        part = (frequency - self.band_low) / max(self.band_high - self.band_low, 1e-12)
        return self.speed_low + part * (self.speed_high - self.speed_low)

    @property
    def steps(self) -> int:
        """Distinct speeds between the two duties."""
        return math.floor((self.duty_high - self.duty_low) / self.duty_step + 1e-9)

    @property
    def speed_step(self) -> float:
        """Speed of one duty step, rad/s."""
        return (self.speed_high - self.speed_low) / (self.duty_high - self.duty_low) * self.duty_step

    def speed(self, duty: float) -> float:
        """Return the speed asked for [rad/s]; nought below the band, the highest above it."""
        if duty < self.duty_low:
            return 0.0
        part = min((duty - self.duty_low) / (self.duty_high - self.duty_low), 1.0)
        return self.speed_low + part * (self.speed_high - self.speed_low)

    def counterpart(self, speed: float) -> float:
        """Return the volts of an analogue command that spans nought to the highest speed (common practice)."""
        return self.volts * min(max(speed / self.speed_high, 0.0), 1.0)

    def judge(self, frequency: float, duty: float) -> tuple[str, str]:
        """Return what the drive does with a command, as a level (``info``, ``caution``, ``stop``) and a sentence."""
        if not self.band_low <= frequency <= self.band_high:
            return (
                "stop",
                f"{frequency:.4g} Hz lies outside the legal band of {self.band_low:.4g} to {self.band_high:.4g} Hz: nothing happens, or a fault shows.",
            )
        if self.by == "frequency":
            return "info", f"It asks for {grouped(self.asked(frequency, duty) * 30 / math.pi)} rpm."
        if duty < self.duty_low:
            return (
                "caution",
                f"A duty of {100 * duty:.1f} % is below the {100 * self.duty_low:.1f} % at which the motor begins to turn: it stands.",
            )
        if duty > self.duty_high:
            return (
                "caution",
                f"A duty of {100 * duty:.1f} % is above the {100 * self.duty_high:.1f} % of the highest speed: it is held there, or the speed is not allowed.",
            )
        return "info", f"It asks for {grouped(self.speed(duty) * 30 / math.pi)} rpm."


def command_map(
    *,
    band: tuple[float, float],
    duty: tuple[float, float],
    speed: tuple[float, float],
    duty_step: float,
    volts: float,
    by: Literal["duty", "frequency"] = "duty",
) -> CommandMap:
    """Return the map; raises Refusal for a band or duties that are upside down, or speeds that do not rise."""
    if not 0 < band[0] <= band[1]:
        raise Refusal("in the legal band the lower limit exceeds the upper limit", "exchange them")
    if by == "frequency" and band[0] == band[1]:
        raise Refusal("one legal frequency asks for one speed only", "enter the band from standstill to top speed")
    if not 0 <= duty[0] < duty[1] <= 1:
        raise Refusal(
            "the duty of the highest speed is not above the one at which the motor begins to turn",
            "check both duties",
        )
    if not 0 <= speed[0] < speed[1]:
        raise Refusal("the highest speed is not above the lowest", "check the top speed on the plate")
    if not (0 < duty_step <= duty[1] - duty[0] and volts > 0):
        raise Refusal("one duty step passes over the whole range", "a finer step of the command is needed")
    return CommandMap(*band, *duty, *speed, duty_step, volts, by)
