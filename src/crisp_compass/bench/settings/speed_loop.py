"""How the speed loop is designed."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Loop, Speed


class SpeedSettings(TopicSettings):
    """Factor a of the symmetrical optimum or crossover in Hz, filter in Hz, loop divider, step in rad/s."""

    settles: ClassVar[tuple[str, ...]] = (
        "method",
        "a",
        "bandwidth_hz",
        "filter_hz",
        "divider",
        "ramp",
        "lowest_speed",
        "compensation",
        "set_point",
    )

    method: Literal["symmetric-optimum", "bandwidth"] = "symmetric-optimum"
    a: float = Field(default=3.0, ge=1.05, le=50)
    bandwidth_hz: Loop = Field(default=30.0)
    filter_hz: Loop | None = Field(
        default=None,
        description="300 Hz if empty; where the armature's voltage tells the speed the largest up to there that leaves the loop calm",
    )
    divider: int = Field(default=10, ge=1, le=1000)
    ramp: float = Field(default=2000.0, ge=1e-3, le=1e8, description="rad/s²")
    compensation: float = Field(
        default=0.5,
        ge=0,
        le=0.8,
        description="share of the armature's drop that is compensated where its voltage tells the speed",
    )
    set_point: Literal["plain", "filtered"] = Field(default="plain", description="whether the reference passes a filter of the loop's own Ti")
    trial_kp: float | None = Field(default=None, ge=1e-12, le=1e7, description="A/(rad/s) that ran when a response was captured")
    trial_ki: float | None = Field(default=None, ge=1e-12, le=1e9, description="A/rad that ran when a response was captured")
    lowest_speed: Speed | None = Field(
        default=None, description="rad/s, lowest speed to be held with halls; a tenth of top speed where empty"
    )
