"""The line at the bottom that names the next step."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QMouseEvent, QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSizePolicy

from crisp_compass.app.theme import THEME
from crisp_compass.app.widgets.parts import Text, unmarked


class BearingLine(QFrame):
    """The next step in one line; Enter or a click goes there."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("bearing")
        self.setFixedHeight(38)
        self.button = QPushButton("Next bearing", flat=True)
        self._whole = ""
        self.text = Text()
        self.text.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.text.setTextFormat(Qt.TextFormat.PlainText)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 20, 0)
        row.addWidget(self.button)
        row.addWidget(self.text, 1)

    def show_text(self, text: str) -> None:
        """Show the next step; what does not fit is cut with an ellipsis and stands whole in the tip."""
        self._whole = text
        self.setAccessibleName(f"Next bearing: {text}")
        self.text.setToolTip(unmarked(text))
        self._elide()

    def _elide(self) -> None:
        room = max(self.text.width() - 4, 100)
        self.text.setText(self.text.fontMetrics().elidedText(self._whole, Qt.TextElideMode.ElideRight, room))

    @property
    def whole(self) -> str:
        """The sentence as it is, shown whole or not."""
        return self._whole

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._elide()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.button.click()

    def restyle(self) -> None:
        """Take the theme's accent."""
        accent = THEME.color("magenta").name()
        self.button.setStyleSheet(
            f"QPushButton {{ color: {accent}; font-weight: bold; border: none; background: transparent; padding: 4px 6px; text-align: left; }} QPushButton:focus {{ border: 1px dotted {accent}; }}"
        )
