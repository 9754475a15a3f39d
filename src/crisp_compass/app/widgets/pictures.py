"""Draws what the core says is to be shown: panes of curves, and boxes of figures to their right."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from numpy.typing import ArrayLike
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.estimates import FloatArray
from crisp_compass.views.picture import Box, Curve, Pane

_TOKENS = {"measured": "deep", "fit": "magenta", "expected": "ink", "left out": "deep", "here": "magenta"}
_SYMBOLS = {"line": "", "points": "o", "up": "t1", "down": "t"}
#: Width of the column of boxes.
_BOXES = 330
_TURN = [[(a, f"{a}") for a in range(0, 361, 60)]]


def _size(curve: Curve) -> int:
    """Return how large a point is: few are seen from afar, many would hide each other."""
    if curve.shape != "points" or curve.role == "here":
        return 10
    return 8 if len(curve.x) <= 60 else 5 if len(curve.x) <= 2000 else 3


def _token(curve: Curve) -> str:
    return "ink" if curve.role == "here" and curve.shape == "line" else _TOKENS[curve.role]


def _width(curve: Curve) -> float:
    if curve.role == "fit":
        return 3.0 if curve.wide else 1.0 if curve.dense else 1.8
    return 2.5 if curve.wide else 1.0 if curve.dense else 1.5


class Pictures(QWidget):
    """Up to three panes, the first one widest, and boxes; plots are built when there is something to draw in them."""

    def __init__(self) -> None:
        super().__init__()
        self.plots: list[Plot] = []
        self.boxes: list[Rows] = []
        self._zeros: list[pg.InfiniteLine] = []
        self._drawn: list[dict[str, str]] = []
        self._panes: tuple[Pane, ...] = ()
        self._next = 0
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._build_one)
        self._lower = QHBoxLayout()
        self._lower.setSpacing(8)
        self._left = QVBoxLayout()
        self._left.setSpacing(8)
        self._right = QVBoxLayout()
        self._right.setSpacing(8)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        row.addLayout(self._left, 1)
        row.addLayout(self._right)

    def add_below(self, widget: QWidget) -> None:
        """Put something of the page's own under the plots."""
        self._left.insertWidget(-1, widget)

    def show_panes(self, panes: Sequence[Pane]) -> None:
        """Draw the panes and fit them; plots of others are hidden, or emptied where there is no pane at all.

        A plot that has to be built first comes in a turn of the event loop of its own: three at once would hold the window up.
        """
        self._panes, self._next = tuple(panes), 0
        for k, plot in enumerate(self.plots):
            if not panes:
                plot.clear_data()
            elif k >= len(panes):
                plot.hide()
        self._go_on()

    def _go_on(self) -> None:
        """Draw what has its plot; then build one plot, if one is missing, in a turn of its own."""
        while self._next < min(len(self.plots), len(self._panes)):
            self._draw(self._next, self._panes[self._next])
            self._next += 1
        if self._next < len(self._panes):
            self._later.start()

    def _build_one(self) -> None:
        """Build the plot that is missing; draw it in the turn after that."""
        if self._next < len(self._panes):
            if self._next == len(self.plots):
                self._add_plot(self._panes[self._next])
                self._later.start()
            else:
                self._go_on()

    def _add_plot(self, pane: Pane) -> None:
        plot = Plot(pane.x, pane.y, name=pane.name, log_x=pane.log)
        self._zeros.append(plot.rule(y=0.0))
        self._drawn.append({})
        if not self.plots:
            self._left.insertWidget(0, plot, 3)
        else:
            if len(self.plots) == 1:
                self._left.insertLayout(1, self._lower, 2)
            self._lower.addWidget(plot, 3 if len(self.plots) == 1 else 2)
        plot.hide()  # until there is something on it
        self.plots.append(plot)

    def _draw(self, k: int, pane: Pane) -> None:
        plot = self.plots[k]
        plot.show()
        plot.set_axes(pane.x, pane.y)
        plot.set_name(pane.name)
        plot.getAxis("bottom").setTicks(_TURN if pane.turn else None)
        self._zeros[k].setVisible(pane.zero)
        plot.clear_data()
        self._drawn[k] = {}
        for curve in pane.curves:
            key = f"{curve.title}, {curve.role}, {curve.shape}, {curve.dense}, {curve.wide}, {_size(curve)}"
            if not plot.declares(key):
                plot.curve(
                    key,
                    _token(curve),
                    width=_width(curve),
                    dash="dash" if curve.role == "expected" else "solid",
                    symbol=_SYMBOLS[curve.shape],
                    size=_size(curve),
                    hollow=curve.role == "left out",
                    dense=curve.dense,
                    title=curve.title,
                )
            plot.set(key, curve.x, curve.y)
            self._drawn[k][curve.title] = key
        plot.fit()

    def show_boxes(self, boxes: Sequence[Box]) -> None:
        """Fill the boxes; those without content are hidden."""
        while len(self.boxes) < len(boxes):
            rows = Rows(boxes[len(self.boxes)].heading, width=_BOXES)
            for k in range(self._right.count()):
                self._right.setStretch(k, 0)
            self._right.addWidget(rows, 1)
            self.boxes.append(rows)
        for k, rows in enumerate(self.boxes):
            if k < len(boxes):
                rows.show_rows(boxes[k].rows, heading=boxes[k].heading, note=boxes[k].note)
            else:
                rows.show_rows(())

    @property
    def texts(self) -> dict[str, str]:
        """Name → figure as shown, of all boxes."""
        return {name: figure for rows in self.boxes if not rows.isHidden() for name, figure in rows.texts.items()}

    def put(self, title: str, x: ArrayLike, y: ArrayLike) -> None:
        """Give one curve other data, the view left as it is."""
        for plot, keys in zip(self.plots, self._drawn, strict=True):
            if title in keys:
                plot.set(keys[title], x, y)

    def data(self, title: str) -> tuple[FloatArray, FloatArray]:
        """Return what a curve shows, by its title; nothing where it is not drawn."""
        for plot, keys in zip(self.plots, self._drawn, strict=True):
            if title in keys:
                return plot.data(keys[title])
        return np.empty(0), np.empty(0)
