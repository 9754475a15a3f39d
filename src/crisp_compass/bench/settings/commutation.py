"""What commutation is tried with."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere, Speed

Way = Literal["", "wanted", "other"]


class CommutationSettings(TopicSettings):
    """Turns by hand over an encoder capture; what a wrong angle, a held current and a pole search are tried with."""

    presumable: ClassVar[tuple[str, ...]] = ("magnet",)

    revolutions: float | None = Field(default=None, ge=0.01, le=1e9)
    lag: float = Field(
        default=0.087266463, ge=1e-4, lt=1.5, description="rad, electrical: lag that alignment may leave"
    )
    edge_speed: Speed | None = Field(default=None, description="rad/s at which hall edges are judged")
    pulse_current: Ampere | None = Field(default=None, description="A at the end of a search pulse")
    pulse_noise: float = Field(default=0.01, ge=0, le=1, description="noise of one reading over pulse_current")
    larger: Literal["lq", "ld"] = Field(default="lq", description="axis with the larger inductance")
    magnet: float = Field(default=0.05, ge=0, le=0.8, description="current towards over against the pole, less one", title="current towards the pole")
    seen: Way = Field(default="", description="way the shaft really turned in a slow forced turn")
    measured: Way = Field(default="", description="way the encoder showed")
    observed: Way = Field(default="", description="way the drive's observer showed")
