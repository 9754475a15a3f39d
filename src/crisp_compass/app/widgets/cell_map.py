"""A map of cells over two levers: what came of the starts in each, the working point, and a cell to choose."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QApplication, QWidget

from crisp_compass.app.theme import THEME, font

_LEFT, _RIGHT, _TOP, _BOTTOM = 74, 12, 26, 40
_STEPS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}


class CellMap(QWidget):
    """Cells of shares: ``kinds`` are name and colour token of each outcome; a cell is drawn in stripes by what its draws came to."""

    chosen = Signal(int, int)

    def __init__(self, name: str, kinds: Sequence[tuple[str, str]]) -> None:
        super().__init__()
        self._name, self._kinds = name, tuple(kinds)
        self._counts: NDArray[np.int64] = np.zeros((0, 0, len(kinds)), dtype=np.int64)
        self._x: Sequence[str] = ()
        self._y: Sequence[str] = ()
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
        self, titles: tuple[str, str], x: Sequence[str], y: Sequence[str], point: tuple[float, float] | None
    ) -> None:
        """Name the levers and their cells; ``point`` is the working point in cells, counted from the middle of the first."""
        self._titles, self._x, self._y, self._point = titles, tuple(x), tuple(y), point
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
                for (_, token), count in zip(self._kinds, self._counts[column, row], strict=True):
                    if count:
                        part = wide * int(count) / total
                        painter.fillRect(QRectF(left, top, part + 0.5, high + 0.5), THEME.color(token))
                        left += part
        if self._cell is not None:
            column, row = self._cell
            painter.setPen(THEME.pen("ink", 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(area.left() + column * wide, area.bottom() - (row + 1) * high, wide, high))

    def _paint_legend(self, painter: QPainter) -> None:
        painter.setFont(font(11))
        x = float(_LEFT)
        for name, token in self._kinds:
            painter.fillRect(QRectF(x, 8, 12, 10), THEME.color(token))
            painter.setPen(THEME.color("ink"))
            painter.drawText(QPointF(x + 17, 17), name)
            x += 17 + painter.fontMetrics().horizontalAdvance(name) + 16

    def _paint_axes(self, painter: QPainter, area: QRectF) -> None:
        painter.setFont(font(11))
        painter.setPen(THEME.color("soft"))
        for count, texts, across in ((5, self._x, True), (5, self._y, False)):
            if not texts:
                continue
            for k in np.unique(np.linspace(0, len(texts) - 1, count).round().astype(int)):
                at = (k + 0.5) / len(texts)
                if across:
                    box = QRectF(area.left() + at * area.width() - 40, area.bottom() + 3, 80, 15)
                    painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), texts[k])
                else:
                    box = QRectF(18, area.bottom() - at * area.height() - 8, _LEFT - 24, 16)
                    painter.drawText(box, int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter), texts[k])
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
