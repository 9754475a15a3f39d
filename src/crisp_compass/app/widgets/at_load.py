"""What the speeds of a text are at the load: a hint over every text that names some, once the load side is entered."""

from __future__ import annotations

import re

from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.quantities import from_si, significant

#: A figure as ``quantities.grouped`` writes it, or a range of two, before the unit.
_FIGURE = r"−?\d[\d\u202f]*(?:\.\d+)?"
_SPEEDS = re.compile(rf"({_FIGURE})(?: (?:to|and) ({_FIGURE}))? rpm")


class AtLoad:
    """The one travel and unit in which texts tell speeds of the shaft once more."""

    def __init__(self) -> None:
        self._travel: float | None = None
        self._unit = ""

    def follow(self, travel: float | None, unit: str) -> None:
        """Take the travel [m/rad] and the person's unit; None where nothing is said of the load."""
        self._travel, self._unit = travel, unit

    def told(self, text: str) -> str:
        """Return every speed of a text with its velocity, a line each; empty where there is none."""
        if self._travel is None or " rpm" not in text:
            return ""
        lines: dict[str, None] = {}
        for found in _SPEEDS.finditer(text):
            for figure in found.groups():
                if figure:
                    speed = float(figure.replace("\u202f", "").replace("−", "-")) / RPM_PER_RAD_S
                    lines[f"{figure} rpm = {significant(from_si(speed * self._travel, self._unit))} {self._unit} at the load"] = None
        return "\n".join(lines)


AT_LOAD = AtLoad()
