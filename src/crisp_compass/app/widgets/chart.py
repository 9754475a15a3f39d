"""The wiring chart as a picture: leads with their true colours between motor and drive."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QSizePolicy, QWidget

from crisp_compass.app.theme import THEME, font
from crisp_compass.bench.records import Lead
from crisp_compass.preparation.wiring import COLOURS


class WiringChart(QWidget):
    """Motor and sensor left, drive right; a lead that changed places crosses the others."""

    def __init__(self) -> None:
        super().__init__()
        self._leads: tuple[Lead, ...] = ()
        self._from = "motor"
        self._terminals: tuple[str, ...] = ()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(220)
        THEME.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(460, 340)

    def show_leads(self, leads: Sequence[Lead], terminals: Sequence[str], *, sensor: bool = True) -> None:
        """Show a chart; ``terminals`` gives the order on the drive's side, ``sensor`` tells whether there are leads of one."""
        self._from = "motor and sensor" if sensor else "motor"
        self._leads, self._terminals = tuple(leads), tuple(terminals)
        self.setAccessibleName("Wiring: " + "; ".join(f"{w.name} {w.colour} to {w.terminal}" for w in leads))
        self.update()

    def picture(self) -> QPixmap:
        """Return the chart as a picture."""
        return self.grab()

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.draw(painter, QRectF(self.rect()))

    def draw(self, painter: QPainter, area: QRectF) -> None:
        """Paint into any area, screen or paper."""
        painter.fillRect(area, THEME.color("sheet"))
        if not self._leads:
            return
        step = min((area.height() - 50) / len(self._leads), 44.0)
        top = area.top() + 38 + (area.height() - 50 - step * len(self._leads)) / 2
        left, right = area.left() + 0.24 * area.width(), area.right() - 0.24 * area.width()
        self._box(
            painter,
            QRectF(area.left() + 14, top - 6, left - area.left() - 14, step * len(self._leads) + 6),
            self._from,
        )
        self._box(painter, QRectF(right, top - 6, area.right() - 14 - right, step * len(self._leads) + 6), "drive")
        places = {name: k for k, name in enumerate(self._terminals)}
        for index, lead in enumerate(self._leads):
            y1 = top + step * (index + 0.5)
            place = places.get(lead.terminal)
            painter.setPen(THEME.color("ink"))
            painter.setFont(font(13, bold=True))
            pin = f"  pin {lead.pin}" if lead.pin else ""
            painter.drawText(
                QRectF(area.left() + 24, y1 - 12, left - area.left() - 34, 24),
                int(Qt.AlignmentFlag.AlignVCenter),
                f"{lead.name}{pin}",
            )
            if place is None:
                self._wire(painter, QPointF(left, y1), QPointF(left + 40, y1), lead)
                continue
            y2 = top + step * (place + 0.5)
            self._wire(painter, QPointF(left, y1), QPointF(right, y2), lead)
        painter.setFont(font(13, bold=True))
        painter.setPen(THEME.color("ink"))
        for name, place in places.items():
            y = top + step * (place + 0.5)
            painter.drawText(
                QRectF(right + 12, y - 12, area.right() - right - 30, 24), int(Qt.AlignmentFlag.AlignVCenter), name
            )

    def _box(self, painter: QPainter, box: QRectF, title: str) -> None:
        painter.setPen(THEME.pen("line", 1.4))
        painter.setBrush(THEME.color("paper"))
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(THEME.color("soft"))
        painter.setFont(font(12))
        painter.drawText(
            QRectF(box.left(), box.top() - 22, box.width(), 20), int(Qt.AlignmentFlag.AlignCenter), title
        )

    def _wire(self, painter: QPainter, a: QPointF, b: QPointF, lead: Lead) -> None:
        path = QPainterPath(a)
        bend = 0.35 * (b.x() - a.x())
        path.cubicTo(a + QPointF(bend, 0), b - QPointF(bend, 0), b)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        code = lead.colour
        name, colour = COLOURS.get(code, ("", ""))
        if not colour:
            painter.setPen(QPen(THEME.color("soft"), 2, Qt.PenStyle.DashLine))
            painter.drawPath(path)
        else:
            painter.setPen(QPen(THEME.color("ink"), 7))  # an edge, so that white shows on paper and black at night
            painter.drawPath(path)
            painter.setPen(QPen(QColor(colour), 5))
            painter.drawPath(path)
            if code == "GNYE":
                painter.setPen(QPen(QColor(COLOURS["YE"][1]), 2.4))
                painter.drawPath(path)
        text = name or "colour?"
        middle = path.pointAtPercent(0.16)
        painter.setFont(font(11))
        width = painter.fontMetrics().horizontalAdvance(text) + 8
        box = QRectF(middle.x() - width / 2 + 10, middle.y() - 9, width, 18)
        painter.fillRect(box, THEME.color("sheet"))
        painter.setPen(THEME.color("ink" if name else "soft"))
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), text)
