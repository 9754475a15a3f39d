"""What motor, gear, sensor and supply stand, beside what plate and drive say."""

from __future__ import annotations

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere, Bus, Name, Speed, TorqueSome, Watt


class LimitSettings(TopicSettings):
    """Reasons for a limit, each empty where nobody says one; and why a limit was set above its reason."""

    motor_peak: Ampere | None = Field(default=None, description="A peak that the motor bears for a moment")
    magnet_current: Ampere | None = Field(default=None, description="A peak from which the magnet is weakened for good")
    gear_torque: TorqueSome | None = Field(default=None, description="N·m at the motor's shaft that gear or coupling bears for a moment")
    gear_lasting: TorqueSome | None = Field(default=None, description="N·m at the motor's shaft that gear or coupling bears for ever")
    rotor_speed: Speed | None = Field(default=None, description="rad/s at which the rotor may burst, or the bearings fail")
    gear_speed: Speed | None = Field(default=None, description="rad/s, highest at the gear's input")
    sensor_hz: float | None = Field(default=None, ge=1, le=1e9, description="Hz of one of the encoder's channels that its input counts")
    supply_power: Watt | None = Field(default=None, description="W that supply or battery gives")
    taken_back: Watt | None = Field(default=None, description="W that supply or battery takes back while a motor brakes")
    drive_bus: Bus | None = Field(default=None, description="V of the bus that the drive's bridge and capacitors stand")
    because: Name = Field(default="", description="why a limit was set above its reason")
