"""Small widgets with a role that the style sheet knows."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QLayout, QPushButton, QVBoxLayout, QWidget

from crisp_compass.app.widgets.at_load import AT_LOAD


class Text(QLabel):
    """A label that shows a text as it is: what a file says is never markup, which could open pictures and links."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self._hint = ""
        self.setText(text)

    def setText(self, text: str) -> None:
        """Show a text; hovering tells its speeds at the load, where no other hint stands."""
        super().setText(text)
        hint = AT_LOAD.told(text)
        if hint != self._hint and self.toolTip() in ("", self._hint):
            self._hint = hint
            self.setToolTip(hint)


def unmarked(text: str) -> str:
    """Return a text for a tooltip or a message box, which would take it for markup where it looks like some."""
    return f"<qt>{escape(text)}</qt>" if "<" in text else text


def label(text: str, role: str) -> QLabel:
    """Return a label with a role."""
    result = Text(text)
    result.setObjectName(role)
    return result


class KeyedButton(QPushButton):
    """A button that keeps its key when its text changes: Qt would take the key away."""

    def setText(self, text: str) -> None:
        if text != self.text():
            keys = self.shortcut()
            super().setText(text)
            self.setShortcut(keys)
            self.setMinimumWidth(max(self.sizeHint().width(), 130))


def button(text: str, role: str) -> QPushButton:
    """Return a button with a role."""
    result = KeyedButton(text) if role == "main" else QPushButton(text)
    result.setObjectName(role)
    return result


def frame(role: str) -> QFrame:
    """Return a frame with a role."""
    result = QFrame()
    result.setObjectName(role)
    return result


def empty(layout: QLayout) -> None:
    """Remove every widget of a layout."""
    while (item := layout.takeAt(0)) is not None:
        widget = item.widget()
        if widget is not None:
            widget.deleteLater()


def beside(
    area: QWidget, left: Sequence[QWidget], right: Sequence[QWidget], shares: Sequence[int] = (3, 2)
) -> QWidget:
    """Lay out plots above each other (heights by ``shares``) with boxes of figures to their right, the last one stretched."""
    row = QHBoxLayout(area)
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(8)
    for widgets, stretches, width in ((left, shares, 1), (right, [0] * (len(right) - 1) + [1], 0)):
        column = QVBoxLayout()
        column.setSpacing(8)
        for widget, stretch in zip(widgets, stretches, strict=False):
            column.addWidget(widget, stretch)
        row.addLayout(column, width)
    return area
