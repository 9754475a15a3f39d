"""How the resistance is read."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings


class ResistanceSettings(TopicSettings):
    """Temperatures in °C, one lead of the cable in Ω."""

    temperature: float | None = Field(default=None, ge=-273.15, le=1000)
    reference: float = Field(default=20.0, ge=-273.15, le=1000)
    rule: Literal["iec", "ieee"] = "iec"
    cable: float = Field(default=0.0, ge=0, le=1e4)
    meter_resolution: float | None = Field(default=None, ge=1e-9, le=1e6, description="Ω, last digit of the meter")
