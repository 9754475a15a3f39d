"""Supply and drive."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere, Bus


class SupplySettings(TopicSettings):
    """Supply and drive. Drive currents in ``drive_base``."""

    presumable: ClassVar[tuple[str, ...]] = ("mains_v", "command_volts")

    source: Literal["bench", "battery", "mains"] = "bench"
    current_limit: Ampere | None = Field(default=None, description="A, set at the bench supply")
    v_full: Bus | None = Field(default=None, description="V, battery charged")
    v_empty: Bus | None = Field(default=None, description="V, battery empty")
    mains_v: float = Field(default=230.0, ge=1, le=1000, description="V rms between the rectifier's leads", title="mains voltage", json_schema_extra={"unit": "V"})
    mains_hz: Literal[50, 60] = 50
    drive_continuous: Ampere | None = Field(default=None, description="A")
    drive_peak: Ampere | None = Field(default=None, description="A")
    drive_base: Literal["peak", "rms"] = "rms"
    command_volts: float = Field(default=10.0, ge=0.1, le=100, description="V that ask for top speed", title="command at top speed", json_schema_extra={"unit": "V"})
