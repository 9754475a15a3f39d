"""What the instruments are trusted to."""

from __future__ import annotations

from pydantic import Field

from crisp_compass.bench.base import TopicSettings


class InstrumentSettings(TopicSettings):
    """What the instruments are trusted to, standard uncertainties: gains over the reading, offsets in V and A.

    The defaults are typical of a bench scope with probes and a current clamp, and of a handheld meter (common practice); the
    data sheets of the instruments have better ones.
    """

    v_gain: float = Field(default=0.01, ge=0, le=0.5, description="voltage channel's gain, u over the reading")
    i_gain: float = Field(default=0.01, ge=0, le=0.5, description="current channel's gain, u over the reading")
    meter_gain: float = Field(default=0.004, ge=0, le=0.5, description="ohmmeter's gain, u over the reading")
    meter_contact: float = Field(default=0.004, ge=0, le=1e3, description="Ω, u of the contacts of one reading")
    speed_gain: float = Field(default=0.002, ge=0, le=0.5, description="tachometer's gain, u over the reading")
