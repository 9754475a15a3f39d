"""Designed values as the bench keeps them."""

from __future__ import annotations

from pydantic import ValidationError

from crisp_compass.bench.base import Quantity
from crisp_compass.errors import Refusal


def quantities(values: dict[str, tuple[float, str]]) -> dict[str, Quantity]:
    """Return values with their units; raises Refusal where one is beyond what anything on a bench can be."""
    try:
        return {name: Quantity(value=value, unit=unit) for name, (value, unit) in values.items()}
    except ValidationError:
        raise Refusal(
            "with these constants the design gives figures that no firmware can hold", "check the settled constants"
        ) from None
