"""Find anything: pages, fields with their values, what is settled, captures, open points, commands, the guide; and go there."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import QDialog, QHeaderView, QMenu, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from crisp_compass.app.page.fields import Entry, tip_of
from crisp_compass.app.page.fields import called as called_of
from crisp_compass.app.pages import PAGES
from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.parts import label
from crisp_compass.bench.entered import locate, value_of
from crisp_compass.bench.models import Bench
from crisp_compass.course.course import sections_of, waypoints_of
from crisp_compass.course.open_points import open_points
from crisp_compass.guide import search
from crisp_compass.quantities import show

if TYPE_CHECKING:
    from crisp_compass.app.window import Window

#: Lines that are shown.
_MOST = 60
_KINDS = ("page", "command", "field", "settled", "capture", "open point", "guide")


@dataclass(frozen=True)
class Place:
    """Something to go to: its ``kind``, what it is called, where it is (or its keys), what else names it, and how to get there."""

    kind: str
    name: str
    where: str
    also: str
    go: Callable[[], None]

    def rank(self, words: list[str]) -> tuple[int, int] | None:
        """Return how well it answers ``words`` (smaller is better); None where one of them is nowhere in it."""
        name, all_of_it = self.name.lower(), f"{self.name} {self.where} {self.also}".lower()
        if not all(w in all_of_it for w in words):
            return None
        near = 0 if name.startswith(words[0]) else 1 if all(w in name for w in words) else 2 if any(w in name for w in words) else 3
        return near, _KINDS.index(self.kind)


def places(window: Window) -> list[Place]:
    """Return everything that can be found in a window, but the guide's lines."""
    bench = window.document.bench
    return [*_pages(window, bench), *_commands(window), *_fields(window, bench), *_settled(window, bench), *_points(window, bench)]


def _offered(bench: Bench) -> Iterator[tuple[str, str, str]]:
    """Yield key, section and title of each page that this bench has."""
    for w in waypoints_of(bench):
        for section in sections_of(bench, w):
            yield w.key, section, f"{w.name}, {section}" if section else w.name


def _pages(window: Window, bench: Bench) -> Iterator[Place]:
    for key, section, title in _offered(bench):
        page = PAGES[key][section]
        yield Place("page", title, page.question, "", go=partial(window.travel, key, section))


def _shown(bench: Bench, topic: str, name: str, unit: str) -> str:
    try:
        value = value_of(bench, topic, name)
    except AttributeError:  # another kind of motor's
        return ""
    if isinstance(value, bool) or value is None or not isinstance(value, int | float):
        return "" if value is None else str(value)
    return show(value, unit, 3)


def _fields(window: Window, bench: Bench) -> Iterator[Place]:
    for key, section, title in _offered(bench):
        for declared in PAGES[key][section].fields:
            topic, name = locate(key, declared.setting)
            called, unit = called_of(declared, key)
            value = _shown(bench, topic, name, unit) if isinstance(declared, Entry) else ""
            there = f"{title}{': ' if value else ''}{value}"
            yield Place("field", called, there, f"{declared.group} {tip_of(declared, key)}", go=partial(_to_field, window, key, section, declared.setting))


def _to_field(window: Window, key: str, section: str, setting: str) -> None:
    window.travel(key, section)
    widget = window.page._fields.get(setting)
    if widget is not None:
        widget.setFocus()


def _settled(window: Window, bench: Bench) -> Iterator[Place]:
    names = {w.key: w.name for w in waypoints_of(bench)}
    for topic, settled in bench.settled.items():
        if topic in names:
            for name, quantity in settled.values.items():
                yield Place("settled", name.replace("_", " "), f"{names[topic]}: {show(quantity.value, quantity.unit, 4)}", settled.reason, go=partial(window.travel, topic))
    for topic, evidence in bench.evidence.items():
        for one in evidence:
            if topic in names:
                yield Place("capture", one.file, names[topic], one.kind, go=partial(window.travel, topic))


