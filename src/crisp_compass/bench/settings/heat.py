"""What heats and cools the motor, and the duty it is asked for."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere

KelvinPerWatt = Annotated[float, Field(ge=1e-5, le=1e4, allow_inf_nan=False)]
Long = Annotated[float, Field(ge=1e-2, le=1e6, allow_inf_nan=False)]
Celsius = Annotated[float, Field(ge=-60, le=400, allow_inf_nan=False)]


class HeatSettings(TopicSettings):
    """Thermal constants as data sheets give them, limits, surroundings; the duty."""

    presumable: ClassVar[tuple[str, ...]] = ("ambient",)

    insulation: Literal["unknown", "A", "E", "B", "F", "H"] = Field(default="unknown", description="thermal class of the winding's insulation")
    limit: Celsius | None = Field(default=None, description="degC that the winding may have, where the maker or a magnet says less than the class; by the class if empty")
    ambient: Annotated[float, Field(ge=-60, le=120)] = Field(default=40.0, description="degC of the air around the motor", title="ambient temperature", json_schema_extra={"unit": "degC"})
    to_housing: KelvinPerWatt | None = Field(default=None, description="K/W from winding to housing")
    to_air: KelvinPerWatt | None = Field(default=None, description="K/W from housing to air, as mounted")
    winding_time: Long | None = Field(default=None, description="s, thermal time constant of the winding")
    housing_time: Long | None = Field(default=None, description="s, thermal time constant of the motor")
    cooling: Literal["still", "own", "forced"] = Field(default="still", description="what moves the air: nothing, a fan on the shaft, a fan of its own")
    standstill: Annotated[float, Field(ge=0.05, le=1)] = Field(default=0.4, description="share of the cooling that is left at standstill with a fan on the shaft")
    magnet: Literal["unknown", "neodymium", "samarium-cobalt", "ferrite"] = Field(default="unknown", description="material of the magnets")
    duty: Literal["S1", "S2", "S3"] = Field(default="S1", description="duty: for ever, once from cold, repeated")
    current: Ampere | None = Field(default=None, description="A peak under load; the rated current if empty")
    rest_current: Annotated[float, Field(ge=0, le=1e5)] = Field(default=0.0, description="A peak while the load rests, to hold it or to make a flux")
    speed: Annotated[float, Field(ge=0, le=2.1e5)] | None = Field(default=None, description="rad/s under load; the speed of Run if empty")
    on_time: Long = Field(default=60.0, description="s under load")
    period: Long = Field(default=600.0, description="s from one load to the next")
