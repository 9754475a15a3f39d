"""How near quantities are to their limits: a bar each, with what it was at most."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame

from crisp_compass.app.theme import THEME, font

_ROW, _NAME, _EDGE = 22, 74, 12


@dataclass(frozen=True)
class Bar:
    """One bar: its name, how much of its limit it is now and was at most, 0 to 1 and above, and what stands behind it."""

    name: str
    now: float
    most: float
    text: str


class Bars(QFrame):
    """Bars below each other; beyond its limit one is red, and says so by a mark at its end."""

    def __init__(self, *, width: int) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self.setFixedWidth(width)
        self._bars: Sequence[Bar] = ()
        self.hide()

    def sizeHint(self) -> QSize:
        """Ask for a row a bar."""
        return QSize(self.width(), _ROW * len(self._bars) + 14)

    @property
    def texts(self) -> list[str]:
        """What the bars say."""
        return [f"{b.name} {b.text}" for b in self._bars]

    def show_bars(self, bars: Sequence[Bar]) -> None:
        """Show these."""
        if len(bars) != len(self._bars):
            self._bars = bars
            self.setFixedHeight(self.sizeHint().height())
        self._bars = bars
        self.setVisible(bool(bars))
        self.setAccessibleName("; ".join(self.texts))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint."""
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setFont(font(12))
        for row, bar in enumerate(self._bars):
            top = 7 + row * _ROW
            painter.setPen(THEME.color("soft"))
            painter.drawText(QRectF(_EDGE, top, _NAME, _ROW), int(Qt.AlignmentFlag.AlignVCenter), bar.name)
            room = QRectF(_EDGE + _NAME, top + 6, 0.36 * self.width(), _ROW - 12)
            painter.fillRect(room, THEME.color("line"))
            over = bar.now > 1.0
            painter.fillRect(QRectF(room.left(), room.top(), room.width() * min(max(bar.now, 0.0), 1.0), room.height()), THEME.color("magenta" if over else "deep"))
            at = room.left() + room.width() * min(max(bar.most, 0.0), 1.0)
            painter.fillRect(QRectF(at - 1, room.top() - 2, 2, room.height() + 4), THEME.color("ink"))
            painter.setPen(THEME.color("ink"))
            painter.drawText(QRectF(room.right() + 8, top, self.width() - room.right() - 8 - _EDGE, _ROW), int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight), bar.text)
