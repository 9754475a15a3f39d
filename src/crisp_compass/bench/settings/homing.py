"""How a place is found again after power-on."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere, Speed
from crisp_compass.bench.settings.motion import Distance

Way = Annotated[float, Field(ge=0, le=6.3e6, allow_inf_nan=False)]
Moment = Annotated[float, Field(ge=1e-6, le=1, allow_inf_nan=False)]


class HomingSettings(TopicSettings):
    """What tells a place, and how it is approached; ways in rad and speeds in rad/s of the motor's shaft."""

    presumable: ClassVar[tuple[str, ...]] = ("fast", "slow", "scan", "index_at", "begin", "travel", "hold", "contact")

    reference: Literal["home-switch", "negative-limit", "positive-limit", "index", "negative-stop", "positive-stop", "here"] = Field(default="here", description="what tells the place; here: where it is switched on")
    active: Literal["positive", "negative"] = Field(default="positive", description="side of its edge on which a home switch is active")
    side: Literal["leaving", "entering"] = Field(default="leaving", description="whether the place is found as the switch is left, or as it is entered")
    ends: Literal["index", "edge"] = Field(default="index", description="what the place is: the encoder's next index beyond the edge, or the edge itself")
    contact: Literal["open", "closed"] = Field(default="closed", description="the switch's contact while it is not active: normally open or normally closed; a broken wire is seen with a closed one only", title="switch's contact")
    toward: Literal["positive", "negative"] = Field(default="negative", description="way in which an index alone is sought")
    fast: Speed = Field(default=20.0, description="rad/s while the switch is sought", title="fast speed", json_schema_extra={"unit": "rad/s"})
    slow: Speed = Field(default=2.0, description="rad/s at which the place is found", title="slow speed", json_schema_extra={"unit": "rad/s"})
    scan: Moment = Field(default=1e-3, description="s between two looks at the switch", title="time between two looks", json_schema_extra={"unit": "s"})
    hysteresis: Way = Field(default=0.0, description="rad between its switching on and off")
    scatter: Way = Field(default=0.0, description="rad, spread (standard deviation) of the switch itself")
    index_at: float = Field(default=0.5, ge=0, le=1, description="part of a turn from the edge to the next index, in the way of the approach", title="index after the switch")
    room: Way | None = Field(default=None, description="rad of travel behind the edge up to the stop; not looked at if empty")
    push: Ampere | None = Field(default=None, description="A peak against a hard stop, above which it is taken for found; half of the current limit if empty")
    hold: Moment = Field(default=0.05, description="s for which that current must stand against the stop", title="standing before the stop counts", json_schema_extra={"unit": "s"})
    travel: Annotated[float, Field(ge=1e-3, le=6.3e6)] = Field(default=200 * math.pi, description="rad after which it gives up", title="travel", json_schema_extra={"unit": "deg"})
    begin: Distance = Field(default=-4 * math.pi, description="rad from the edge at which it begins", title="place where it begins", json_schema_extra={"unit": "deg"})
