"""The angle sensor."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings


class SensorSettings(TopicSettings):
    """What tells the rotor's angle: nothing, halls, an incremental encoder (``counts_per_rev`` with ×4) or an absolute one; a tachometer
    tells the speed alone."""

    presumable: ClassVar[tuple[str, ...]] = ("counts_per_rev",)

    kind: Literal["none", "halls", "incremental", "absolute", "tachometer"] = "incremental"
    counts_per_rev: int = Field(default=4096, ge=4, le=2**31, description="encoder counts a turn, ×4")

    @property
    def is_encoder(self) -> bool:
        """Whether the angle is counted or read as a word."""
        return self.kind in ("incremental", "absolute")
