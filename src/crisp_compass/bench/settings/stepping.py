"""Open-loop stepping of a stepper."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

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

    presumable: ClassVar[tuple[str, ...]] = ("counts", "lost_after", "corrections", "slower", "settle")

    current: Ampere | None = Field(default=None, description="A rms a winding; rated if empty")
    microsteps: int = Field(default=16, ge=1, le=256, description="table entries a full step")
    ramp: Annotated[float, Field(ge=1e-3, le=1e7, allow_inf_nan=False)] = Field(default=200.0, description="rad/s²")
    idle: Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)] = Field(
        default=0.5, description="share of the current while it stands"
    )
    encoder: Literal["closes", "watches"] = Field(default="closes", description="what an encoder on the motor does: it closes the loops, or watches that the shaft follows a stepped field")
    counts: Literal["with", "against"] = Field(default="with", description="whether the watching encoder's counts rise as the field turns forwards", title="sense of the counts")
    lost_after: Annotated[float, Field(ge=0.25, le=8)] = Field(default=1.5, description="full steps between field and shaft from which on steps are lost", title="full steps until lost")
    corrections: int = Field(default=3, ge=0, le=100, description="times that a move is begun anew after lost steps, until it is a fault", title="corrections")
    slower: Annotated[float, Field(ge=0.05, le=1)] = Field(default=0.5, description="share of the acceleration for each time it is begun anew", title="slower after a correction")
    settle: Annotated[float, Field(ge=1e-3, le=10)] = Field(default=0.1, description="s for which the field stands before it is begun anew", title="settling", json_schema_extra={"unit": "s"})
    on_lost: Literal["off", "hold"] = Field(default="off", description="what the fault does: the bridge is off, or the field holds the shaft where it is")
    obstacle: Annotated[float, Field(ge=0, le=10)] = Field(default=0.2, description="s for which an obstacle stands in the way of the move that is tried")
    leads: Literal[4, 6, 8] = 4
    given: Literal["series", "parallel", "half"] = "series"
    ohms: dict[LeadPair, Resistance] = {}
