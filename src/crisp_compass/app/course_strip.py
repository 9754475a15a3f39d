"""The course: legs as waypoints on one line. The mark's shape carries the state."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QFocusEvent,
    QFontMetricsF,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPolygonF,
)
from PySide6.QtWidgets import QToolTip, QWidget

from crisp_compass.app.theme import THEME, font
from crisp_compass.course.course import State


@dataclass(frozen=True)
class Place:
    """One leg as the course shows it."""

    key: str
    name: str
    headline: str
    state: State


class CourseStrip(QWidget):
    """Waypoints with name, headline and mark; ``chosen`` carries the key of the leg a person travels to."""

    chosen = Signal(str)
    HEIGHT = 74

    def __init__(self) -> None:
        super().__init__()
        self._points: tuple[Place, ...] = ()
        self._current = ""
        self._hover = -1
        self._keyed = False
        self.setFixedHeight(self.HEIGHT)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Course")
        THEME.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(1000, self.HEIGHT)

    def show_course(self, points: tuple[Place, ...], current: str) -> None:
        """Show the legs; ``current`` is the key of the open one."""
        if (points, current) != (self._points, self._current):
            self._points, self._current = points, current
            here = next((p for p in points if p.key == current), None)
            if here:
                self.setAccessibleDescription(f"{here.name}, {here.state.value}, {here.headline}")
            self.update()

    def _cell(self, index: int) -> QRectF:
        width = self.width() / max(len(self._points), 1)
        return QRectF(index * width, 0, width, self.HEIGHT)

    def _index_at(self, x: float) -> int:
        return min(int(x / (self.width() / max(len(self._points), 1))), len(self._points) - 1)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._points:
            self.chosen.emit(self._points[self._index_at(event.position().x())].key)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._hover = self._index_at(event.position().x())
        self.update()

    def focusInEvent(self, event: QFocusEvent) -> None:
        reasons = (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason, Qt.FocusReason.OtherFocusReason)
        self._keyed = event.reason() in reasons
        super().focusInEvent(event)

    def leaveEvent(self, event: QEvent) -> None:
        self._hover = -1
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        index = next((i for i, p in enumerate(self._points) if p.key == self._current), 0)
        moves: dict[int, int] = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Home: -99, Qt.Key.Key_End: 99}
        if event.key() in moves and self._points:
            self.chosen.emit(self._points[min(max(index + moves[event.key()], 0), len(self._points) - 1)].key)
            return
        super().keyPressEvent(event)

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent) and self._points:
            point = self._points[self._index_at(event.pos().x())]
            number = self._points.index(point) + 1
            QToolTip.showText(
                event.globalPos(),
                f"{point.name}: {point.state.value}" + (f"\nAlt+{number % 10}" if number <= 10 else ""),
            )
            return True
        return super().event(event)

    def _crowded(self) -> bool:
        """Tell whether names and headlines do not fit side by side: then those of the open leg stand alone, and of one under the pointer."""
        names, heads = QFontMetricsF(font(13, bold=True)), QFontMetricsF(font(12))
        width = self._cell(0).width() - 4
        return any(names.horizontalAdvance(p.name) > width or heads.horizontalAdvance(p.headline) > 1.25 * width for p in self._points)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), THEME.color("sheet"))
        painter.setPen(THEME.pen("line", 1))
        painter.drawLine(0, self.HEIGHT - 1, self.width(), self.HEIGHT - 1)
        centres = [QPointF(self._cell(i).center().x(), 20) for i in range(len(self._points))]
        for i, point in enumerate(self._points):
            if point.key == self._current:
                painter.fillRect(self._cell(i), THEME.color("water"))
                painter.fillRect(
                    QRectF(self._cell(i).left(), self.HEIGHT - 3, self._cell(i).width(), 3), THEME.color("magenta")
                )
            elif i == self._hover:
                painter.fillRect(self._cell(i).adjusted(0, 0, 0, -1), THEME.color("paper"))
        for i in range(len(centres) - 1):
            done = self._points[i].state is State.SETTLED and self._points[i + 1].state is State.SETTLED
            painter.setPen(THEME.pen("ink" if done else "line", 1.6))
            painter.drawLine(centres[i], centres[i + 1])
        crowded = bool(self._points) and self._crowded()
        told = self._hover if 0 <= self._hover < len(self._points) else next((i for i, p in enumerate(self._points) if p.key == self._current), 0)
        for i, point in enumerate(self._points):
            self._paint_mark(painter, centres[i], point.state)
            cell = self._cell(i)
            if crowded:
                if i != told:
                    continue
                centre = min(max(cell.center().x(), 90.0), max(self.width() - 90.0, 90.0))
                cell = QRectF(centre - 90.0, 0.0, 180.0, self.HEIGHT)
            quiet = point.state in (State.NOT_BEGUN, State.BLOCKED)
            current = point.key == self._current
            painter.setFont(font(13, bold=current))
            painter.setPen(THEME.color("soft" if quiet and not current else "ink"))
            painter.drawText(QRectF(cell.left(), 31, cell.width(), 18), int(Qt.AlignmentFlag.AlignCenter), point.name)
            painter.setFont(font(12))
            painter.setPen(THEME.color("ochre" if point.state in (State.STALE, State.EDITED) else "soft"))
            painter.drawText(
                QRectF(cell.left(), 49, cell.width(), 18), int(Qt.AlignmentFlag.AlignCenter), point.headline
            )
        if self.hasFocus() and self._keyed:
            painter.setPen(THEME.pen("deep", 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(1, 1, -2, -3))

    def _paint_mark(self, painter: QPainter, at: QPointF, state: State) -> None:
        sheet, ink = THEME.color("sheet"), THEME.color("ink")
        if state is State.NOT_BEGUN:
            painter.setPen(THEME.pen("soft", 1.4))
            painter.setBrush(sheet)
            painter.drawEllipse(at, 5, 5)
        elif state is State.EVIDENCE:
            painter.setPen(THEME.pen("ink", 1.4))
            painter.setBrush(sheet)
            painter.drawEllipse(at, 7, 7)
            painter.setBrush(ink)
            painter.drawPie(QRectF(at.x() - 7, at.y() - 7, 14, 14), 90 * 16, 180 * 16)
        elif state is State.SETTLED:
            painter.setPen(THEME.pen("ink", 1.4))
            painter.setBrush(ink)
            painter.drawEllipse(at, 7, 7)
        elif state is State.EDITED:
            painter.setPen(THEME.pen("ochre", 1.8))
            painter.setBrush(sheet)
            painter.drawEllipse(at, 8, 8)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(ink)
            painter.drawEllipse(at, 4, 4)
        elif state is State.STALE:
            painter.setPen(THEME.pen("ochre", 1.8))
            painter.setBrush(sheet)
            painter.drawPolygon(
                QPolygonF([at + QPointF(0, -9), at + QPointF(9, 0), at + QPointF(0, 9), at + QPointF(-9, 0)])
            )
            painter.drawLine(at + QPointF(0, -4), at + QPointF(0, 1))
            painter.drawLine(at + QPointF(0, 3.5), at + QPointF(0, 4.5))
        else:
            painter.setPen(THEME.pen("brick", 1.8))
            painter.setBrush(sheet)
            painter.drawRect(QRectF(at.x() - 6.5, at.y() - 6.5, 13, 13))
            painter.drawLine(at + QPointF(-3.5, 0), at + QPointF(3.5, 0))
