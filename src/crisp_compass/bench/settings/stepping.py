"""Open-loop stepping of a stepper."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere


class SteppingSettings(TopicSettings):
    """Current table and ramp that a stepper is driven with where nothing measures its angle."""

    current: Ampere | None = Field(default=None, description="A rms a winding; rated if empty")
    microsteps: int = Field(default=16, ge=1, le=256, description="table entries a full step")
    ramp: Annotated[float, Field(ge=1e-3, le=1e7, allow_inf_nan=False)] = Field(default=200.0, description="rad/s²")
    idle: Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)] = Field(
        default=0.5, description="share of the current while it stands"
    )
