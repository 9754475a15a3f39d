"""What pages show things at: nothing of it is designed with, settled or exported."""

from __future__ import annotations

from pydantic import Field

from crisp_compass.bench.base import TopicSettings


class ViewSettings(TopicSettings):
    """Voltage and angle that the PWM pages draw, and the angle error that is tried."""

    modulation_depth: float = Field(default=0.6, ge=0, le=1, description="voltage shown, of the linear limit")
    voltage_angle: float = Field(
        default=0.5, ge=-100, le=100, description="rad, electrical angle of the voltage shown"
    )
    wrong_angle: float = Field(default=0.0, ge=-3.1416, le=3.1416, description="rad, electrical: angle error tried")
