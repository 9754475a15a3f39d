"""A channel as a small curve, so that a person sees which one it is."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QSize
from PySide6.QtGui import QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import QWidget

from crisp_compass.app.theme import THEME


class Sparkline(QWidget):
    """The curve fills its height; what is empty draws nothing."""

    def __init__(self) -> None:
        super().__init__()
        self._values = np.empty(0)
        self.setFixedSize(QSize(150, 30))
        THEME.changed.connect(self.update)

    def show_values(self, values: np.ndarray, said: str) -> None:
        """Show another curve; ``said`` is what a screen reader hears."""
        # lowest and highest of each piece, so that a short pulse is seen
        pieces = np.array_split(values, min(len(values), 75)) if len(values) else []
        self._values = np.array([x for p in pieces for x in (p.min(), p.max())])
        self.setAccessibleName(said)
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        if not len(self._values):
            return
        low, span = float(self._values.min()), float(np.ptp(self._values)) or 1.0
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(THEME.pen("deep", 1.2))
        x = np.linspace(1, self.width() - 2, len(self._values))
        y = self.height() - 3 - (self._values - low) / span * (self.height() - 6)
        painter.drawPolyline(QPolygonF([QPointF(float(a), float(b)) for a, b in zip(x, y, strict=True)]))
