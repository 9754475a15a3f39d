"""Names of a plot's curves."""

from __future__ import annotations

from typing import Any

import pyqtgraph as pg
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QFontMetricsF, QPainter
from PySide6.QtWidgets import QGraphicsSceneResizeEvent

from crisp_compass.app.theme import THEME, font

DASHES = {"solid": Qt.PenStyle.SolidLine, "dash": Qt.PenStyle.DashLine, "dot": Qt.PenStyle.DotLine}


class Legend(pg.GraphicsWidget):  # type: ignore[misc]
    """Names of the curves above the data, each with a sample of its line or mark; in as many lines as they need, so that none is left out."""

    HEIGHT, SAMPLE, GAP = 17, 20, 14

    def __init__(self) -> None:
        super().__init__()
        self.entries: tuple[tuple[str, dict[str, Any]], ...] = ()
        self._places: list[tuple[float, int]] = []
        self.setMaximumHeight(0)

    def show_entries(self, entries: tuple[tuple[str, dict[str, Any]], ...]) -> None:
        """Show these curves; nothing where there are fewer than two."""
        entries = entries if len(entries) > 1 else ()
        if entries != self.entries:
            self.entries = entries
            self._arrange()
            self.update()

    def resizeEvent(self, event: QGraphicsSceneResizeEvent) -> None:
        super().resizeEvent(event)
        if event.oldSize().width() != event.newSize().width():
            self._arrange()

    def _arrange(self) -> None:
        """Place the entries one after the other, on a new line where one does not fit."""
        metrics, x, line = QFontMetricsF(font(11)), 8.0, 0
        self._places = []
        for text, _ in self.entries:
            width = self.SAMPLE + metrics.horizontalAdvance(text)
            if x > 8.0 and x + width > self.rect().width() > 0:
                x, line = 8.0, line + 1
            self._places.append((x, line))
            x += width + self.GAP
        height = (line + 1) * self.HEIGHT if self.entries else 0
        if height != self.maximumHeight() or height != self.minimumHeight():
            self.setMaximumHeight(height)
            self.setMinimumHeight(height)

    def paint(self, painter: QPainter, *_: object) -> None:
        painter.setFont(font(11))
        for (text, style), (x, line) in zip(self.entries, self._places, strict=True):
            middle = (line + 0.5) * self.HEIGHT
            token = style["token"]
            if style["symbol"]:
                painter.setPen(THEME.pen(token, 1.2))
                painter.setBrush(Qt.BrushStyle.NoBrush if style["hollow"] else THEME.color(token))
                painter.drawEllipse(QPointF(x + self.SAMPLE / 2, middle), 3.5, 3.5)
            else:
                painter.setPen(THEME.pen(token, min(style["width"], 3), DASHES[style["dash"]]))
                painter.drawLine(QPointF(x, middle), QPointF(x + self.SAMPLE - 4, middle))
            painter.setPen(THEME.color("ink"))
            painter.drawText(QPointF(x + self.SAMPLE, middle + 4), text)
