"""Every page at three sizes and in both themes: nothing is cut, nothing overlaps, what is needed to go on is in view."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, QObject, QPoint, QRect, Qt, QThreadPool
from PySide6.QtWidgets import QAbstractButton, QApplication, QLabel, QWidget

from crisp_compass.app.pages import PAGES
from crisp_compass.app.theme import THEME
from crisp_compass.app.tokens import TOKENS
from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.app.window import Window
from crisp_compass.studies import failed_start
from hands import copy_bench

DEMO = Path(__file__).resolve().parents[2] / "demo"

SIZES = ((1024, 600), (1280, 800), (2560, 1440))


def _cut(widget: QWidget) -> str:
    """Return what of a widget's own text does not fit, or an empty text."""
    if isinstance(widget, QLabel) and widget.text() and widget.textFormat() != Qt.TextFormat.RichText:
        if widget.wordWrap():
            return "" if widget.heightForWidth(widget.width()) <= widget.height() + 1 else "too low"
        needed = widget.fontMetrics().horizontalAdvance(widget.text())
        return "" if needed <= widget.width() + 1 else f"{needed} > {widget.width()}"
    if isinstance(widget, QAbstractButton) and widget.text():
        return "" if widget.sizeHint().width() <= widget.width() + 1 else "button too narrow"
    return ""


def _place(widget: QWidget, within: QWidget) -> QRect:
    return QRect(widget.mapTo(within, QPoint(0, 0)), widget.size())


class _Watch(QObject):
    """Notes every widget that shows itself as a window of its own."""

    def __init__(self) -> None:
        super().__init__()
        self.strays: list[str] = []

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and isinstance(watched, QWidget) and watched.isWindow():
            self.strays.append(repr(watched))
        return False


def _faults(window: Window) -> tuple[int, list[tuple[str, ...]]]:
    """Return how many texts of the shown page were looked at, and what is wrong with them."""
    quiet = 0
    while quiet < 4:  # a question is put after what is due to be painted, and its answer asks for a layout
        QApplication.processEvents()
        quiet = quiet + 1 if QThreadPool.globalInstance().activeThreadCount() == 0 else 0
        QThreadPool.globalInstance().waitForDone(20)
    page, wrong = window.page, []
    at = (page.key, page.section, f"{window.width()}x{window.height()}")
    texts = [
        w
        for w in page.findChildren(QWidget)
        if isinstance(w, QLabel | QAbstractButton) and w.isVisible() and w.text()
    ]
    wrong += [(*at, w.text()[:60], problem) for w in texts if (problem := _cut(w))]
    for number in (w for w in page.findChildren(NumberField) if w.isVisible()):
        if number.edit.fontMetrics().horizontalAdvance(number.edit.text()) >= number.edit.width():
            wrong.append((*at, number.edit.text(), "field too narrow"))
    places = [(w, _place(w, page).adjusted(1, 1, -1, -1)) for w in texts]
    for i, (first, box) in enumerate(places):
        for second, other in places[i + 1 :]:
            if first.parent() is second.parent() and box.intersects(other):
                wrong.append((*at, first.text()[:40], f"over {second.text()[:40]}"))
    main = page.main_button
    if main is not None and main.isVisible() and not window.rect().contains(_place(main, window)):
        wrong.append((*at, main.text(), "out of view"))
    if not window.rect().contains(_place(window.bearing, window)):
        wrong.append((*at, "next bearing", "out of view"))
    return len(texts), wrong  # type: ignore[return-value]


_FIRST = {"plate", "resistance", "inductance", "flux", "mechanics"}


@pytest.mark.thorough(but=["pump"])
@pytest.mark.parametrize(
    ("name", "keys"),
    [("winch", _FIRST), ("winch", {*PAGES} - _FIRST - {"start_up"}), ("pump", {"start_up"})],
    ids=["winch, constants", "winch, loops", "pump"],
)
def test_no_text_is_cut_and_nothing_overlaps(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str, keys: set[str]
) -> None:
    monkeypatch.setattr(failed_start, "DRAWS", 1)
    window.open(copy_bench(DEMO / name / f"{name}.bench.json", tmp_path))
    looked, wrong = 0, []
    watch = _Watch()  # a part that is shown before it has a parent flashes up as a window and takes the focus away
    application = QApplication.instance()
    assert application is not None
    for theme in ("light", "night"):
        THEME.use(theme)
        assert window.grab().toImage().pixelColor(300, 130).name().upper() == TOKENS[theme]["paper"]
        pages = [(key, section) for key in sorted(keys) for section in PAGES[key]]
        for place, (key, section) in enumerate(pages):
            # the smaller sizes are where a text is cut; colours change none, so the other theme and the largest size look at some
            sizes = (*SIZES[:2], *(SIZES[2:] if place % 3 == 0 else ())) if theme == "light" else SIZES[1:2]
            if theme == "light" or place % 3 == 0:
                application.installEventFilter(watch)  # only here: it is asked about every event there is
                window.travel(key, section)
                application.removeEventFilter(watch)
                if theme == "light":  # what it computes is shown again in the other theme
                    QThreadPool.globalInstance().waitForDone(20000)
                for size in sizes:
                    window.resize(*size)
                    count, found = _faults(window)
                    looked += count
                    wrong += found
                    if window.page.body.horizontalScrollBar().maximum() > 0:
                        wrong.append((key, section, f"scrolls sideways at {size}"))
    assert not watch.strays
    assert not wrong, "\n".join(map(str, wrong))
    assert looked > (600 if name == "winch" else 150)
    window.page.leave()
