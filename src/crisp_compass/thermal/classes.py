"""Thermal classes of insulation and magnets over temperature.

The classes' letters and temperatures are those of IEC 60085, the rises by resistance in air of 40 °C those of IEC 60034-1 for machines above 600 W; both from memory. What a resistance tells is the winding's mean, 5 to 15 K
below its hottest spot.
"""

from __future__ import annotations

import math
from typing import Literal

Insulation = Literal["unknown", "A", "E", "B", "F", "H"]
#: Letter → (hottest spot °C, rise by resistance K).
CLASSES: dict[str, tuple[float, float]] = {"A": (105.0, 60.0), "E": (120.0, 75.0), "B": (130.0, 80.0), "F": (155.0, 105.0), "H": (180.0, 125.0)}
#: Air that the rises are meant for, °C.
COOLANT = 40.0
Material = Literal["unknown", "neodymium", "samarium-cobalt", "ferrite"]
#: Change of the remanence for each kelvin (common practice: reversible coefficients of magnet makers' sheets).
FLUX_PER_KELVIN: dict[str, float] = {"neodymium": -0.0011, "samarium-cobalt": -0.0004, "ferrite": -0.002}


def winding_limit(insulation: str) -> float | None:
    """Return the highest mean temperature [°C] of a winding of this class, None for an unknown one."""
    found = CLASSES.get(insulation)
    return None if found is None else COOLANT + found[1]


def own_cooling(speed_share: float, standstill: float) -> float:
    """Return by what factor a housing's thermal resistance grows where a fan on the shaft turns at ``speed_share`` of its rated speed.

    The conductance of a fan falls with the 0.7th power of the speed, down to the share ``standstill`` that still air keeps (common practice).
    """
    blown = math.pow(min(max(speed_share, 0.0), 1.0), 0.7)
    return 1.0 / (standstill + (1.0 - standstill) * blown)
