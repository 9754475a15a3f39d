"""Channels of a drive in plots by what they are: voltages with voltages, currents with currents, levels above one another."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike
from PySide6.QtWidgets import QGridLayout, QWidget

from crisp_compass.app.widgets.plot import Plot
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.quantities import grouped, show

_TOKENS = ("magenta", "deep", "ochre", "moss", "ink")
_DASHES = ("solid", "dash", "dot")
#: Plots by the unit of SI of what they show: its name, the unit of the axis, what a value is multiplied with; levels, and whatever else there is, last.
_PANES = {
    "A": ("current", "A", 1.0), "V": ("voltage", "V", 1.0), "rad/s": ("speed", "rpm", RPM_PER_RAD_S), "rad": ("angle", "deg", math.degrees(1.0)), "W": ("power", "W", 1.0),
    "N·m": ("torque", "N·m", 1.0), "value": ("value", "", 1.0), "level": ("level", "", 1.0),
}  # fmt: skip
#: Distance of one level from the next; plots that still stand one above the other.
_APART, _STACKED = 1.5, 3


@dataclass(frozen=True)
class Shown:
    """A channel that is shown: its name, its unit of SI, whether it is a level of 0 or 1."""

    name: str
    unit: str
    level: bool = False


def titled(name: str) -> str:
    """Return a channel's name as people read it: i_q stays, at_current_limit becomes words."""
    return name if len(name.partition("_")[0]) == 1 else name.replace("_", " ")


class Panes(QWidget):
    """Plots that show what there is, one or two beside each other."""

    def __init__(self, of: str) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setSpacing(8)
        self.plots = {key: Plot(("time", "s"), axis[:2], name=f"{axis[0]} {of}", parent=self) for key, axis in _PANES.items()}
        for plot in self.plots.values():
            plot.hide()
        self.plots["level"].grade_y(on=False)
        self._places: dict[str, tuple[Plot, float, float]] = {}
        self._arranged: tuple[str, ...] | None = None
        self._declared: dict[str, int] = {}
        self.show_channels(())

    def show_channels(self, channels: Sequence[Shown], *, expected: str = "A") -> None:
        """Show these channels from now on; with none, the empty plot of what is ``expected``."""
        counts = dict.fromkeys(_PANES, 0)
        self._places = {}
        for channel in channels:
            key = "level" if channel.level else channel.unit if channel.unit in _PANES else "value"
            plot, number = self.plots[key], counts[key]
            if not plot.declares(channel.name):
                known = self._declared[key] = self._declared.get(key, 0) + 1
                token, dash = _TOKENS[(known - 1) % len(_TOKENS)], _DASHES[(known - 1) // len(_TOKENS) % len(_DASHES)]
                plot.curve(channel.name, token, width=1.0, dash=dash, dense=True, title=titled(channel.name))
            self._places[channel.name] = (plot, _PANES[key][2], _APART * number if channel.level else 0.0)
            counts[key] += 1
        for plot in self.plots.values():
            plot.clear_data()
        self._arrange(tuple(k for k, n in counts.items() if n) or (expected,))

    def _arrange(self, keys: tuple[str, ...]) -> None:
        if keys == self._arranged:
            return
        self._arranged = keys
        for key, plot in self.plots.items():
            self._grid.removeWidget(plot)
            plot.setVisible(key in keys)
        columns = 1 if len(keys) <= _STACKED else 2
        for place, key in enumerate(keys):
            row, column = divmod(place, columns)
            wide = columns if place == len(keys) - 1 and column == 0 else 1
            self._grid.addWidget(self.plots[key], row, column, 1, wide)
            self.plots[key].label_x(on=place + columns >= len(keys))  # one below the other have one axis of time
        for row in range(len(_PANES)):
            self._grid.setRowStretch(row, 1 if row * columns < len(keys) else 0)
        for column in range(2):
            self._grid.setColumnStretch(column, 1 if column < columns else 0)

    @property
    def pixels(self) -> int:
        """How many points across a plot can tell apart."""
        return max([int(p.plotItem.getViewBox().width()) for p in self.seen] + [100])

    @property
    def seen(self) -> list[Plot]:
        """The plots that show something now."""
        return [self.plots[k] for k in self._arranged or ()]

    def set(self, name: str, t: ArrayLike, values: ArrayLike) -> None:
        """Draw a channel's values [SI] over time [s]."""
        plot, factor, above = self._places[name]
        plot.set(name, t, values if factor == 1.0 and above == 0.0 else values * factor + above)  # type: ignore[operator]

    def stream(self, name: str, t: np.ndarray, values: np.ndarray) -> None:
        """Draw a channel whose values [SI] over time [s] are others with every frame."""
        plot, factor, above = self._places[name]
        plot.stream(name, t, values if factor == 1.0 and above == 0.0 else values * np.float32(factor) + np.float32(above))

    def factor(self, name: str) -> float:
        """Return what a channel's value in SI is multiplied with for its plot."""
        return self._places[name][1]

    def written(self, name: str, value: float) -> str:
        """Return a channel's value [SI] as its plot has it, with its unit; empty where there is none."""
        plot, factor, _ = self._places[name]
        unit = plot.y_axis[1]
        if not math.isfinite(value):
            return ""
        plain = value * factor
        text = show(value, unit, 3) if unit in ("A", "V", "W") else f"{grouped(float(round(plain))) if abs(plain) >= 100 else f'{plain:.3g}'} {unit}".rstrip()
        return text.replace("-", "−")

    def fit(self) -> None:
        """Show everything."""
        for plot in self.seen:
            plot.fit()
