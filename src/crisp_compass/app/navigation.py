"""Travelling: pages are built when they are first opened, or ahead of that while nobody waits."""

from __future__ import annotations

from functools import partial
from itertools import pairwise

from PySide6.QtCore import QObject, QPoint, Qt, QTimer, Signal
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.pages import PAGES
from crisp_compass.app.widgets.page_stack import PageStack
from crisp_compass.course.course import sections_of, waypoints_of
from crisp_compass.course.waypoints import BY_KEY

#: Pause between two pages built ahead, ms.
AHEAD_MS = 120


class Navigator(QObject):
    """The pages of one window. ``left`` carries the page that is no longer open, ``arrived`` the open one, ``made`` a new one."""

    left = Signal(object)
    arrived = Signal(object)
    made = Signal(object)

    def __init__(self, parent: QObject, document: Document) -> None:
        super().__init__(parent)
        self._document = document
        self._built: dict[type[Page], Page] = {}
        self.stack = PageStack()
        self._open: Page | None = None
        self._ahead = QTimer(self)
        self._ahead.setInterval(AHEAD_MS)
        self._ahead.timeout.connect(self._build_ahead)

    @property
    def page(self) -> Page:
        """The open page."""
        return self._open or self.page_of("plate")

    def page_of(self, key: str, section: str = "") -> Page:
        """Return a section's page (a waypoint's main one without a name), building it the first time."""
        kinds = PAGES[key]
        kind = kinds[section or self._main_of(key)]
        if kind not in self._built:
            page = self._built[kind] = kind(self._document)
            page.setup()
            page.section_chosen.connect(partial(self.travel, key))
            page.show_sections(tuple(kinds))
            self.stack.add(page)
            self.made.emit(page)
        return self._built[kind]

    def _main_of(self, key: str) -> str:
        offered = sections_of(self._document.bench, BY_KEY[key])
        return offered[0] if offered else next(iter(PAGES[key]))

    def build_ahead(self) -> None:
        """Begin to build the pages that were not opened yet, one at a time."""
        self._ahead.start()

    def _build_ahead(self) -> None:
        for key, kinds in PAGES.items():
            for name, kind in kinds.items():
                if kind not in self._built:
                    self.page_of(key, name)
                    return
        self._ahead.stop()

    def travel(self, key: str, section: str = "") -> None:
        """Open a waypoint, at one of its sections or at the main one."""
        fresh = self.page_of(key, section)
        if self._open is not None and fresh is not self._open:
            self._open.leave()
            self.left.emit(self._open)
        self._open = fresh
        self.stack.show_page(fresh)
        fresh.enter()
        self.arrived.emit(fresh)

    def travel_number(self, number: int) -> None:
        """Open the waypoint at a place of the bench's course, counted from one."""
        waypoints = waypoints_of(self._document.bench)
        if number <= len(waypoints):
            self.travel(waypoints[number - 1].key)

    def turn_section(self, by: int) -> None:
        """Open the next section of the open waypoint, or the previous one."""
        page = self.page
        names = list(dict.fromkeys((*sections_of(self._document.bench, page.waypoint), page.section)))
        self.travel(page.key, names[(names.index(page.section) + by) % len(names)])

    def order_tabs(self, before: list[QWidget], after: list[QWidget]) -> None:
        """Let Tab follow the eye: what is ``before`` the page, the page from top left to bottom right, what is ``after`` it."""
        page, focus = self.page, Qt.FocusPolicy.TabFocus
        for layout in (page.layout(), page.body.inside.layout()):  # a page just opened has no places yet
            if layout is not None:
                layout.activate()
        here = page.window()  # an open dialog is a child of the page, but a window of its own
        stops = [w for w in page.findChildren(QWidget) if w.focusPolicy() & focus and w.isVisible() and w.window() is here]
        places = {w: w.mapTo(page, QPoint(0, 0)) for w in stops}
        stops.sort(key=lambda w: (places[w].y() // 20, places[w].x()))
        chain = [w for w in (*before, *stops, *after) if w.focusPolicy() != Qt.FocusPolicy.NoFocus]
        for first, second in pairwise(chain):
            QWidget.setTabOrder(first, second)
