"""A probability as a bar with its figure."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from crisp_compass.app.theme import THEME, font


class ChanceBar(QWidget):
    """A probability as a bar with its figure."""

    def __init__(self) -> None:
        super().__init__()
        self._chance, self._best = 0.0, False
        self.setFixedHeight(26)
        self.setMinimumWidth(84)
        THEME.changed.connect(self.update)

    def show_chance(self, chance: float, best: bool) -> None:
        """Show another probability; the best one is drawn in magenta."""
        self._chance, self._best = chance, best
        self.setAccessibleName(f"{100 * chance:.0f} %")
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(
            QRectF(0, 7, max((self.width() - 56) * self._chance, 1.5), 12),
            THEME.color("magenta" if self._best else "deep"),
        )
        painter.setPen(THEME.color("ink"))
        painter.setFont(font(13, bold=self._best))
        box = QRectF(self.width() - 52, 0, 50, self.height())
        painter.drawText(
            box, int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight), f"{100 * self._chance:.0f} %"
        )
