"""What all models of the bench file rest on."""

from __future__ import annotations

from typing import Annotated, ClassVar, Self

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, model_validator

from crisp_compass.bench.ranges import Finite
from crisp_compass.quantities import UNITS

#: Key of a waypoint that settles something; which there are, the registry of waypoints says.
Topic = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z_]{0,20}$")]


class Frozen(BaseModel):
    """A model that is replaced, never changed, and that knows all of its fields."""

    model_config = ConfigDict(frozen=True, extra="forbid")


class TopicSettings(Frozen):
    """What the fields of one topic hold.

    ``presumable`` fields state a fact of this bench's hardware: their defaults are presumed until somebody says that they are
    right. ``settles`` are the fields that settling the topic is made from; a dotted one belongs to another topic.
    """

    presumable: ClassVar[tuple[str, ...]] = ()
    settles: ClassVar[tuple[str, ...]] = ()


class Quantity(Frozen):
    """A value with unit and, where it was estimated, its standard uncertainty and 95 % interval."""

    value: Finite
    unit: str
    u: Finite | None = None
    u_repeat: Finite | None = Field(
        default=None, description="the part of u that a repeat with the same instruments shows"
    )
    interval95: tuple[Finite, Finite] | None = None

    @model_validator(mode="after")
    def _possible(self) -> Self:
        if self.unit not in UNITS:
            raise ValueError(f"the unit “{self.unit[:20]}” is unknown")
        if self.u is not None and self.u < 0:
            raise ValueError("an uncertainty cannot be negative")
        if self.interval95 is not None and self.interval95[0] > self.interval95[1]:
            raise ValueError("the interval's lower limit exceeds its upper limit")
        return self
