"""Wiring sketches for empty pages: how to connect supply and probes, drawn with the phase colours and dashes."""

from __future__ import annotations

import itertools
import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent
from PySide6.QtWidgets import QWidget

from crisp_compass.app.theme import DASHES, PHASE_TOKENS, THEME, font

#: What each sketch says under the drawing: what to connect, and the caution that belongs to this step.
TEXTS = {
    "resistance": (
        "Supply (or the drive's own bridge) between A and B, C open. Step the current, hold each level until it is steady.",
        "Set the supply's current limit first. Clamp the motor: the rotor jumps when current flows.",
    ),
    "inductance": (
        "Hold the rotor. Switch the supply onto A and B, C open; scope on voltage and current, at least 10 samples within L/R.",
        "Clamp the shaft: it jerks with every step. Never pull a lead under current.",
    ),
    "flux": (
        "Leads open. Spin the shaft (drill, hand, or let it coast with the drive off) and capture one to three voltages.",
        "Open leads carry back-EMF: at speed they can exceed a safe touch voltage. Keep hands and loose things off the shaft.",
    ),
    "winding": (
        "One winding on the source, the other open; hold each current level until it is steady, or switch a step onto the winding.",
        "Clamp the shaft: it jumps to the winding's poles. Set the source's current limit first; never pull a lead under current.",
    ),
    "winding_open": (
        "Both windings open. Spin the shaft (drill, hand, or let it coast) and capture one or both voltages.",
        "A stepper turned fast is a generator: at speed its open leads can exceed a safe touch voltage.",
    ),
    "armature": (
        "Shaft held, supply on the brushes. Step the current both ways; repeat it at several shaft positions.",
        "A held armature heats where the brushes stand: only seconds at a time. Set the supply's current limit first.",
    ),
    "armature_open": (
        "Brushes open, shaft turned or coasting: capture voltage and speed. Or run it at several speeds and loads with v_m, i_m and speed.",
        "Keep hands and loose things off the shaft until it stands still.",
    ),
    "mechanics": (
        "Load off. Run up with a steady current, then switch the drive off and let the shaft coast; capture speed and i_q.",
        "Motor bolted down, coupling off, guard on: nothing loose near the shaft until it stands still.",
    ),
    "three_phase_test": (
        "All three leads on the supply or the drive; v_ab, v_bc, i_a and i_b on the scope. Once with the shaft free, once with it locked.",
        "Mains by qualified people and local codes. Locked: start from zero volts, rated current, below ten seconds. Terminals keep voltage after cut-off.",
    ),
    "encoder": (
        "Leads open, encoder powered. Turn the shaft some whole turns by hand; capture enc_a, enc_b, enc_z and two line voltages.",
        "Drive off and disconnected from the leads; never pull an encoder lead under power.",
    ),
    "commutation": (
        "Leads open, halls powered. Turn the shaft by hand at least one electrical turn; capture halls and two line voltages.",
        "Drive off and disconnected from the leads while turning; never pull a sensor lead under power.",
    ),
}


