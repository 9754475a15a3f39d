"""A shaft that twists between motor and load: what stands behind it, and how it gives."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Loop

Share = Annotated[float, Field(ge=0.01, le=0.99, allow_inf_nan=False)]


class CouplingSettings(TopicSettings):
    """Resonance with the shaft free at both ends, share of the inertia behind the coupling; rigid while either is empty."""

    resonance_hz: Loop | None = Field(default=None, description="frequency at which motor and load swing against each other; rigid if empty")
    load_share: Share | None = Field(default=None, description="part of the whole inertia that stands behind the coupling; rigid if empty")
    damping: float = Field(default=0.02, ge=0.0005, le=0.9, description="damping ratio of the resonance")
    backlash: float = Field(default=0.0, ge=0, le=0.5, description="rad of play of the coupling, at the motor's shaft")
