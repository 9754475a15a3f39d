"""Inductance read with a meter between the terminals."""

from __future__ import annotations

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import Henry


class InductanceSettings(TopicSettings):
    """Line-to-line readings in H of the three pairs, the rotor where it stands."""

    uv: Henry | None = None
    vw: Henry | None = None
    wu: Henry | None = None
