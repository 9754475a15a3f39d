"""How an induction motor is magnetized and fed."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere, Speed, SpeedOrRest


class CircuitSettings(TopicSettings):
    """Magnetizing current, firmware, what it compensates, and the error of the rotor time constant that is tried."""

    settles: ClassVar[tuple[str, ...]] = ("magnetizing_current",)

    magnetizing_current: Ampere | None = Field(
        default=None, description="A peak; where empty what rated voltage and frequency give", title="magnetizing current", json_schema_extra={"unit": "A"})
    firmware: Literal["field-oriented", "volts-per-hertz"] = "field-oriented"
    boost_share: float = Field(default=1.0, ge=0, le=2, description="of I0·Rs, voltage at rest")
    slip_share: float = Field(default=0.7, ge=0, le=1, description="share of the slip that is compensated")
    hand_over: Speed | None = Field(default=None, description="rad/s from which the flux is told without a sensor; as proposed if empty")
    forced_share: float = Field(default=1.5, ge=0.3, le=4, description="of the magnetizing current, turned at a forced angle below that speed")
    stator_doubt: float = Field(default=0.2, ge=0, le=1, description="share by which the stator's resistance may be off, warm or cold")
    lowest_needed: SpeedOrRest | None = Field(default=None, description="rad/s, lowest speed that must pull its load")
    field_off: float | None = Field(default=None, ge=0.01, le=1e4, description="s at rest after which the field is let go; kept if empty")
    rotor_error: float = Field(
        default=0.3, ge=-0.8, le=2, description="error of the firmware's rotor time constant that is tried"
    )
