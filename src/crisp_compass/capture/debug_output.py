"""An analogue debug output of firmware: a quantity told as a voltage along a straight line, read both ways."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.errors import Refusal
from crisp_compass.quantities import UNITS, parse, show, to_si


@dataclass(frozen=True)
class DebugOutput:
    """``low`` and ``high`` are pairs of volts and of the quantity there, in ``unit`` (as the capture format has it)."""

    low: tuple[float, float]
    high: tuple[float, float]
    unit: str

    def __post_init__(self) -> None:
        """Refuse a line that tells nothing."""
        values = (*self.low, *self.high)
        if not all(map(math.isfinite, values)):
            raise Refusal("a figure of the debug output is missing", "say what stands at two voltages")
        if self.low[0] == self.high[0] or self.low[1] == self.high[1]:
            raise Refusal("both ends of the debug output are the same", "say what stands at two different voltages")

    @property
    def per_volt(self) -> float:
        """The quantity that one volt is."""
        return (self.high[1] - self.low[1]) / (self.high[0] - self.low[0])

    @property
    def zero(self) -> float:
        """The voltage at which the quantity is zero."""
        return self.low[0] - self.low[1] / self.per_volt

    def quantity(self, volts: float) -> float:
        """Return the quantity at a voltage."""
        return self.low[1] + (volts - self.low[0]) * self.per_volt

    def volts(self, quantity: float) -> float:
        """Return the voltage at a quantity."""
        return self.low[0] + (quantity - self.low[1]) / self.per_volt

    def told(self, text: str) -> str:
        """Return the other side of what is typed: ``1.9 V`` becomes the quantity, ``5 A`` the voltage. Raises Refusal for what is neither."""
        volts_first = self.unit != "V" and text.strip().lower().endswith("v")
        if volts_first:
            volts = parse(text, "V")
            return f"{show(volts, 'V', 4)} is {self._shown(self.quantity(volts))}{self._beyond(volts)}"
        si = parse(text, self.unit)
        volts = self.volts(si / to_si(1.0, self.unit) if self.unit in UNITS else si)
        return f"{self._shown(self.quantity(volts))} stands at {show(volts, 'V', 4)}{self._beyond(volts)}"

    def _shown(self, quantity: float) -> str:
        return f"{quantity:.4g} {self.unit}".replace("-", "−").rstrip()

    def _beyond(self, volts: float) -> str:
        ends = sorted((self.low[0], self.high[0]))
        return "" if ends[0] - 1e-9 <= volts <= ends[1] + 1e-9 else ", beyond its ends"

    @property
    def text(self) -> str:
        """What it is, as a probe is written."""
        return f"{self.per_volt:.6g} {self.unit}/V, zero at {self.zero:.6g} V".replace("-", "−")
