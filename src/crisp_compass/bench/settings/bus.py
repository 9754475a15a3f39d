"""The link between supply and bridge: what it stores, whether the supply takes power back, and what burns what it does not."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere, Bus, Watt

Farad = Annotated[float, Field(ge=1e-9, le=100, allow_inf_nan=False)]
SomeOhm = Annotated[float, Field(ge=1e-3, le=1e5, allow_inf_nan=False)]
Seconds = Annotated[float, Field(ge=1e-3, le=1e6, allow_inf_nan=False)]


class BusSettings(TopicSettings):
    """Link capacitor in F (empty: the supply holds the bus whatever comes back), source, brake resistor, fold-back, power either way."""

    capacitance: Farad | None = Field(default=None, description="F, of the link; the supply holds the bus if empty")
    sinks: Literal["by-kind", "yes", "no"] = Field(default="by-kind", description="whether the supply takes power back: a battery does, a bench supply and a rectifier do not")
    rectifier: Literal["none", "one-phase", "three-phase"] = Field(default="none", description="whether the supply is a rectifier on the mains, whose voltage ripples and takes nothing back")
    source_ohm: SomeOhm = Field(default=0.05, description="Ω, of the supply with its leads")
    brake_ohm: SomeOhm | None = Field(default=None, description="Ω of the brake resistor; none if empty")
    brake_on: Bus | None = Field(default=None, description="V above which the resistor is switched on")
    brake_watt: Watt | None = Field(default=None, description="W that the resistor takes for ever")
    brake_most: Ampere | None = Field(default=None, description="A that the brake's switch bears")
    stops_every: Seconds | None = Field(default=None, description="s from one stop to the next; rarely if empty")
    fold_start: Bus | None = Field(default=None, description="V from which braking torque is taken back")
    fold_end: Bus | None = Field(default=None, description="V at which nothing of it is left")
    low_start: Bus | None = Field(default=None, description="V below which driving torque is taken back")
    low_end: Bus | None = Field(default=None, description="V at which nothing of it is left")
    power_from: Watt | None = Field(default=None, description="W that the speed loop takes from the supply at most; any if empty")
    power_into: Watt | None = Field(default=None, description="W that it gives back at most while it brakes; any if empty")