def _points(window: Window, bench: Bench) -> Iterator[Place]:
    for finding in open_points(bench):
        yield Place("open point", finding.text, "Hand over", finding.code, go=partial(window.travel, "hand_over"))


def _commands(window: Window) -> Iterator[Place]:
    waiting: list[tuple[str, QAction]] = [("", a) for a in window.menuBar().actions()]
    while waiting:
        path, action = waiting.pop(0)
        text, menu = action.text().replace("&", "").rstrip("…"), action.menu()
        if isinstance(menu, QMenu):
            waiting = [(f"{path}{text} > ", a) for a in menu.actions()] + waiting
        elif text and action.isVisible() and action.isEnabled():
            keys = action.shortcut().toString()
            yield Place("command", text, f"{path.removesuffix(' > ')}{'   ' if keys else ''}{keys}", "", go=action.trigger)


class Finder(QDialog):
    """A line and what answers it, best first; Enter goes to the marked one."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.setWindowTitle("Find anything")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(720, 440)
        self._window, self._places = window, places(window)
        self._found: list[Place] = []
        self.line = Line(placeholderText="page, field, value, capture, command, guide")
        self.line.setAccessibleName("What is sought")
        self.line.textChanged.connect(self._on_words)
        self.line.installEventFilter(self)
        self.list = QTreeWidget()
        self.list.setObjectName("finder")
        self.list.setAccessibleName("What was found")
        self.list.setColumnCount(3)
        self.list.setHeaderHidden(True)
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.setColumnWidth(0, 86)
        self.list.setColumnWidth(1, 280)
        self.list.header().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.list.itemActivated.connect(lambda *_: self.go())
        self.list.itemClicked.connect(lambda *_: self.go())
        self.told = label("", "info")
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 14, 14, 10)
        column.addWidget(self.line)
        column.addWidget(self.list, 1)
        column.addWidget(self.told)
        self._on_words("")

    def _guide(self, words: str) -> list[Place]:
        own = {(key, section) for key, section, _ in _offered(self._window.document.bench)}
        found = [hit for hit in search(words, 12) if (hit.chapter.key, hit.chapter.section) in own]
        return [Place("guide", hit.chapter.title, hit.line, "", go=partial(self._window.open_guide, hit.chapter)) for hit in found]

    def _on_words(self, text: str) -> None:
        words = text.lower().split()
        if words:
            ranked = [(rank, k) for k, place in enumerate(self._places) if (rank := place.rank(words)) is not None]
            self._found = [self._places[k] for _, k in sorted(ranked)][:_MOST] + self._guide(text)
        else:
            self._found = [p for p in self._places if p.kind == "page"]
        self.list.clear()
        for place in self._found:
            item = QTreeWidgetItem([place.kind, place.name, place.where])
            item.setToolTip(2, place.where)
            self.list.addTopLevelItem(item)
        self._mark(0)
        self.told.setText(f"{len(self._found)} found; ↑ ↓ and Enter go there" if self._found else "Nothing has all of these words; fewer or shorter ones find more")

    @property
    def _at(self) -> int:
        return self.list.currentIndex().row()

    def _mark(self, row: int) -> None:
        self.list.setCurrentIndex(self.list.model().index(min(max(row, 0), len(self._found) - 1), 0))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let the arrow keys move the mark while the line is typed in."""
        if watched is self.line and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 10, Qt.Key.Key_PageUp: -10}.get(Qt.Key(event.key()))
            if step is not None and self._found:
                self._mark(self._at + step)
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self.go()
                return True
        return super().eventFilter(watched, event)

    def go(self) -> None:
        """Go to what is marked."""
        if 0 <= self._at < len(self._found):
            place = self._found[self._at]
            self.close()
            place.go()


def find(window: Window) -> QWidget:
    """Open the finder of a window."""
    finder = Finder(window)
    finder.show()
    finder.line.setFocus()
    return finder
