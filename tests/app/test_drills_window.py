"""One drill by the keyboard alone, from the menu to the debrief; results kept; an own drill; what is refused."""

from __future__ import annotations

import json
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from crisp_compass.app.drills import DrillsWindow
from crisp_compass.app.window import Window
from crisp_compass.trainer.drills import BY_KEY, DRILLS
from crisp_compass.trainer.judge import expert
from crisp_compass.trainer.progress import load_results


def tab_to(qtbot: QtBot, window: QWidget, wanted: QWidget) -> None:
    QApplication.processEvents()  # new widgets are shown with their layout
    for _ in range(60):
        focus = QApplication.focusWidget()
        if focus is not None and (focus is wanted or wanted.isAncestorOf(focus)):
            return
        QTest.keyClick(focus or window, Qt.Key.Key_Tab)
    raise AssertionError(f"Tab never came to {wanted.accessibleName() or wanted}")


def test_a_drill_by_keyboard_alone(qtbot: QtBot, tmp_path: Path) -> None:
    kept = tmp_path / "drills.json"
    window = DrillsWindow(kept_in=kept)
    qtbot.addWidget(window)
    window.show()
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow, timeout=20000)
    assert window.list.rowCount() == len(DRILLS)
    place = [d.key for d in window.drills].index("loose-terminal")
    window.list.setFocus()
    for _ in range(place):
        qtbot.keyClick(window.list, Qt.Key.Key_Down)
    if window.list.currentRow() != place:
        qtbot.keyClick(window.list, Qt.Key.Key_Down)
    qtbot.keyClick(window.list, Qt.Key.Key_Return)
    assert window.case is not None
    assert window.case.drill.key == "loose-terminal"
    window.begin(BY_KEY["loose-terminal"], 11)
    assert not window.conclude.isEnabled()
    readings, cause, numbers = expert(window.case)
    order = [m.key for m in window.case.drill.measures]
    for reading in readings:
        tab_to(qtbot, window, window.can)
        while window.can.currentRow() != order.index(reading.measure):
            down = window.can.currentRow() < order.index(reading.measure)
            qtbot.keyClick(window.can, Qt.Key.Key_Down if down else Qt.Key.Key_Up)
        qtbot.keyClick(window.can, Qt.Key.Key_Return)
    assert window.notebook.rowCount() == len(readings)
    assert window.notebook.item(0, 1).text() == readings[0].text
    choices = window.group.buttons()
    place = [c.key for c in window.case.drill.causes].index(cause)
    tab_to(qtbot, window, choices[0])
    for _ in range(len(choices)):
        if choices[place].isChecked():
            break
        qtbot.keyClick(QApplication.focusWidget() or window, Qt.Key.Key_Space if not any(c.isChecked() for c in choices) else Qt.Key.Key_Down)
    assert choices[place].isChecked()
    QTest.keyClick(QApplication.focusWidget() or window, Qt.Key.Key_Tab)
    QTest.keyClicks(QApplication.focusWidget() or window, f"{1e3 * numbers['r']:.5g} mohm")
    with qtbot.waitSignal(window.judged, timeout=60000):
        qtbot.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert window.verdict is not None
    assert window.verdict.passed
    assert window.points.text() == f"{window.verdict.points:.0f} of 100"
    assert window.why.text().startswith("Passed. Right:")
    assert window.debrief.rowCount() == len(readings)
    assert load_results(kept)[-1].passed
    assert window.list.item([d.key for d in window.drills].index("loose-terminal"), 1).text() == f"{window.verdict.points:.0f}"
    qtbot.keyClick(QApplication.focusWidget() or window, Qt.Key.Key_Space)  # another of these
    assert window.verdict is None
    assert window.notebook.rowCount() == 0


def test_danger_is_said_at_once_hints_cost_and_own_drills_open(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.menus.show_drills()
    drills = window.findChild(DrillsWindow)
    assert drills is not None
    drills._kept_in = tmp_path / "drills.json"
    drills.begin(BY_KEY["mask"], 3)
    order = [m.key for m in BY_KEY["mask"].measures]
    drills.do(order.index("bus"))
    assert drills.said.text().startswith("Dangerous: before power came clamp the motor")
    drills.ask_hint()
    assert drills.said.text().startswith("Hint:")
    drills.group.button(0).setChecked(True)
    with qtbot.waitSignal(drills.judged, timeout=60000):
        drills.conclude.click()
    assert drills.verdict is not None
    assert not drills.verdict.passed
    assert load_results(tmp_path / "drills.json")[-1].hints == 1
    own = tmp_path / "own.json"
    reads = {"a": [1.0, 0.1], "b": [2.0, 0.1]}
    told = {"format": 1, "key": "own", "title": "Mine", "story": "Which is it?", "causes": [{"key": k, "text": k, "lesson": "So."} for k in "ab"], "measures": [{"key": "m", "title": "Measure", "unit": "Ω", "reads": reads}]}
    own.write_text(json.dumps(told))
    drills.take(own)
    assert drills.drills[-1].title == "Mine"
    assert drills.story.text() == "Which is it?"
    own.write_text("[]")
    drills._attempt(lambda: drills.take(own))
    assert "own.json" in drills.said.text()
    assert drills.story.text() == "Which is it?"
    drills.close()
