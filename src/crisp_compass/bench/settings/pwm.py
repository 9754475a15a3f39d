"""The timer and what it drives."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Duration

Scheme = Literal["sine", "space-vector", "third-harmonic", "clamped-low", "clamped-high", "clamped-60", "six-step"]


class PwmSettings(TopicSettings):
    """Timer clock and carrier in Hz, times in s, switch resistance in Ω; what the pages try them with."""

    presumable: ClassVar[tuple[str, ...]] = (
        "timer_hz",
        "carrier_hz",
        "dead_time",
        "settling",
        "sample_time",
        "r_switch",
        "t_on",
        "t_off",
    )
    settles: ClassVar[tuple[str, ...]] = (
        "timer_hz",
        "carrier_hz",
        "aligned",
        "dead_time",
        "min_pulse",
        "scheme",
        "decay",
        "loop_divider",
        "updates",
        "shunts",
        "settling",
        "sample_time",
    )

    timer_hz: float = Field(default=144e6, ge=1e5, le=1e10, title="timer clock", json_schema_extra={"unit": "Hz"})
    processor_hz: float | None = Field(
        default=None, ge=1e5, le=1e10, description="clock of the processor that computes the loops; the timer's if empty", title="processor clock", json_schema_extra={"unit": "Hz"})
    carrier_hz: float = Field(default=20e3, ge=100, le=1e6, title="carrier", json_schema_extra={"unit": "Hz"})
    aligned: Literal["centre", "edge"] = Field(default="centre", title="carrier aligned")
    dead_time: Duration = Field(default=500e-9, title="dead time", json_schema_extra={"unit": "s"})
    min_pulse: Duration = Field(default=0.0, description="s, shortest pulse a leg may make", title="minimum pulse", json_schema_extra={"unit": "s"})
    scheme: Scheme = Field(default="space-vector", title="scheme")
    decay: Literal["slow", "fast"] = Field(
        default="slow", description="how the two legs of a stepper's winding switch", title="decay")
    loop_divider: int = Field(default=1, ge=1, le=64, title="loop divider")
    updates: Literal["once", "twice"] = Field(default="once", description="loads of the timer per carrier period", title="loads per carrier period")
    shunts: Literal["one", "two", "three", "in-line"] = Field(default="three", title="shunts")
    settling: Duration = Field(default=800e-9, description="s, current amplifier after a switching", title="amplifier settling", json_schema_extra={"unit": "s"})
    sample_time: Duration = Field(default=300e-9, description="s, the converter's sampling", title="sampling time", json_schema_extra={"unit": "s"})
    r_switch: float = Field(default=5e-3, ge=0, le=100, description="Ω, one switch", title="switch resistance", json_schema_extra={"unit": "Ω"})
    t_on: Duration = Field(default=40e-9, description="s", title="turn-on time", json_schema_extra={"unit": "s"})
    t_off: Duration = Field(default=40e-9, description="s", title="turn-off time", json_schema_extra={"unit": "s"})
    command_low: float = Field(
        default=0.06, ge=0, le=1, description="duty of a command at which the motor begins to turn"
    )
    command_high: float = Field(
        default=0.94, ge=0, le=1, description="duty of a command at the highest speed allowed"
    )
    command_step: float = Field(default=0.01, ge=1e-6, le=0.5, description="duty step of whatever commands")
    band_low: float = Field(default=300.0, gt=0, description="Hz, lowest legal frequency of the command")
    band_high: float = Field(default=2.5e3, gt=0, description="Hz, highest legal frequency of the command")
    command_by: Literal["duty", "frequency"] = Field(default="duty", description="what of the command asks for the speed")
