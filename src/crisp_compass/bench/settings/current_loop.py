"""How the current loop is designed and tried."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Ampere, Loop, Volt


class CurrentSettings(TopicSettings):
    """Design crossover in Hz, whole delay in periods, size of the shown step in A."""

    presumable: ClassVar[tuple[str, ...]] = ("bits",)
    settles: ClassVar[tuple[str, ...]] = (
        "method",
        "bandwidth_hz",
        "damping",
        "delay_samples",
        "commutation",
        "advance",
    )

    method: Literal["bandwidth", "modulus-optimum", "placement"] = Field(default="bandwidth", title="method")
    bandwidth_hz: Loop = Field(default=1000.0, title="bandwidth", json_schema_extra={"unit": "Hz"})
    damping: float = Field(default=0.8, ge=0.3, le=1, description="of the placed pole pair", title="damping")
    delay_samples: float = Field(default=1.5, ge=0.5, le=20, title="delay in samples")
    commutation: Literal["sinusoidal", "block"] = Field(default="sinusoidal", title="commutation")
    advance: float = Field(
        default=0.0, ge=0, le=1.05, description="rad, electrical: six-step ahead of the sector's edge", title="advance", json_schema_extra={"unit": "deg"})
    step: Ampere = Field(default=1.0)
    saturation: float = Field(default=0.0, ge=0, lt=0.9, description="share of L lost at the step, at most")
    sag: float = Field(default=0.1, ge=0, lt=0.9, description="share of the bus lost, at most")
    cold: float = Field(default=10.0, ge=-60, le=200, description="°C, coldest winding")
    hot: float = Field(default=110.0, ge=-60, le=250, description="°C, hottest winding")
    trial_kp: float | None = Field(default=None, ge=1e-9, le=1e7, description="V/A that ran when a step was captured")
    trial_ki: float | None = Field(default=None, ge=1e-9, le=1e11, description="V/(A·s) that ran then")
    trial_current: Ampere | None = Field(default=None, description="A, test current of the drive's own tuning")
    i_base: Ampere | None = Field(
        default=None, description="A at full scale of the firmware's word; from the trip level if empty", title="full-scale current", json_schema_extra={"unit": "A"})
    v_base: Volt | None = Field(default=None, description="V at full scale; from the bus if empty", title="full-scale voltage", json_schema_extra={"unit": "V"})
    bits: int = Field(default=16, ge=8, le=32, title="word length")
    kp_integer: int | None = Field(default=None, ge=1, le=2**40, description="Kp as found in the firmware")
    kp_shift: int = Field(default=0, ge=0, le=31)
    ki_integer: int | None = Field(
        default=None, ge=1, le=2**40, description="Ki as found in the firmware, sampling period inside"
    )
    ki_shift: int = Field(default=0, ge=0, le=31)
