"""A move to a position, and the loop that follows it."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Speed

#: rad of the motor's shaft: a million turns either way.
Distance = Annotated[float, Field(ge=-6.3e6, le=6.3e6, allow_inf_nan=False)]


class MotionSettings(TopicSettings):
    """The profile of a move from rest to rest, and the position loop."""

    presumable: ClassVar[tuple[str, ...]] = ("distance", "jog_slow", "jog_fast", "jog_step")
    settles: ClassVar[tuple[str, ...]] = ("speed", "accel", "rounding", "kv", "ahead", "follow_limit", "window")

    distance: Distance = Field(default=2 * math.pi, description="rad of the motor's shaft, with its sign, of the move that is tried", title="distance", json_schema_extra={"unit": "deg"})
    speed: Speed | None = Field(default=None, description="rad/s, of the shaft while it moves; the top speed if empty", title="speed of a move", json_schema_extra={"unit": "rad/s"})
    accel: Annotated[float, Field(ge=1e-3, le=1e8)] | None = Field(default=None, description="rad/s² from and to rest; the speed loop's ramp if empty", title="acceleration", json_schema_extra={"unit": "rad/s²"})
    rounding: float | None = Field(default=None, ge=1e-4, le=10, description="s in which the acceleration builds and fades; at once if empty", title="S-curve", json_schema_extra={"unit": "s"})
    kv: Annotated[float, Field(ge=1e-3, le=1e5)] | None = Field(default=None, description="1/s, gain of the position loop; the largest without overshoot if empty", title="position gain", json_schema_extra={"unit": "1/s"})
    ahead: float = Field(default=1.0, ge=0, le=1, description="share of the profile's speed that is fed ahead", title="speed fed ahead")
    low: Distance | None = Field(default=None, description="rad below which no point may lie; any if empty")
    high: Distance | None = Field(default=None, description="rad above which no point may lie; any if empty")
    pulse_way: Annotated[float, Field(ge=1e-9, le=6.3e3)] | None = Field(default=None, description="rad of the shaft for a pulse of the command; a count of the sensor if empty")
    gear_most: int = Field(default=65535, ge=1, le=2**31 - 1, description="largest integer of the drive's gear from pulses to counts")
    input_hz: Annotated[float, Field(ge=1, le=1e9)] | None = Field(default=None, description="Hz that the pulse input takes at most")
    input_shortest: Annotated[float, Field(ge=1e-9, le=1)] | None = Field(default=None, description="s, shortest pulse and pause that it takes")
    pulse_form: Literal["step-direction", "two-trains", "quadrature"] = Field(default="step-direction", description="how a way is commanded: pulses and a direction, a train of pulses for each direction, or two tracks a quarter apart")
    input_setup: Annotated[float, Field(ge=0, le=1)] | None = Field(default=None, description="s for which the direction must stand before a pulse, or the pause between two trains")
    input_filter: Annotated[float, Field(ge=1e-9, le=1)] | None = Field(default=None, description="s below which its filter swallows a pulse")
    window: Annotated[float, Field(ge=1e-8, le=6.3e6)] | None = Field(default=None, description="rad, standing window: a shaft that ended its move within it is left alone; none if empty", title="standing window", json_schema_extra={"unit": "deg"})
    jog_slow: Speed = Field(default=2.0, description="rad/s of the shaft while it is jogged", title="slow jog", json_schema_extra={"unit": "rad/s"})
    jog_fast: Speed = Field(default=20.0, description="rad/s of the shaft while it is jogged with Shift", title="fast jog", json_schema_extra={"unit": "rad/s"})
    jog_step: Annotated[float, Field(gt=0, le=6.3e6)] = Field(default=0.1 * math.pi, description="rad of the shaft of a single step", title="single step", json_schema_extra={"unit": "deg"})
    follow_limit: Annotated[float, Field(ge=1e-6, le=6.3e6)] | None = Field(default=None, description="rad of following error at which it trips; none if empty", title="following error that trips", json_schema_extra={"unit": "deg"})
