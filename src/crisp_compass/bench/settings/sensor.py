"""The angle sensor."""

from __future__ import annotations

from typing import Annotated, ClassVar

from pydantic import AfterValidator, Field, WithJsonSchema

from crisp_compass.bench.base import TopicSettings
from crisp_compass.sensing import SENSORS


def _known(kind: str) -> str:
    if kind not in SENSORS:
        raise ValueError(f"no sensor is called {kind}; there are {', '.join(sorted(SENSORS))}")
    return kind


class SensorSettings(TopicSettings):
    """What tells the rotor's angle: nothing, halls, an incremental encoder (``counts_per_rev`` with ×4) or an absolute one; a tachometer
    tells the speed alone."""

    presumable: ClassVar[tuple[str, ...]] = ("counts_per_rev",)

    kind: Annotated[str, AfterValidator(_known), WithJsonSchema({"type": "string", "enum": sorted(SENSORS)})] = "incremental"
    counts_per_rev: int = Field(default=4096, ge=4, le=2**31, description="encoder counts a turn, ×4", title="counts per turn")

    @property
    def is_encoder(self) -> bool:
        """Whether the angle is counted or read as a word."""
        return SENSORS[self.kind].counted
