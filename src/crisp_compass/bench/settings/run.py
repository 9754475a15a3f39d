"""What the drive is run with."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere


class RunSettings(TopicSettings):
    """Reference in rad/s, load in N·m, limits of the first run.

    A load brakes whichever way the shaft turns, unless it ``drives`` (a weight): then it pulls one way, at rest too.
    """

    presumable: ClassVar[tuple[str, ...]] = ("i_limit", "i_trip", "v_min")

    speed: float = Field(default=100.0, ge=-2.1e5, le=2.1e5)
    load: float = Field(default=0.0, ge=-1e6, le=1e6)
    quadratic: float = Field(default=0.0, ge=0, le=1e3, description="N·m·s²/rad², of a propeller or pump")
    breakaway: float = Field(
        default=0.0,
        ge=0,
        le=1e6,
        description="N·m up to which the resting shaft sticks, where above the Coulomb friction",
    )
    swing: float = Field(default=0.0, ge=0, le=1e6, description="N·m, amplitude of a load torque that swings with the shaft's angle")
    swing_order: float = Field(default=1.0, ge=0.01, le=2000, description="times a turn of the motor's shaft that it swings")
    flywheel: float = Field(default=0.0, ge=0, le=1e4, description="kg·m² that turn with the shaft besides what mechanics has measured")
    holds: Literal["speed", "torque", "position"] = Field(default="speed", description="what the simulated drive is asked to hold")
    place: float = Field(default=0.0, ge=-6.3e6, le=6.3e6, description="rad of the shaft from where it was started, if position")
    torque: float = Field(default=0.0, ge=-1e6, le=1e6, description="N·m that it holds, if torque")
    drag_cancel: Ampere | None = Field(default=None, description="A peak that is added while a torque is held, to hide friction and cogging; none if empty")
    drag_way: Literal["turning", "forwards"] = Field(default="turning", description="whether it acts the way that the shaft turns, or always forwards, which keeps an overrunning clutch engaged")
    load_kind: Literal["brakes", "drives"] = "brakes"
    i_limit: Ampere = Field(default=5.0, description="A peak", title="current limit", json_schema_extra={"unit": "A"})
    i_trip: Ampere = Field(default=10.0, description="A peak", title="trip level", json_schema_extra={"unit": "A"})
    v_min: float = Field(default=10.0, ge=0, le=1500, description="V", title="minimum bus", json_schema_extra={"unit": "V"})
    v_max: float | None = Field(default=None, ge=1, le=2000, description="V, highest bus; none if empty", title="maximum bus", json_schema_extra={"unit": "V"})
    speed_trip: float | None = Field(
        default=None, ge=1e-3, le=2.1e5, description="rad/s at which it trips; none if empty", title="over-speed", json_schema_extra={"unit": "rad/s"})
    weakening: Ampere | None = Field(
        default=None, description="A peak that field weakening may take against the magnet; none if empty", title="field weakening", json_schema_extra={"unit": "A"})
    i_continuous: Ampere | None = Field(
        default=None, description="A peak that may flow for ever; no overload trip if empty", title="continuous current", json_schema_extra={"unit": "A"})
    overload_time: float = Field(
        default=2.0, ge=0.01, le=3600, description="s for which the current limit may flow until it trips", title="overload time", json_schema_extra={"unit": "s"})
    stall_time: float | None = Field(default=0.5, ge=0.01, le=60, description="s of full current at standstill until it trips; never if empty")
    temp_trip: float | None = Field(
        default=None, ge=-40, le=300, description="degC of the board's or winding's sensor; none if empty", title="temperature limit", json_schema_extra={"unit": "degC"})
    on_fault: Literal["coast", "brake"] = Field(default="coast", title="on a fault")