class WiringSketch(QWidget):
    """One sketch, by leg."""

    def __init__(self, waypoint: str) -> None:
        super().__init__()
        self._leg = ""
        self.setMinimumHeight(300)
        self.show_sketch(waypoint)
        THEME.changed.connect(self.update)

    def show_sketch(self, name: str) -> None:
        """Show another sketch."""
        if name != self._leg:
            self._leg = name
            self.setAccessibleName("Wiring: " + TEXTS[name][0])
            self.update()

    def sizeHint(self) -> QSize:
        return QSize(700, 360)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), THEME.color("sheet"))
        scale = max(0.6, min(self.width() / 740, (self.height() - 90) / 230))
        painter.save()
        painter.scale(scale, scale)
        middle = QPointF(self.width() / 2 / scale - 4, (self.height() / 2 - 40) / scale)
        if self._leg.startswith(("winding", "armature")):
            self._pairs(painter, middle)
        else:
            self._star(painter, middle)
        painter.restore()
        what, caution = TEXTS[self._leg]
        box = QRectF(40, self.height() - 86, self.width() - 80, 40)
        painter.setFont(font(13))
        painter.setPen(THEME.color("ink"))
        painter.drawText(box, int(Qt.AlignmentFlag.AlignHCenter | Qt.TextFlag.TextWordWrap), what)
        painter.setFont(font(12))
        painter.setPen(THEME.color("ochre"))
        painter.drawText(
            box.translated(0, 44), int(Qt.AlignmentFlag.AlignHCenter | Qt.TextFlag.TextWordWrap), caution
        )

    # ---- parts

    def _star(self, painter: QPainter, middle: QPointF) -> None:
        motor = middle + QPointF(185, 0)
        terminals = {"A": motor + QPointF(-84, -66), "B": motor + QPointF(-102, 0), "C": motor + QPointF(-84, 66)}
        self._motor(painter, motor, terminals, held=self._leg in ("resistance", "inductance"))
        getattr(self, f"_{self._leg}")(painter, middle, terminals)

    def _pairs(self, painter: QPainter, middle: QPointF) -> None:
        """Draw windings between two leads each: a source and a meter on the first, or meters alone where they are open."""
        motor, opened = middle + QPointF(185, 0), self._leg.endswith("_open")
        names = ("A", "B") if self._leg.startswith("winding") else ("M",)
        painter.setBrush(THEME.color("water"))
        painter.setPen(THEME.pen("ink", 1.6))
        painter.drawEllipse(motor, 52, 52)
        for k, name in enumerate(names):
            y = motor.y() + (0 if len(names) == 1 else (-30, 30)[k])
            token, dash = PHASE_TOKENS[("A", "B")[k]], DASHES[("A", "B")[k]]
            ends = [QPointF(motor.x() - 100, y - 16), QPointF(motor.x() - 100, y + 16)]
            for end, sign in zip(ends, "+−", strict=True):
                self._wire(painter, [end, QPointF(motor.x() - 22, end.y())], token, dash)
                self._text(painter, end + QPointF(2, -10 if sign == "+" else 12), f"{name}{sign}", token)
            painter.setPen(THEME.pen(token, 2))
            painter.setBrush(THEME.color("sheet"))
            painter.drawRect(QRectF(motor.x() - 30, y - 16, 16, 32))
            box = self._box(painter, QPointF(middle.x() - 60, y), f"v_{name.lower()}", "deep")
            if opened or k == 0:
                for end in ends:
                    self._wire(painter, [QPointF(box.right(), end.y()), end], token, dash)
            else:
                self._text(painter, QPointF(box.right() + 40, y), "open")
            if k == 0 and not opened:
                source = self._box(painter, QPointF(middle.x() - 250, y), "Source")
                for end, arrow in zip(ends, (True, False), strict=True):
                    start = QPointF(source.right(), end.y())
                    self._wire(painter, [start, QPointF(box.left(), end.y())], token, dash)
                    if arrow:
                        self._text(painter, start + QPointF(36, -12), f"i_{name.lower()}", "magenta")
        painter.setPen(THEME.pen("ink", 2.4))
        painter.drawLine(motor + QPointF(52, 0), motor + QPointF(92, 0))
        if opened:
            self._text(painter, motor + QPointF(84, 22), "turned")
        else:
            painter.setBrush(THEME.color("sheet"))
            painter.drawRect(QRectF(motor.x() + 76, motor.y() - 15, 15, 30))
            self._text(painter, motor + QPointF(84, 30), "clamped")

    def _motor(self, painter: QPainter, at: QPointF, terminals: dict[str, QPointF], *, held: bool) -> None:
        painter.setBrush(THEME.color("water"))
        painter.setPen(THEME.pen("ink", 1.6))
        painter.drawEllipse(at, 52, 52)
        painter.setBrush(THEME.color("sheet"))
        painter.drawEllipse(at, 20, 20)
        for name, spot in terminals.items():
            painter.setPen(THEME.pen(PHASE_TOKENS[name], 2, DASHES[name]))
            direction = at - spot
            size = math.hypot(direction.x(), direction.y())
            painter.drawLine(spot, at - direction * (52 / size))
            painter.setPen(THEME.pen("ink", 1.4))
            painter.setBrush(THEME.color("sheet"))
            painter.drawEllipse(spot, 4, 4)
            painter.setFont(font(14, bold=True))
            painter.setPen(THEME.color(PHASE_TOKENS[name]))
            painter.drawText(
                QRectF(spot.x() - 10, spot.y() - 28 if name != "C" else spot.y() + 8, 20, 20),
                int(Qt.AlignmentFlag.AlignCenter),
                name,
            )
        painter.setPen(THEME.pen("ink", 2.4))
        if held:
            painter.drawLine(at + QPointF(20, 0), at + QPointF(92, 0))
            painter.drawRect(QRectF(at.x() + 76, at.y() - 15, 15, 30))
            self._text(painter, at + QPointF(84, 30), "clamped")
        else:
            path = QPainterPath()
            box = QRectF(at.x() - 34, at.y() - 34, 68, 68)
            path.arcMoveTo(box, 60)
            path.arcTo(box, 60, -150)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(THEME.pen("magenta", 2))
            painter.drawPath(path)
            tip = path.currentPosition()
            painter.drawLine(tip, tip + QPointF(9, -6))
            painter.drawLine(tip, tip + QPointF(9, 7))

    def _text(self, painter: QPainter, at: QPointF, text: str, token: str = "soft") -> None:
        painter.setFont(font(12))
        painter.setPen(THEME.color(token))
        painter.drawText(QRectF(at.x() - 140, at.y() - 9, 280, 18), int(Qt.AlignmentFlag.AlignCenter), text)

    def _box(self, painter: QPainter, at: QPointF, title: str, token: str = "ink") -> QRectF:
        box = QRectF(at.x() - 58, at.y() - 23, 116, 46)
        painter.setPen(THEME.pen(token, 1.6))
        painter.setBrush(THEME.color("sheet"))
        painter.drawRoundedRect(box, 3, 3)
        painter.setFont(font(13))
        painter.setPen(THEME.color(token))
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), title)
        return box

    def _wire(
        self,
        painter: QPainter,
        points: list[QPointF],
        token: str,
        style: Qt.PenStyle = Qt.PenStyle.SolidLine,
        *,
        arrow: bool = False,
    ) -> None:
        painter.setPen(THEME.pen(token, 2, style))
        for a, b in itertools.pairwise(points):
            painter.drawLine(a, b)
        if arrow:
            a, b = points[0], points[1]
            spot = a + (b - a) * 0.55
            painter.setPen(THEME.pen("magenta", 2))
            painter.drawLine(spot, spot + QPointF(-8, -5))
            painter.drawLine(spot, spot + QPointF(-8, 5))
            self._text(painter, spot + QPointF(-4, -15), "i_a", "magenta")

    def _supply_to_ab(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF], title: str) -> QRectF:
        box = self._box(painter, middle + QPointF(-240, -33), title)
        a, b = terminals["A"], terminals["B"]
        self._wire(painter, [QPointF(box.right(), a.y()), a], "deep", arrow=True)
        self._wire(
            painter,
            [
                QPointF(box.right(), box.bottom() - 8),
                QPointF(box.right() + 26, box.bottom() - 8),
                QPointF(box.right() + 26, b.y()),
                b,
            ],
            "ochre",
            DASHES["B"],
        )
        self._wire(painter, [QPointF(box.right(), a.y()), QPointF(box.right(), box.top())], "deep")
        self._text(painter, QPointF(box.right() - 12, box.top() + 10), "+")
        self._text(painter, QPointF(box.right() - 12, box.bottom() - 10), "−")
        self._text(painter, terminals["C"] + QPointF(-64, 4), "C stays open")
        return box

    def _resistance(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF]) -> None:
        self._supply_to_ab(painter, middle, terminals, "DC supply")
        self._meter(painter, middle, terminals)

    def _inductance(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF]) -> None:
        box = self._supply_to_ab(painter, middle, terminals, "Pulse source")
        painter.setPen(THEME.pen("ink", 1.4))
        left, low = box.left() + 8, box.bottom() + 30
        for k in range(3):
            x = left + 34 * k
            painter.drawPolyline(
                [
                    QPointF(x, low),
                    QPointF(x + 12, low),
                    QPointF(x + 12, low - 18),
                    QPointF(x + 27, low - 18),
                    QPointF(x + 27, low),
                    QPointF(x + 34, low),
                ]
            )
        self._meter(painter, middle, terminals)

    def _meter(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF]) -> None:
        box = self._box(painter, middle + QPointF(-70, -33), "v_ab", "deep")
        for name, y in (("A", box.top()), ("B", box.bottom())):
            painter.setPen(THEME.pen("soft", 1.2, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(box.center().x(), y), QPointF(box.center().x(), terminals[name].y()))

    def _probes(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF]) -> None:
        for title, y, pair in (("v_ab", -38.0, ("A", "B")), ("v_bc", 38.0, ("B", "C"))):
            box = self._box(painter, middle + QPointF(-110, y), title, "deep")
            for k, name in enumerate(pair):
                start = QPointF(box.right(), box.top() + 12 + 22 * k)
                end = terminals[name]
                self._wire(
                    painter,
                    [start, QPointF(start.x() + 30 + 14 * k, start.y()), QPointF(start.x() + 44, end.y()), end],
                    PHASE_TOKENS[name],
                    DASHES[name],
                )

    def _flux(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF]) -> None:
        self._probes(painter, middle, terminals)

    def _mechanics(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF]) -> None:
        box = self._box(painter, middle + QPointF(-120, 0), "Drive, i_q")
        for k, name in enumerate(("A", "B", "C")):
            start, end = QPointF(box.right(), box.top() + 8 + 15 * k), terminals[name]
            bend = start.x() + (44, 30, 44)[k]
            self._wire(
                painter,
                [start, QPointF(bend, start.y()), QPointF(bend, end.y()), end],
                PHASE_TOKENS[name],
                DASHES[name],
            )
        # the speed such a capture shows: up under current, then down without
        left, low = middle.x() - 330, middle.y() + 34
        painter.setPen(THEME.pen("ink", 1.2))
        painter.drawPolyline([QPointF(left, low - 78), QPointF(left, low), QPointF(left + 128, low)])
        path = QPainterPath(QPointF(left, low))
        path.quadTo(QPointF(left + 30, low - 66), QPointF(left + 52, low - 70))
        path.quadTo(QPointF(left + 76, low - 20), QPointF(left + 124, low))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(THEME.pen("magenta", 2))
        painter.drawPath(path)
        painter.setPen(THEME.pen("soft", 1.2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(left + 52, low - 78), QPointF(left + 52, low))
        self._text(painter, QPointF(left + 24, low + 14), "current on")
        self._text(painter, QPointF(left + 92, low + 14), "coasts")

    def _three_phase_test(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF]) -> None:
        source = self._box(painter, middle + QPointF(-250, 0), "Supply, 3 phases")
        meter = self._box(painter, middle + QPointF(-70, 0), "v, i", "deep")
        for k, name in enumerate(("A", "B", "C")):
            y, end = meter.top() + 8 + 15 * k, terminals[name]
            bend = meter.right() + (44, 30, 44)[k]
            token, dash = PHASE_TOKENS[name], DASHES[name]
            self._wire(painter, [QPointF(source.right(), y), QPointF(meter.left(), y)], token, dash)
            self._wire(
                painter, [QPointF(meter.right(), y), QPointF(bend, y), QPointF(bend, end.y()), end], token, dash
            )
        self._text(painter, middle + QPointF(-160, -40), "variable voltage and frequency")
        self._text(painter, middle + QPointF(185, 92), "free, then locked")

    def _encoder(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF]) -> None:
        self._sensor(painter, middle, terminals, "enc_a b z", lines="supply, ground and three encoder lines")

    def _commutation(self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF]) -> None:
        self._sensor(painter, middle, terminals, "hall_1 … 3", lines="supply, ground and three hall lines")

    def _sensor(
        self, painter: QPainter, middle: QPointF, terminals: dict[str, QPointF], name: str, lines: str
    ) -> None:
        self._probes(painter, middle, terminals)
        box = self._box(painter, middle + QPointF(-260, 0), name)
        y = middle.y() + 92
        painter.setPen(THEME.pen("ink", 1.2))
        for k in range(3):
            painter.drawLine(
                QPointF(box.center().x() - 20 + 20 * k, box.bottom()),
                QPointF(box.center().x() - 20 + 20 * k, y + 5 * k),
            )
            painter.drawLine(QPointF(box.center().x() - 20 + 20 * k, y + 5 * k), QPointF(middle.x() + 185, y + 5 * k))
        painter.drawLine(QPointF(middle.x() + 185, y + 10), QPointF(middle.x() + 185, middle.y() + 52))
        self._text(painter, QPointF(middle.x() - 90, y - 10), lines)
