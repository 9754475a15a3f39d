"""A speed loop around a controller that is there already."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Finite, Loop

Span = Annotated[float, Field(ge=1e-6, le=1e4, allow_inf_nan=False)]


class OuterLoopSettings(TopicSettings):
    """Two measured points of the existing controller, its inner range, and where trims and limits stand.

    A voltage controller answers its command with a speed, a current controller with a current.
    """

    inner: Literal["voltage", "current"] = "voltage"
    command1: Finite | None = Field(default=None, description="V, command at the first point")
    speed1: Finite | None = Field(default=None, description="rad/s, speed at the first point (voltage controller)")
    current1: Finite | None = Field(default=None, description="A, current at the first point (current controller)")
    command2: Finite | None = Field(default=None, description="V, command at the second point")
    speed2: Finite | None = Field(default=None, description="rad/s, speed at the second point")
    current2: Finite | None = Field(default=None, description="A, current at the second point")
    most: Span = Field(default=10.0, description="V, largest command that the controller takes")
    answer_time: float = Field(
        default=0.1,
        ge=1e-5,
        le=1e3,
        allow_inf_nan=False,
        description="s, to 63 % after a command step (voltage controller)",
    )
    bandwidth_hz: Loop = Field(default=2.0)
    trims: Literal["as-found", "neutral"] = "as-found"
    limits: Literal["as-found", "opened", "put-back"] = "as-found"
