"""A line of text that leaves the window's own keys to the window."""

from __future__ import annotations

from PySide6.QtCore import QEvent
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import QLineEdit


class Line(QLineEdit):
    """An entry. Undo and redo are the bench's unless something is being typed here."""

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride:
            steps = (QKeySequence.StandardKey.Undo, QKeySequence.StandardKey.Redo)
            back = any(event.matches(s) for s in steps) and not (self.isModified() and self.isUndoAvailable())
            if back:
                event.ignore()
                return False
        return super().event(event)
