"""How an induction motor is magnetized and fed."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere


class CircuitSettings(TopicSettings):
    """Magnetizing current, firmware, what it compensates, and the error of the rotor time constant that is tried."""

    settles: ClassVar[tuple[str, ...]] = ("magnetizing_current",)

    magnetizing_current: Ampere | None = Field(
        default=None, description="A peak; where empty what rated voltage and frequency give"
    )
    firmware: Literal["field-oriented", "volts-per-hertz"] = "field-oriented"
    boost_share: float = Field(default=1.0, ge=0, le=2, description="of I0·Rs, voltage at rest")
    slip_share: float = Field(default=0.7, ge=0, le=1, description="share of the slip that is compensated")
    rotor_error: float = Field(
        default=0.3, ge=-0.8, le=2, description="error of the firmware's rotor time constant that is tried"
    )
