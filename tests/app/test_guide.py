"""The guide beside every page, and finding anything: what they name is there, and they lead there."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractButton, QApplication
from pytestqt.qtbot import QtBot

from crisp_compass.app.drills import DrillsWindow
from crisp_compass.app.finder import Finder, places
from crisp_compass.app.page.fields import called
from crisp_compass.app.pages import PAGES
from crisp_compass.app.waypoints.plate.beginning import DEMOS
from crisp_compass.app.waypoints.plate.motor import PlatePage
from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.app.window import Window
from crisp_compass.errors import Refusal
from crisp_compass.guide import FOLDER, chapter_at, chapters, search
from crisp_compass.guide.reasons import reasons, why
from hands import copy_bench

_WANTED = 12
_MOST = 240


def test_every_page_has_its_chapter_and_no_chapter_is_left_over() -> None:
    places_ = {c.place for c in chapters()}
    assert {p.relative_to(FOLDER).as_posix().removesuffix(".md") for p in FOLDER.rglob("*.md")} == places_
    assert {(c.key, c.section) for c in chapters()} == {(k, s) for k, kinds in PAGES.items() for s in kinds}
    for chapter in chapters():
        words = len(chapter.text.split())
        assert _WANTED < words < _MOST, (chapter.place, words)
        assert chapter.text.startswith("# ")
        for link in re.findall(r"\]\(([^)]+)\)", chapter.text):
            assert chapter_at(link) is not None, (chapter.place, link)


def test_what_a_chapter_names_is_on_its_page(window: Window) -> None:
    """Names in bold are fields, buttons or tables of the page."""
    missing = []
    for chapter in chapters():
        named = set(re.findall(r"\*\*([^*]+)\*\*", chapter.text))
        if not named:
            continue
        page = window.page_of(chapter.key, chapter.section)
        there = {called(f, page.key)[0] for f in page.fields} | {b.text() for b in page.findChildren(QAbstractButton)} | {r._heading.text() for r in page.findChildren(Rows)}
        there |= {n.accessibleName() for n in page.findChildren(NumberField)}
        missing += [(chapter.place, name) for name in sorted(named - there)]
    assert not missing


def test_the_guide_is_searched_titles_first() -> None:
    assert search("torque mode")[0].chapter.place == "speed_loop/torque-mode"
    assert search("notch peak")[0].chapter.place == "speed_loop/resonance"
    assert "**" not in "".join(h.line for h in search("speed"))
    assert search("") == []
    assert search("zebra") == []


def test_the_guide_goes_with_the_page(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run", "Limits")
    qtbot.keyClick(window, Qt.Key.Key_F1)
    assert window.guide.isVisible()
    assert not window.ledger.isVisible()
    assert "What trips the drive" in window.guide.view.toPlainText()
    window.travel("flux", "Side by side")
    assert not window.dial.isVisible()
    window.guide.line.setText("brake resistor")
    assert "Braking" in window.guide.view.toPlainText()
    window.guide._on_link(window.guide.view.document().baseUrl().resolved("run/braking"))
    assert (window.page.key, window.page.section) == ("run", "Braking")
    assert window.guide.line.text() == ""
    assert "Where the energy of a stop goes" in window.guide.view.toPlainText()
    window.guide.line.setText("zebra")
    assert "Nothing in the guide" in window.guide.view.toPlainText()
    qtbot.keyClick(window, Qt.Key.Key_F1)
    assert window.guide.isHidden()
    assert window.ledger.isVisible()


@pytest.mark.thorough(each=2)
@pytest.mark.parametrize(("words", "kind", "there"), [("notch", "field", ("speed_loop", "Resonance")), ("homing", "page", ("motion", "Homing")), ("flux linkage", "settled", ("flux", "Capture")), ("winch-coast", "capture", ("flux", "Capture"))])
def test_anything_is_found_by_keyboard(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path, words: str, kind: str, there: tuple[str, str]) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("plate")
    qtbot.keyClick(window, Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
    finder = window.findChild(Finder)
    assert finder is not None
    assert finder.list.topLevelItemCount() > 40  # without a word every page of this bench
    qtbot.keyClicks(finder.line, words)
    rows = [finder.list.topLevelItem(k).text(0) for k in range(finder.list.topLevelItemCount())]
    while finder.list.topLevelItem(finder.list.currentIndex().row()).text(0) != kind:
        assert finder.list.currentIndex().row() < len(rows) - 1
        qtbot.keyClick(finder.line, Qt.Key.Key_Down)
    qtbot.keyClick(finder.line, Qt.Key.Key_Return)
    assert (window.page.key, window.page.section) == there
    if kind == "field":
        assert window.page._fields["notch_hz"].isAncestorOf(QApplication.focusWidget() or window)


def test_commands_are_found_with_their_keys_and_only_what_this_bench_has(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    told = {(p.kind, p.name): p for p in places(window)}
    assert told["command", "Night colours"].where == "View   Ctrl+T"
    assert ("page", "Start-up, Sequence") not in told  # the winch has an encoder
    assert "8.00 A" in told["field", "Current limit"].where
    night = window.menus._night.isChecked()
    told["command", "Night colours"].go()
    assert window.menus._night.isChecked() != night
    told["command", "Night colours"].go()
    finder = Finder(window)
    qtbot.addWidget(finder)
    finder.line.setText("zebra crossing")
    assert "Nothing has all of these words" in finder.told.text()
    finder.go()


def test_an_empty_bench_says_what_it_can_begin_with(window: Window, qtbot: QtBot) -> None:
    """An own motor in three choices (one step to undo, only the sensors that this kind has), a demo, drills, guide."""
    page = window.page
    assert isinstance(page, PlatePage)
    beginning = page.beginning
    assert beginning.isVisible()
    beginning.family.show_value("stepper")
    beginning._on_family("stepper")
    assert [beginning.sensor.box.itemData(k) for k in range(beginning.sensor.box.count())] == ["incremental", "absolute"]
    beginning.supply.show_value("battery")
    beginning.begin.click()
    settings = window.document.bench.settings
    assert (settings.plate.family, settings.sensor.kind, settings.supply.source) == ("stepper", "incremental", "battery")
    assert not beginning.isVisible()
    assert page.isAncestorOf(QApplication.focusWidget() or window)
    window.document.undo_stack.undo()
    assert window.document.bench.settings.plate.family == "sinusoidal"
    beginning.wished.emit("guide")
    assert window.guide.isVisible()
    window.toggle_guide()
    beginning.wished.emit("drills")
    drills = window.findChild(DrillsWindow)
    assert drills is not None
    drills.close()
    window.document.undo_stack.setClean()
    for name in DEMOS:
        beginning.wished.emit(f"demo:{name}")
        assert window.document.path is not None
        assert window.document.path.name == f"{name}.bench.json"


def _codes() -> set[str]:
    """Return every code of a finding or a refusal that the program's own text names."""
    found = set()
    for file in (Path(__file__).parents[2] / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call):
                named = node.func.id if isinstance(node.func, ast.Name) else ""
                code = node.args[1] if named == "Finding" and len(node.args) > 1 else next((k.value for k in node.keywords if k.arg == "code"), None) if named in ("Finding", "Refusal") else None
                if isinstance(code, ast.Constant):
                    found.add(str(code.value))
                elif isinstance(code, ast.JoinedStr):
                    found.add("".join(str(v.value) if isinstance(v, ast.Constant) else "x" for v in code.values))
    return found


