"""A line of text that leaves the window's own keys to the window."""

from __future__ import annotations

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import QLineEdit


class Line(QLineEdit):
    """An entry. Undo and redo are the bench's unless something is being typed here; ``lets_through`` are keys that the window
    keeps for itself even then."""

    lets_through: tuple[Qt.Key, ...] = ()

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride:
            steps = (QKeySequence.StandardKey.Undo, QKeySequence.StandardKey.Redo)
            back = any(event.matches(s) for s in steps) and not (self.isModified() and self.isUndoAvailable())
            plain = not event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
            if back or (plain and event.key() in self.lets_through):
                event.ignore()
                return False
        return super().event(event)
