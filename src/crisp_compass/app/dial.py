"""The dial: the electrical circle with phases, rotor, current and voltage vectors, hexagon and hall sectors."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPixmap, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from crisp_compass.app.theme import DASHES, PHASE_TOKENS, THEME, font
from crisp_compass.views.picture import DialView

#: Reach of the voltage limit's corners, and the axes of two windings and of three phases.
_REACH = 88.0
_AXES = {2: (("A", 0), ("B", 90)), 3: (("A", 0), ("B", 120), ("C", 240))}


class Dial(QWidget):
    """Paints a :class:`DialView`; ``turned`` carries the angle a person drags the hand to, in degrees."""

    turned = Signal(float)

    def __init__(self) -> None:
        super().__init__()
        self._view = DialView()
        self._factor = 1.0
        self._windings = 3
        self._layers: dict[str, tuple[tuple[object, ...], QPixmap]] = {}
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(322)
        self.setAccessibleName("Dial: electrical circle")
        THEME.changed.connect(self.update)

    def fit(self, width: int, height: int) -> None:
        """Take the size that a panel and a window of these sizes leave."""
        self._factor = max(min(width / 332, height / 700, 1.0), 0.6)
        self.setFixedHeight(round(322 * self._factor))
        self.update()

    def show_windings(self, windings: int) -> None:
        """Draw the axes of another kind of motor: three phases or two windings."""
        if windings in _AXES and windings != self._windings:
            self._windings = windings
            self.update()

    @property
    def _circle(self) -> float:
        """Radius of the limit circle: inside a hexagon of three phases, inside the square of two windings."""
        return _REACH * (math.sqrt(3) / 2 if self._windings == 3 else math.sqrt(0.5))

    def sizeHint(self) -> QSize:
        return QSize(320, round(322 * self._factor))

    @property
    def view(self) -> DialView:
        """What is shown."""
        return self._view

    def show_view(self, view: DialView) -> None:
        """Show something else."""
        if view != self._view:
            self._view = view
            self.setFocusPolicy(Qt.FocusPolicy.StrongFocus if view.draggable else Qt.FocusPolicy.NoFocus)
            self.setAccessibleDescription(view.caption)
            self.setCursor(Qt.CursorShape.OpenHandCursor if view.draggable else Qt.CursorShape.ArrowCursor)
            self.update()

    # ---- turning by hand

    def _angle_at(self, point: QPointF) -> float:
        centre, point = self._centre(), point / self._factor
        return math.degrees(math.atan2(point.x() - centre.x(), centre.y() - point.y())) % 360

    def _held(self) -> float:
        """Return the angle of the arrow that a drag moves."""
        view = self._view
        vector = {"current": view.current, "voltage": view.voltage}.get(view.hand)
        return (vector[0] if vector is not None else view.rotor) or 0.0

    def _turn(self, angle: float) -> None:
        if self._view.hand == "current" and self._view.current is not None:
            self._view = replace(self._view, current=(angle % 360, self._view.current[1]))
        elif self._view.hand == "voltage" and self._view.voltage is not None:
            self._view = replace(self._view, voltage=(angle % 360, self._view.voltage[1]))
        else:
            self._view = replace(self._view, rotor=angle % 360)
        self.update()
        self.turned.emit(angle % 360)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._view.draggable:
            self._turn(self._angle_at(event.position()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._view.draggable and event.buttons() & Qt.MouseButton.LeftButton:
            self._turn(self._angle_at(event.position()))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps: dict[int, int] = {Qt.Key.Key_Right: 5, Qt.Key.Key_Left: -5, Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}
        if self._view.draggable and event.key() in steps:
            self._turn(self._held() + steps[event.key()])
            return
        super().keyPressEvent(event)

    # ---- painting

    def _centre(self) -> QPointF:
        return QPointF(self.width() / self._factor / 2, 140)

    def _at(self, degrees: float, radius: float) -> QPointF:
        a = math.radians(degrees)
        return self._centre() + QPointF(radius * math.sin(a), -radius * math.cos(a))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.scale(self._factor, self._factor)
        outer, inner = 112.0, 97.0
        self._layer("ring", painter, lambda p: self._paint_ring(p, outer, inner))
        if self._view.sectors:
            self._paint_sectors(painter, inner)
        self._layer("axes", painter, lambda p: self._paint_axes(p, inner))
        if self._view.rotor is not None:
            self._arrow(painter, self._view.rotor, 62.0, "ink", width=4.0, text="d")
        if self._view.frame is not None:
            self._paint_frame(painter, self._view.frame, inner)
        if self._view.voltage is not None:
            self._arrow(
                painter,
                self._view.voltage[0],
                self._circle * min(self._view.voltage[1], 1.2),
                "deep",
                width=2.2,
                text="v",
            )
        if self._view.current is not None:
            self._arrow(painter, self._view.current[0], 76.0 * min(self._view.current[1], 1.2), "magenta", width=3.0, text="i")
        painter.setBrush(THEME.color("ink"))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawEllipse(self._centre(), 3.5, 3.5)
        painter.setPen(THEME.color("soft"))
        painter.setFont(font(12))
        painter.drawText(
            QRectF(4, 282, self.width() / self._factor - 8, 36),
            int(Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap),
            self._view.caption,
        )
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(THEME.pen("deep", 1, Qt.PenStyle.DotLine))
            painter.resetTransform()
            painter.drawRect(self.rect().adjusted(2, 2, -3, -3))

    def _layer(self, name: str, painter: QPainter, paint: Callable[[QPainter], None]) -> None:
        """Paint what stands still from a picture of it, made where the dial or its colours are others: it takes most of a frame's time."""
        ratio = self.devicePixelRatioF()
        state = (self.size(), ratio, THEME.name, self._factor, self._windings, self._view.hexagon, bool(self._view.sectors))
        if name not in self._layers or self._layers[name][0] != state:
            picture = QPixmap(self.size() * ratio)
            picture.setDevicePixelRatio(ratio)
            picture.fill(Qt.GlobalColor.transparent)
            on = QPainter(picture)
            on.setRenderHint(QPainter.RenderHint.Antialiasing)
            on.scale(self._factor, self._factor)
            paint(on)
            on.end()
            self._layers[name] = (state, picture)
        painter.save()
        painter.resetTransform()
        painter.drawPixmap(0, 0, self._layers[name][1])
        painter.restore()

    def _paint_axes(self, painter: QPainter, inner: float) -> None:
        if self._view.hexagon:
            self._paint_limits(painter)
        self._paint_phases(painter, inner)

    def _paint_ring(self, painter: QPainter, outer: float, inner: float) -> None:
        ring = QPainterPath()
        ring.addEllipse(self._centre(), outer, outer)
        ring.addEllipse(self._centre(), inner, inner)
        painter.fillPath(ring, THEME.color("water"))
        painter.setPen(THEME.pen("ink", 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(self._centre(), outer, outer)
        painter.drawEllipse(self._centre(), inner, inner)
        for degrees in range(0, 360, 5):
            length = 15 if degrees % 30 == 0 else 8 if degrees % 10 == 0 else 4
            painter.setPen(THEME.pen("ink", 1.4 if degrees % 30 == 0 else 0.8))
            painter.drawLine(self._at(degrees, outer), self._at(degrees, outer - length))
        painter.setPen(THEME.color("soft"))
        painter.setFont(font(11))
        for degrees in range(0, 360, 30):
            spot = self._at(degrees, outer + 14)
            painter.drawText(
                QRectF(spot.x() - 20, spot.y() - 9, 40, 18), int(Qt.AlignmentFlag.AlignCenter), str(degrees)
            )

    def _paint_sectors(self, painter: QPainter, inner: float) -> None:
        painter.setFont(font(13, bold=True))
        for sector in self._view.sectors:
            width = (sector.stop - sector.start) % 360
            middle = sector.start + width / 2
            inside = self._view.rotor is not None and (self._view.rotor - sector.start) % 360 < width
            if inside:
                path = QPainterPath(self._centre())
                box = QRectF(self._centre().x() - inner, self._centre().y() - inner, 2 * inner, 2 * inner)
                path.arcTo(box, 90 - sector.start, -width)
                path.closeSubpath()
                painter.fillPath(path, THEME.color("water"))
            painter.setPen(THEME.pen("magenta", 1.4))
            painter.drawLine(self._at(sector.start, inner), self._at(sector.start, inner - 34))
            painter.setPen(THEME.color("ink" if inside else "soft"))
            spot = self._at(middle, inner - 20)
            painter.drawText(
                QRectF(spot.x() - 14, spot.y() - 10, 28, 20), int(Qt.AlignmentFlag.AlignCenter), sector.text
            )

    def _paint_limits(self, painter: QPainter) -> None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(THEME.pen("line", 1.2))
        corners = [60.0 * k for k in range(6)] if self._windings == 3 else [45.0 + 90 * k for k in range(4)]
        painter.drawPolygon(QPolygonF([self._at(degrees, _REACH) for degrees in corners]))
        painter.setPen(THEME.pen("line", 1.2, Qt.PenStyle.DashLine))
        painter.drawEllipse(self._centre(), self._circle, self._circle)

    def _paint_phases(self, painter: QPainter, inner: float) -> None:
        painter.setFont(font(13, bold=True))
        for name, degrees in _AXES[self._windings]:
            painter.setPen(THEME.pen(PHASE_TOKENS[name], 1.5, DASHES[name]))
            far = 44 if self._view.sectors else inner - 16
            painter.drawLine(self._centre(), self._at(degrees, far))
            spot = self._at(degrees + (16 if self._view.sectors else 0), far + 9)
            painter.setPen(THEME.color(PHASE_TOKENS[name]))
            painter.drawText(QRectF(spot.x() - 9, spot.y() - 9, 18, 18), int(Qt.AlignmentFlag.AlignCenter), name)

    def _paint_frame(self, painter: QPainter, degrees: float, inner: float) -> None:
        """Draw the axis that the firmware takes for the rotor's flux."""
        painter.setPen(THEME.pen("deep", 1.6, Qt.PenStyle.DashLine))
        painter.drawLine(self._centre(), self._at(degrees, inner - 12))
        spot = self._at(degrees - 8, inner - 14)
        painter.setFont(font(12, bold=True))
        painter.setPen(THEME.color("deep"))
        painter.drawText(QRectF(spot.x() - 9, spot.y() - 9, 18, 18), int(Qt.AlignmentFlag.AlignCenter), "d′")

    def _arrow(self, painter: QPainter, degrees: float, length: float, token: str, width: float, text: str) -> None:
        if length < 2:
            return
        painter.setPen(THEME.pen(token, width))
        head = min(11.0, length)
        painter.drawLine(self._centre(), self._at(degrees, length - head * 0.7))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(THEME.color(token))
        tip, base = self._at(degrees, length), self._at(degrees, length - head)
        across = QPointF(tip.y() - base.y(), base.x() - tip.x()) * 0.42
        painter.drawPolygon(QPolygonF([tip, base + across, base - across]))
        painter.setPen(THEME.color(token))
        painter.setFont(font(12, bold=True))
        spot = self._at(degrees + 9, length + 2)
        painter.drawText(QRectF(spot.x() - 8, spot.y() - 8, 16, 16), int(Qt.AlignmentFlag.AlignCenter), text)
