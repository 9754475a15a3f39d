"""Rows that wrap where the window is narrow, and bodies that scroll where it is low."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QPoint, QRect, QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QFrame,
    QLabel,
    QLayout,
    QLayoutItem,
    QScrollArea,
    QStyle,
    QVBoxLayout,
    QWidget,
    QWidgetItem,
)


class FlowRow(QLayout):
    """Widgets from left to right, in as many lines as their widths need; the tail stands at the right end of the last line."""

    def __init__(self, spacing: int = 8) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._tail: set[QWidget] = set()
        self._heights: dict[int, int] = {}
        self.setSpacing(spacing)
        self.setContentsMargins(0, 0, 0, 0)

    def add(self, widget: QWidget, *, tail: bool = False) -> None:
        """Put a widget at the end, or into the tail."""
        if tail:
            self._tail.add(widget)
        self.addChildWidget(widget)
        self.addItem(QWidgetItem(widget))

    def take_tail(self) -> list[QWidget]:
        """Give the tail away."""
        taken = [i.widget() for i in self._items if i.widget() in self._tail]
        self._items = [i for i in self._items if i.widget() not in self._tail]
        self._tail.clear()
        self.invalidate()
        return [w for w in taken if w is not None]

    def clear_heads(self) -> None:
        """Let go of every widget that is not in the tail."""
        self._items = [i for i in self._items if i.widget() in self._tail]
        self.invalidate()

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)
        self.invalidate()

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        self._heights.clear()
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def invalidate(self) -> None:
        self._heights.clear()
        super().invalidate()

    def heightForWidth(self, width: int) -> int:
        if width not in self._heights:  # asked for by every layout around, several times in one go
            self._heights[width] = self._place(QRect(0, 0, width, 0), move=False)
        return self._heights[width]

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._place(rect, move=True)

    def sizeHint(self) -> QSize:
        sizes = [i.sizeHint() for i in self._items if not i.isEmpty()]
        width = sum(s.width() for s in sizes) + self.spacing() * max(len(sizes) - 1, 0)
        return QSize(width, max((s.height() for s in sizes), default=0))

    def minimumSize(self) -> QSize:
        sizes = [i.minimumSize() for i in self._items if not i.isEmpty()]
        return QSize(max((s.width() for s in sizes), default=0), max((s.height() for s in sizes), default=0))

    def _place(self, rect: QRect, *, move: bool) -> int:
        """Put the items into lines, bottoms level; return the height."""
        shown = [i for i in self._items if not i.isEmpty()]
        heads = [i for i in shown if i.widget() not in self._tail]
        tail = [i for i in shown if i.widget() in self._tail]
        lines = self._lines(heads, rect.width())
        tail_width = self._width(tail)
        last = sum(i.sizeHint().width() + self.spacing() for i in lines[-1]) if lines else 0
        if tail and (not lines or last + tail_width > rect.width()):
            *over, tail_line = self._lines(tail, rect.width())
            lines += [*over, []]
            tail, tail_width = tail_line, self._width(tail_line)
        y = rect.y()
        for place, line in enumerate(lines):
            right = tail if place == len(lines) - 1 else []
            height = max(i.sizeHint().height() for i in (*line, *right))
            if move:
                self._lay(line, rect.x(), y, height)
                self._lay(right, rect.x() + rect.width() - tail_width, y, height)
            y += height + self.spacing()
        return max(y - self.spacing() - rect.y(), 0)

    def _width(self, items: list[QLayoutItem]) -> int:
        return sum(i.sizeHint().width() for i in items) + self.spacing() * max(len(items) - 1, 0)

    def _lines(self, items: list[QLayoutItem], width: int) -> list[list[QLayoutItem]]:
        lines: list[list[QLayoutItem]] = []
        used = 0
        for item in items:
            wide = item.sizeHint().width()
            if not lines or used + wide > width:
                lines.append([])
                used = 0
            lines[-1].append(item)
            used += wide + self.spacing()
        return lines

    def _lay(self, items: list[QLayoutItem], x: int, y: int, height: int) -> None:
        sizes = [item.sizeHint().expandedTo(item.minimumSize()) for item in items]
        labels = [isinstance(item.widget(), QLabel) for item in items]
        beside = min((s.height() for s, label in zip(sizes, labels, strict=True) if not label), default=0)
        for item, size, label in zip(items, sizes, labels, strict=True):
            low = max(beside - size.height(), 0) // 2 if label else 0  # a text stands level with the buttons beside it
            item.setGeometry(QRect(QPoint(x, y + height - size.height() - low), size))
            x += size.width() + self.spacing()


class Scroll(QScrollArea):
    """A body that fills its place and scrolls where the window is smaller than what it needs at least.

    The area's own resizing would give a body whose texts wrap all the height it would like, and scroll for no reason.
    """

    def __init__(self) -> None:
        super().__init__()
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setObjectName("body")
        self.inside = QWidget()
        self.inside.setObjectName("body")
        self.setWidget(self.inside)
        self.inside.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.inside and event.type() == QEvent.Type.LayoutRequest:
            self.fit()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.fit()

    def fit(self) -> None:
        """Give the body its size: the whole place, or the least that it needs."""
        layout = self.inside.layout()
        if not isinstance(layout, QVBoxLayout):
            return
        room = self.maximumViewportSize()
        bar = self.style().pixelMetric(QStyle.PixelMetric.PM_ScrollBarExtent)
        least = layout.totalMinimumSize().width()
        width = max(room.width(), least)
        height = layout.totalMinimumHeightForWidth(width)
        if height > room.height():
            width = max(room.width() - bar, least)
            height = layout.totalMinimumHeightForWidth(width)
        size = QSize(width, max(room.height() - (bar if width > room.width() else 0), height))
        if size != self.inside.size():
            self.inside.resize(size)