def test_each_code_has_its_paragraph_and_no_paragraph_is_left_over() -> None:
    codes = _codes()
    assert len(codes) > 300
    assert not [code for code in sorted(codes) if not why(code)]
    assert not [code for code in reasons() if "*" not in code and code not in codes]
    assert all(len(text) > 15 and text.endswith(".") for text in reasons().values() if not text.endswith("?"))


def test_why_beside_a_caution_opens_it(window: Window, qtbot: QtBot, winch: Path) -> None:
    window.open(winch)
    window.travel("motion", "Homing")
    window.document.set_field("homing", "reference", "home-switch")
    page = window.page
    qtbot.waitUntil(lambda: "Caution: Homing moves" in " ".join(line.text.text() for line in page.findings._lines), timeout=60000)
    line = page.findings._lines[0]
    assert not line.reason.isVisibleTo(page)
    line.why.click()
    assert line.reason.text() == why("homing-moves")
    assert line.reason.isVisibleTo(page)
    line.why.click()
    assert not line.reason.isVisibleTo(page)
    window.toggle_guide()
    window.guide.line.setText("stop built run")
    assert "A stop must be built to be run into" in window.guide.view.toPlainText()
    page.refuse(Refusal("the drive is disarmed", "arm it", code="disarmed"))
    window.notices.why.click()
    assert why("disarmed") in window.notices.text
