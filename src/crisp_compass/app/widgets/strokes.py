"""Curves that change with every frame: all of a plot painted as one item, without what the library does for each curve by itself."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QStyleOptionGraphicsItem, QWidget

from crisp_compass.app.theme import THEME
from crisp_compass.app.widgets.legend import DASHES


class Strokes(pg.GraphicsObject):  # type: ignore[misc]
    """Lines by their keys, in the coordinates of the plot; where a value is missing a line is broken."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: dict[str, tuple[np.ndarray, np.ndarray, str, str]] = {}

    def set(self, key: str, x: np.ndarray, y: np.ndarray, token: str, dash: str) -> None:
        """Give a line other points."""
        self.lines[key] = (x, y, token, dash)
        self.update()

    def clear(self) -> None:
        """Show nothing."""
        if self.lines:
            self.lines = {}
            self.update()

    def boundingRect(self) -> QRectF:
        """Return all that is in view: what is outside is cut off anyway."""
        return QRectF(self.viewRect())

    def viewRangeChanged(self) -> None:
        """Follow the view."""
        self.prepareGeometryChange()

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        """Paint every line."""
        del option, widget
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for x, y, token, dash in self.lines.values():
            painter.setPen(THEME.pen(token, 1, DASHES[dash]))
            whole = np.isfinite(y)
            if whole.all():
                pieces = [slice(0, len(x))]
            else:
                edges = np.flatnonzero(np.diff(np.concatenate([[False], whole, [False]]).astype(np.int8)))
                pieces = [slice(int(a), int(b)) for a, b in zip(edges[0::2], edges[1::2], strict=True)]
            for piece in pieces:
                if piece.stop - piece.start < 2:  # a polygon of nothing ends in a crash
                    continue
                painter.drawPolyline(pg.functions.arrayToQPolygonF(x[piece], y[piece]))
