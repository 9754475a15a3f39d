"""Small widgets with a role that the style sheet knows."""

from __future__ import annotations

from PySide6.QtWidgets import QFrame, QLabel, QLayout, QPushButton


def label(text: str, role: str) -> QLabel:
    """Return a label with a role."""
    result = QLabel(text)
    result.setObjectName(role)
    return result


def button(text: str, role: str) -> QPushButton:
    """Return a button with a role."""
    result = QPushButton(text)
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
