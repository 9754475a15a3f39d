"""How the flux is read."""

from __future__ import annotations

from pydantic import Field

from crisp_compass.bench.base import TopicSettings


class FluxSettings(TopicSettings):
    """Whole turns of the shaft counted by hand over the capture."""

    turns: float | None = Field(default=None, ge=0.01, le=1e9)
