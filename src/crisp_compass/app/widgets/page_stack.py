"""Pages of which one is shown: only the shown one is in the layout.

A stacked widget asks every page it holds for its size whenever one label changes; with some dozens of pages that takes
longer than a redraw.
"""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget

from crisp_compass.app.theme import THEME


class PageStack(QWidget):
    """Shows one of its pages."""

    def __init__(self) -> None:
        super().__init__()
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._shown: QWidget | None = None
        self._dressed: dict[QWidget, str] = {}
        THEME.changed.connect(self._on_theme)

    def add(self, page: QWidget) -> None:
        """Take a page in, hidden."""
        page.setParent(self)
        page.hide()
        self._dressed[page] = THEME.name

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
        self._dress()

    def _on_theme(self) -> None:
        """Dress the window and the shown page; the others are dressed when they are shown."""
        window = self.window()
        if window is not self:
            THEME.dress(window, but=self._dressed)
        self._dress()

    def _dress(self) -> None:
        if self._shown is not None and self._dressed.get(self._shown) != THEME.name:
            THEME.dress(self._shown)
            self._dressed[self._shown] = THEME.name
