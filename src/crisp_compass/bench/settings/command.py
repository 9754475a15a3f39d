"""How the drive is told its speed."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from crisp_compass.bench.base import Frozen, TopicSettings
from crisp_compass.bench.ranges import Finite, Speed

Volts = Annotated[float, Field(ge=-100, le=100, allow_inf_nan=False)]
Amps = Annotated[float, Field(ge=0, le=0.1, allow_inf_nan=False)]
Hertz = Annotated[float, Field(ge=0, le=1e7, allow_inf_nan=False)]
Part = Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)]
SpeedOrBack = Annotated[float, Field(ge=-2.1e5, le=2.1e5, allow_inf_nan=False)]


class CommandPoint(Frozen):
    """A command in its own unit, and the speed [rad/s] that was read with it."""

    command: Finite
    speed: Finite


class CommandSettings(TopicSettings):
    """Source and span of a speed command, what it means in rad/s, and points that were read."""

    source: Literal["volts", "current", "frequency", "duty", "potentiometer"] = "volts"
    volts_low: Volts = Field(default=0.0, description="V")
    volts_high: Volts = Field(default=10.0, description="V")
    amps_low: Amps = Field(default=0.004, description="A")
    amps_high: Amps = Field(default=0.020, description="A")
    hertz_low: Hertz = Field(default=0.0, description="Hz")
    hertz_high: Hertz = Field(default=10e3, description="Hz")
    duty_low: Part = Field(default=0.1)
    duty_high: Part = Field(default=0.9)
    speed_low: SpeedOrBack = Field(default=0.0, description="rad/s at the low end")
    speed_high: SpeedOrBack | None = Field(default=None, description="rad/s at the high end; top speed of the plate if empty")
    bits: int = Field(default=12, ge=1, le=24, description="of the converter over its whole range")
    dead_band: Part = Field(default=0.0, description="share of the span around standstill that counts as none")
    ramp_time: float = Field(default=1.0, ge=0, le=3600, description="s")
    ramp_speed: Speed | None = Field(default=None, description="rad/s over which the ramp's time counts; the high end if empty")
    safe_speed: Speed | None = Field(default=None, description="rad/s that the machine may reach, at its own shaft; none if empty")
    gear: float = Field(default=1.0, ge=1e-4, le=1e4, description="turns of the motor for one of the machine")
    enable: Literal["level", "edge"] = Field(default="edge", description="edge: it runs only once enable is given anew")
    points: tuple[CommandPoint, ...] = Field(default=(), max_length=24)
