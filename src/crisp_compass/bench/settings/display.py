"""What a drive's display shows of the speed, and what an existing controller does to it beside its loop."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from crisp_compass.bench.base import Frozen, TopicSettings
from crisp_compass.bench.ranges import Speed

Shown = Annotated[float, Field(ge=1e-6, le=1e6, allow_inf_nan=False)]


class Trim(Frozen):
    """A potentiometer or setting of an existing controller: where it was found, where it does nothing, and where it stands now."""

    name: str = Field(max_length=40)
    found: str = Field(default="", max_length=40)
    neutral: str = Field(default="", max_length=40)
    stands: Literal["as found", "neutral", "put back"] = "as found"


class Ramp(Frozen):
    """A ramp somewhere between the command and the loop: seconds over a speed [rad/s; the top speed if empty]."""

    where: str = Field(max_length=40)
    seconds: float = Field(default=0.0, ge=0, le=3600, description="s; 0: none")
    speed: Speed | None = Field(default=None, description="rad/s over which they count")


class DisplaySettings(TopicSettings):
    """The unit of a display, what it shows at one speed, and how many figures it has."""

    unit: str = Field(default="rpm", max_length=12)
    shows: Shown | None = Field(default=None, description="figure at the speed below")
    at: Speed | None = Field(default=None, description="rad/s of the motor at which it is shown; the top speed if empty")
    decimals: int = Field(default=0, ge=0, le=4)
    figures: int = Field(default=4, ge=1, le=8)
    trims: tuple[Trim, ...] = Field(default=(), max_length=24)
    ramps: tuple[Ramp, ...] = Field(default=(), max_length=6)
