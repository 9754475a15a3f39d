"""Pages of which one is shown: only the shown one is in the layout.

A stacked widget asks every page it holds for its size whenever one label changes; with some dozens of pages that takes
longer than a redraw.
"""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget


class PageStack(QWidget):
    """Shows one of its pages."""

    def __init__(self) -> None:
        super().__init__()
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._shown: QWidget | None = None

    def add(self, page: QWidget) -> None:
        """Take a page in, hidden."""
        page.setParent(self)
        page.hide()

    def show_page(self, page: QWidget) -> None:
        """Show another page."""
        if page is self._shown:
            return
        if self._shown is not None:
            self._column.removeWidget(self._shown)
            self._shown.hide()
        self._shown = page
        self._column.addWidget(page)
        page.show()
