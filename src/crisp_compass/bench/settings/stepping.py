"""Open-loop stepping of a stepper."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere

LeadPair = Annotated[str, StringConstraints(pattern=r"^[1-8]-[1-8]$")]
Resistance = Annotated[float, Field(ge=0, le=1e13, allow_inf_nan=False)]


class SteppingSettings(TopicSettings):
    """Current table and ramp that a stepper is driven with where nothing measures its angle; its leads and how they are connected.

    ``given`` is the connection that the data sheet's R, L and current are of, ``ohms`` [Ω] what the meter read between two leads, by
    ``1-2`` (an open circuit is 1e12).
    """

    current: Ampere | None = Field(default=None, description="A rms a winding; rated if empty")
    microsteps: int = Field(default=16, ge=1, le=256, description="table entries a full step")
    ramp: Annotated[float, Field(ge=1e-3, le=1e7, allow_inf_nan=False)] = Field(default=200.0, description="rad/s²")
    idle: Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)] = Field(
        default=0.5, description="share of the current while it stands"
    )
    leads: Literal[4, 6, 8] = 4
    given: Literal["series", "parallel", "half"] = "series"
    ohms: dict[LeadPair, Resistance] = {}
