"""What the drive's own auto-tune found."""

from __future__ import annotations

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Henry, Ohm, Weber


class AutoTuneSettings(TopicSettings):
    """What the drive held before and after its own auto-tune, per phase of the star: Ω, H, Wb."""

    resistance_before: Ohm | None = Field(default=None)
    resistance_after: Ohm | None = Field(default=None)
    inductance_before: Henry | None = Field(default=None)
    inductance_after: Henry | None = Field(default=None)
    flux_before: Weber | None = Field(default=None)
    flux_after: Weber | None = Field(default=None)
