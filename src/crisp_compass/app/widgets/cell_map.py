"""A map of cells over two levers: what came of the starts in each, the working point, and a cell to choose."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QApplication, QWidget

from crisp_compass.app.theme import THEME, font
from crisp_compass.quantities import grouped

_LEFT, _RIGHT, _TOP, _BOTTOM = 74, 12, 26, 40
#: How the kinds are hatched, in their order: the third and the fourth are told apart without colour too.
_HATCHES = {2: Qt.BrushStyle.BDiagPattern, 3: Qt.BrushStyle.DiagCrossPattern}
_STEPS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}


def _said(value: float) -> str:
    return f"{value:.3g}" if abs(value) < 1000 else grouped(value)


def _tick(value: float) -> str:
    return grouped(value) if abs(value) >= 1e4 else f"{value:.10g}".replace("-", "−")


def round_ticks(values: Sequence[float], most: int = 6) -> list[tuple[float, str]]:
    """Return round numbers within rising ``values`` (n,) with their places, counted in cells from the middle of the first."""
    x = np.asarray(values, dtype=np.float64)
    if len(x) < 2 or not x[-1] > x[0]:
        return [(0.0, _said(float(x[0])))] if len(x) else []
    steps = np.diff(x)
    even = bool(np.allclose(steps, steps[0], rtol=0.05))
    decades = 10.0 ** np.arange(np.floor(np.log10(max(abs(x[0]), 1e-12))) - 1, np.ceil(np.log10(max(abs(x[-1]), 1e-12))) + 1)
    for mantissas in ((1, 1.5, 2, 3, 4, 5, 6, 8), (1, 2, 3, 5), (1, 2, 5), (1, 3), (1,)):
        if even:  # a linear axis: multiples of a round step
            break
        found = sorted({float(m * d) for d in decades for m in mantissas if x[0] <= m * d <= x[-1]})
        if 2 <= len(found) <= most:
            break
    else:
        found = []
    if even or len(found) < 2:
        raw = float(x[-1] - x[0]) / (most - 1)
        power = 10.0 ** np.floor(np.log10(raw))
        step = next(m * power for m in (1, 2, 2.5, 5, 10) if m * power >= raw)
        found = [float(k * step) for k in range(int(np.ceil(x[0] / step - 1e-9)), int(np.floor(x[-1] / step + 1e-9)) + 1)]
    places = np.interp(found, x, np.arange(len(x)))
    return [(float(p), _tick(v)) for p, v in zip(places, found, strict=True)]


class CellMap(QWidget):
    """Cells of shares: ``kinds`` are name and colour token of each outcome; a cell is drawn in stripes by what its draws came to."""

    chosen = Signal(int, int)

    def __init__(self, name: str, kinds: Sequence[tuple[str, str]]) -> None:
        super().__init__()
        self._name, self._kinds = name, tuple(kinds)
        self._counts: NDArray[np.int64] = np.zeros((0, 0, len(kinds)), dtype=np.int64)
        self._x: Sequence[str] = ()
        self._y: Sequence[str] = ()
        self._ticks: tuple[list[tuple[float, str]], list[tuple[float, str]]] = ([], [])
        self._titles = ("", "")
        self._point: tuple[float, float] | None = None
        self._cell: tuple[int, int] | None = None
        self.setMinimumSize(240, 200)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)
        THEME.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(460, 320)

    def set_axes(
        self, titles: tuple[str, str], x: Sequence[float], y: Sequence[float], point: tuple[float, float] | None
    ) -> None:
        """Name the levers and give the values of their cells; ``point`` is the working point in cells, counted from the middle of the first."""
        self._titles, self._point = titles, point
        self._x, self._y = (tuple(_said(v) for v in values) for values in (x, y))
        self._ticks = (round_ticks(x), round_ticks(y))
        self.update()

    def show_counts(self, counts: NDArray[np.int64]) -> None:
        """Show how many draws of each cell (columns, rows) came to each kind; none yet where the sum is nothing."""
        self._counts = counts
        if self._cell is not None and not (self._cell[0] < counts.shape[0] and self._cell[1] < counts.shape[1]):
            self._cell = None
        self.update()

    @property
    def cell(self) -> tuple[int, int] | None:
        """The chosen cell."""
        return self._cell

    def choose(self, column: int, row: int) -> None:
        """Choose a cell, as a click does."""
        columns, rows = self._counts.shape[:2]
        if 0 <= column < columns and 0 <= row < rows:
            self._cell = (column, row)
            counts = ", ".join(
                f"{n} {int(c)}" for (n, _), c in zip(self._kinds, self._counts[column, row], strict=True)
            )
            self.setAccessibleDescription(f"{self._x[column]}, {self._y[row]}: {counts}")
            self.update()
            self.chosen.emit(column, row)

    def _area(self) -> QRectF:
        return QRectF(_LEFT, _TOP, max(self.width() - _LEFT - _RIGHT, 1), max(self.height() - _TOP - _BOTTOM, 1))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        area, (columns, rows) = self._area(), self._counts.shape[:2]
        if columns and rows and area.contains(event.position()):
            column = int((event.position().x() - area.left()) / area.width() * columns)
            row = int((area.bottom() - event.position().y()) / area.height() * rows)
            self.choose(min(column, columns - 1), min(row, rows - 1))
        self.setFocus()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = _STEPS.get(Qt.Key(event.key()))
        if step is None or not self._counts.size:
            super().keyPressEvent(event)
            return
        column, row = self._cell or (0, 0)
        self.choose(column + step[0], row + step[1])

    def copy_picture(self) -> None:
        """Put a picture of the map on the clipboard."""
        QApplication.clipboard().setPixmap(self.grab())

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        area = self._area()
        painter.fillRect(self.rect(), THEME.color("sheet"))
        columns, rows = self._counts.shape[:2]
        if columns and rows:
            self._paint_cells(painter, area, columns, rows)
        painter.setPen(THEME.pen("soft"))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(area)
        self._paint_legend(painter)
        self._paint_axes(painter, area)
        if self._point is not None and columns and rows:
            self._paint_point(painter, area, columns, rows)

    def _paint_cells(self, painter: QPainter, area: QRectF, columns: int, rows: int) -> None:
        wide, high = area.width() / columns, area.height() / rows
        painter.setPen(Qt.PenStyle.NoPen)
        totals = self._counts.sum(axis=2)
        for column in range(columns):
            for row in range(rows):
                total = int(totals[column, row])
                if not total:
                    continue
                left, top = area.left() + column * wide, area.bottom() - (row + 1) * high
                for place, count in enumerate(self._counts[column, row]):
                    if count:
                        part = wide * int(count) / total
                        self._fill(painter, QRectF(left, top, part + 0.5, high + 0.5), place)
                        left += part
        if self._cell is not None:
            column, row = self._cell
            painter.setPen(THEME.pen("ink", 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(area.left() + column * wide, area.bottom() - (row + 1) * high, wide, high))

    def _fill(self, painter: QPainter, box: QRectF, place: int) -> None:
        """Fill a box with the colour of a kind, hatched where colour alone would have to tell it from another."""
        painter.fillRect(box, THEME.color(self._kinds[place][1]))
        hatch = _HATCHES.get(place)
        if hatch is not None:
            painter.fillRect(box, QBrush(THEME.color("sheet"), hatch))

    def _paint_legend(self, painter: QPainter) -> None:
        painter.setFont(font(11))
        x = float(_LEFT)
        for place, (name, _) in enumerate(self._kinds):
            self._fill(painter, QRectF(x, 8, 12, 10), place)
            painter.setPen(THEME.color("ink"))
            painter.drawText(QPointF(x + 17, 17), name)
            x += 17 + painter.fontMetrics().horizontalAdvance(name) + 16

    def _paint_axes(self, painter: QPainter, area: QRectF) -> None:
        painter.setFont(font(11))
        painter.setPen(THEME.color("soft"))
        for count, ticks, across in ((len(self._x), self._ticks[0], True), (len(self._y), self._ticks[1], False)):
            for place, text in ticks:
                at = (place + 0.5) / count
                if across:
                    x = area.left() + at * area.width()
                    painter.drawLine(QPointF(x, area.bottom()), QPointF(x, area.bottom() + 4))
                    painter.drawText(QRectF(x - 40, area.bottom() + 4, 80, 15), int(Qt.AlignmentFlag.AlignCenter), text)
                else:
                    y = area.bottom() - at * area.height()
                    painter.drawLine(QPointF(area.left() - 4, y), QPointF(area.left(), y))
                    box = QRectF(18, y - 8, _LEFT - 26, 16)
                    painter.drawText(box, int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter), text)
        painter.drawText(
            QRectF(area.left(), self.height() - 19, area.width(), 16),
            int(Qt.AlignmentFlag.AlignCenter),
            self._titles[0],
        )
        painter.save()
        painter.translate(11, area.center().y())
        painter.rotate(-90)
        painter.drawText(
            QRectF(-area.height() / 2, -8, area.height(), 16), int(Qt.AlignmentFlag.AlignCenter), self._titles[1]
        )
        painter.restore()

    def _paint_point(self, painter: QPainter, area: QRectF, columns: int, rows: int) -> None:
        assert self._point is not None
        x = area.left() + (self._point[0] + 0.5) / columns * area.width()
        y = area.bottom() - (self._point[1] + 0.5) / rows * area.height()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(THEME.color("ink"), 2))
        painter.setBrush(THEME.color("sheet"))
        painter.drawPolygon(QPolygonF([QPointF(x, y - 8), QPointF(x + 7, y), QPointF(x, y + 8), QPointF(x - 7, y)]))
