"""What the shaft moves: through a gear, a drum, wheel or pulley, or a screw."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings

Length = Annotated[float, Field(ge=1e-6, le=1e3, allow_inf_nan=False)]
Kilogram = Annotated[float, Field(ge=0, le=1e7, allow_inf_nan=False)]
Newton = Annotated[float, Field(ge=0, le=1e8, allow_inf_nan=False)]


class LoadSideSettings(TopicSettings):
    """Mechanism behind the motor's shaft, and what hangs on it."""

    kind: Literal["none", "wheel", "screw"] = Field(default="none", description="what makes travel of turns: nothing said, a drum, wheel or pulley, a screw")
    ratio: Annotated[float, Field(ge=1e-4, le=1e5)] = Field(default=1.0, description="turns of the motor for one of drum or screw")
    diameter: Length | None = Field(default=None, description="m, of drum, wheel or pulley, to the middle of rope or belt")
    falls: Annotated[int, Field(ge=1, le=64)] = Field(default=1, description="falls of rope that carry the load: it moves that many times slower")
    lead: Length | None = Field(default=None, description="m of travel for one turn of the screw")
    efficiency: Annotated[float, Field(ge=0.02, le=1)] | None = Field(default=None, description="of all between shaft and load; without loss if empty")
    mass: Kilogram | None = Field(default=None, description="kg that moves")
    force: Newton | None = Field(default=None, description="N that friction or work put against the motion")
    way: Literal["level", "vertical"] = Field(default="level", description="level, or vertical, where the mass hangs on it")
    velocity: Annotated[float, Field(ge=1e-9, le=1e4)] | None = Field(default=None, description="m/s that are wanted")
    unit: Literal["mm/s", "m/s", "m/min", "ft/min", "km/h"] = Field(default="m/min", description="in which velocities are shown")
