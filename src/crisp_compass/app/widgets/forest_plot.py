"""Values with their error bars on one axis: what agrees overlaps, what does not stands apart."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from crisp_compass.app.theme import THEME, font
from crisp_compass.quantities import show, show_with_error


@dataclass(frozen=True)
class Bar:
    """One value: name, what it is (measured, computed or settled decides the colour), SI value and its 95 % half-width."""

    name: str
    kind: str
    value: float
    half: float
    apart: bool = False


_TOKENS = {
    "plate": "soft",
    "meter": "deep",
    "capture": "deep",
    "drive": "ochre",
    "settled": "ink",
    "phase": "deep",
    "mean": "magenta",
}


class ForestPlot(QWidget):
    """Paints bars of values; ``mean`` is drawn as a band through all of them."""

    def __init__(self, empty: str) -> None:
        super().__init__()
        self._bars: tuple[Bar, ...] = ()
        self._mean: Bar | None = None
        self._unit, self._empty = "", empty
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(150)
        THEME.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(760, 340)

    def show_bars(self, bars: Sequence[Bar], unit: str, mean: Bar | None = None) -> None:
        """Show other values."""
        self._bars, self._unit, self._mean = tuple(bars), unit, mean
        self.setAccessibleName("; ".join(f"{b.name} {self._text(b)}" for b in bars) or self._empty)
        self.update()

    @property
    def bars(self) -> tuple[Bar, ...]:
        """What is shown."""
        return self._bars

    def _text(self, bar: Bar) -> str:
        if bar.half <= 0:
            return show(bar.value, self._unit, 4)
        shown, doubt = show_with_error(bar.value, bar.half, self._unit)
        return f"{shown}  {doubt}"

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), THEME.color("sheet"))
        if not self._bars:
            painter.setPen(THEME.color("soft"))
            painter.setFont(font(13))
            box = QRectF(60, 0, self.width() - 120, self.height())
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap), self._empty)
            return
        painter.setFont(font(12))
        widest = max(painter.fontMetrics().horizontalAdvance(self._text(bar)) for bar in self._bars)
        left, right, top = 170.0, self.width() - 32.0 - widest, 14.0
        step = min((self.height() - top - 40) / len(self._bars), 68.0)
        bottom = top + step * len(self._bars) + 4
        low, high = self._range()

        def at(value: float) -> float:
            return left + (value - low) / (high - low) * (right - left)

        self._axis(painter, low, high, at, top=top, bottom=bottom)
        if self._mean is not None:
            band = QRectF(at(self._mean.value - self._mean.half), top, 0, bottom - top)
            band.setRight(max(at(self._mean.value + self._mean.half), band.left() + 1))
            tint = THEME.color("magenta")
            tint.setAlpha(40)
            painter.fillRect(band, tint)
            painter.setPen(THEME.pen("magenta", 1.2))
            painter.drawLine(QPointF(at(self._mean.value), top), QPointF(at(self._mean.value), bottom))
        for k, bar in enumerate(self._bars):
            self._bar(painter, bar, top + (k + 0.5) * step, at, right=right)

    def _bar(self, painter: QPainter, bar: Bar, y: float, at: object, right: float) -> None:
        assert callable(at)
        token = "brick" if bar.apart else _TOKENS.get(bar.kind, "deep")
        painter.setPen(THEME.color("ink"))
        painter.setFont(font(13, bold=bar.kind == "settled"))
        name = painter.fontMetrics().elidedText(bar.name, Qt.TextElideMode.ElideMiddle, 146)
        painter.drawText(QRectF(14, y - 12, 150, 24), int(Qt.AlignmentFlag.AlignVCenter), name)
        painter.setPen(THEME.pen(token, 2))
        x = at(bar.value)
        if bar.half > 0:
            a, b = at(bar.value - bar.half), at(bar.value + bar.half)
            painter.drawLine(QPointF(a, y), QPointF(b, y))
            for end in (a, b):
                painter.drawLine(QPointF(end, y - 5), QPointF(end, y + 5))
        painter.setBrush(THEME.color("sheet" if bar.kind in ("plate", "drive") else token))
        if bar.kind == "settled":
            painter.drawPolygon(
                QPolygonF([QPointF(x, y - 7), QPointF(x + 7, y), QPointF(x, y + 7), QPointF(x - 7, y)])
            )
        else:
            painter.drawEllipse(QPointF(x, y), 4.5, 4.5)
        painter.setPen(THEME.color("brick" if bar.apart else "ink"))
        painter.setFont(font(12))
        painter.drawText(
            QRectF(right + 16, y - 12, self.width() - right - 16, 24),
            int(Qt.AlignmentFlag.AlignVCenter),
            self._text(bar),
        )

    def _range(self) -> tuple[float, float]:
        every = [*self._bars, *([self._mean] if self._mean else [])]
        low = min(b.value - b.half for b in every)
        high = max(b.value + b.half for b in every)
        if high - low < 1e-3 * abs(high):
            low, high = low - 5e-4 * abs(high), high + 5e-4 * abs(high)
        margin = 0.06 * (high - low)
        return low - margin, high + margin

    def _axis(self, painter: QPainter, low: float, high: float, at: object, top: float, bottom: float) -> None:
        assert callable(at)
        raw = (high - low) / 5
        decade = 10.0 ** math.floor(math.log10(raw))
        step = next(m for m in (1, 2, 5, 10) if m * decade >= raw) * decade
        digits = max(2, math.ceil(math.log10(max(abs(low), abs(high)) / step)) + 1)
        painter.setFont(font(11))
        value = math.ceil(low / step) * step
        while value <= high:
            painter.setPen(THEME.pen("graticule", 1))
            painter.drawLine(QPointF(at(value), top), QPointF(at(value), bottom))
            painter.setPen(THEME.color("soft"))
            text = "0" if abs(value) < 1e-9 * step else show(value, self._unit, min(digits, 6))
            painter.drawText(QRectF(at(value) - 50, bottom + 3, 100, 18), int(Qt.AlignmentFlag.AlignCenter), text)
            value += step
