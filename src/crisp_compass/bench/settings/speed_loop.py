"""How the speed loop is designed."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Loop, Speed


class SpeedSettings(TopicSettings):
    """How the gains are made, what stands before and behind them, loop divider; frequencies in Hz."""

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
        "set_weight",
        "rounding",
        "feed_forward",
        "damping",
        "noise_share",
        "low_pass_hz",
        "notch_hz",
        "notch_width",
        "notch_depth",
        "slow_below",
        "slow_share",
    )

    method: Literal["symmetric-optimum", "bandwidth", "placement", "stiffest"] = Field(default="symmetric-optimum", title="method")
    a: float = Field(default=3.0, ge=1.05, le=50, title="factor a")
    bandwidth_hz: Loop = Field(default=30.0, title="bandwidth", json_schema_extra={"unit": "Hz"})
    damping: float = Field(default=0.9, ge=0.3, le=1.5, description="of the placed pair of poles", title="damping")
    noise_share: float = Field(
        default=0.02, ge=1e-4, le=0.5, description="of the rated current that the sensor's steps may put into the torque current, rms while turning", title="allowed ripple")
    low_pass_hz: Loop | None = Field(default=None, description="corner of a low-pass of the torque current; none if empty", title="low-pass", json_schema_extra={"unit": "Hz"})
    notch_hz: Loop | None = Field(default=None, description="frequency of a notch in the torque current; none if empty", title="notch", json_schema_extra={"unit": "Hz"})
    notch_width: float = Field(default=0.5, ge=0.02, le=3, description="of the notch over its frequency", title="notch width")
    notch_depth: float = Field(default=0.1, ge=0, le=0.9, description="share that is left at the notch's frequency", title="notch depth")
    filter_hz: Loop | None = Field(
        default=None,
        description="300 Hz if empty; where the armature's voltage tells the speed the largest up to there that leaves the loop calm", title="filter", json_schema_extra={"unit": "Hz"})
    divider: int = Field(default=10, ge=1, le=1000, title="loop divider")
    ramp: float = Field(default=2000.0, ge=1e-3, le=1e8, description="rad/s²", title="ramp", json_schema_extra={"unit": "rad/s²"})
    compensation: float = Field(
        default=0.5,
        ge=0,
        le=0.8,
        description="share of the armature's drop that is compensated where its voltage tells the speed", title="compensation")
    set_point: Literal["plain", "filtered"] = Field(default="plain", description="whether the reference passes a filter of the loop's own Ti", title="set-point")
    set_weight: float = Field(default=0.0, ge=0, le=0.95, description="share of the reference that passes by its filter", title="share that passes by")
    rounding: float | None = Field(default=None, ge=1e-4, le=60, description="s in which the ramp's acceleration builds and fades; at once if empty", title="S-curve", json_schema_extra={"unit": "s"})
    feed_forward: Literal["none", "inertia", "friction", "both"] = Field(
        default="none", description="what is asked of the torque ahead of the loop: for the reference's acceleration, for friction at its speed, for both", title="ahead of the loop")
    trial_kp: float | None = Field(default=None, ge=1e-12, le=1e7, description="A/(rad/s) that ran when a response was captured")
    trial_ki: float | None = Field(default=None, ge=1e-12, le=1e9, description="A/rad that ran when a response was captured")
    lowest_speed: Speed | None = Field(
        default=None, description="rad/s, lowest speed to be held with halls; a tenth of top speed where empty", title="lowest speed", json_schema_extra={"unit": "rad/s"})
    w_base: Speed | None = Field(default=None, description="rad/s that the largest integer stands for; a round figure above the top speed if empty")
    kp_integer: int | None = Field(default=None, ge=1, le=2**40, description="Kp as the firmware holds it")
    kp_shift: int = Field(default=0, ge=0, le=31, description="right shift of it")
    ki_integer: int | None = Field(default=None, ge=1, le=2**40, description="Ki, its period inside, as the firmware holds it")
    ki_shift: int = Field(default=0, ge=0, le=31, description="right shift of it")
    slow_below: Speed | None = Field(default=None, description="rad/s below which the loop is slower; one set of gains if empty", title="slower below", json_schema_extra={"unit": "rad/s"})
    slow_share: float = Field(default=0.5, ge=0.02, le=1, description="share of the bandwidth that it has there: Kp times it, Ki times its square", title="slower share")
