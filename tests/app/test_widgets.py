"""The window's own widgets, one by one: settings, plots, dial, course, answer, jobs, mapping."""

from __future__ import annotations

import re
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import shiboken6
from PySide6.QtCore import QCoreApplication, QObject, QPoint, QPointF, Qt, QThreadPool
from PySide6.QtGui import QFontMetricsF, QWheelEvent
from PySide6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from crisp_compass.app.course_strip import CourseStrip, Place
from crisp_compass.app.dial import Dial
from crisp_compass.app.jobs import Job
from crisp_compass.app.main import make_application
from crisp_compass.app.page.fields import Entry, tip_of
from crisp_compass.app.page.mapping import MappingDialog
from crisp_compass.app.pages import PAGES
from crisp_compass.app.theme import THEME, font
from crisp_compass.app.widgets.answer import Answer, Findings
from crisp_compass.app.widgets.cell_map import round_ticks
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.wiring import TEXTS, WiringSketch
from crisp_compass.app.window import Window
from crisp_compass.course.course import State
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.views.picture import DialView, Sector


@pytest.fixture(autouse=True)
def _application(qtbot: QtBot) -> Iterator[None]:
    make_application()
    yield
    THEME.use("light")


@pytest.fixture
def number(qtbot: QtBot) -> NumberField:
    made = NumberField("Bandwidth", "Hz")
    qtbot.addWidget(made)
    made.show()
    made.show_value(1200.0)
    return made


SHOWN = [
    ("Hz", 1200.0, "1.2 k", "Hz"), ("Ω", 0.012, "12 m", "Ω"), ("rpm", 209.4395102, "2000", "rpm"), ("s", 160e-9, "160 n", "s"),
    ("degC", 23.5, "23.5", "°C"), ("N·m", 0.0, "0", "N·m"), ("", 3.0, "3", ""), ("A", -2.5, "−2.5", "A"), ("H", 980.43e-6, "980.4 µ", "H"),
    ("V", 1.234, "1.2340", "V"),
]  # fmt: skip


@pytest.mark.parametrize(("unit", "value", "text", "suffix"), SHOWN)
def test_a_lever_shows_engineering_numbers_and_reads_them_back(
    qtbot: QtBot, unit: str, value: float, text: str, suffix: str
) -> None:
    number = NumberField("x", unit)
    qtbot.addWidget(number)
    number.show_value(value)
    assert (number.edit.text(), number.suffix.text()) == (text, suffix)
    number.edit.setModified(True)
    number._on_finished()
    assert number.value == pytest.approx(value, rel=1e-3, abs=1e-12)


STEPS = [
    (1200.0, True, False, 1300.0), (1000.0, False, False, 990.0), (9900.0, True, False, 10000.0), (1200.0, True, True, 2000.0),
    (1200.0, False, True, 1000.0), (1000.0, False, True, 500.0), (5000.0, True, True, 10000.0), (0.0, True, False, 0.1),
    (-1200.0, True, False, -1100.0), (-1000.0, False, True, -2000.0),
]  # fmt: skip


@pytest.mark.parametrize(("start", "up", "coarse", "after"), STEPS)
def test_engineering_steps(number: NumberField, start: float, up: bool, coarse: bool, after: float) -> None:
    number.show_value(start)
    number.step(up, coarse=coarse)
    assert number.value == pytest.approx(after)


def test_steps_up_and_down_come_back(number: NumberField) -> None:
    for start in (1200.0, 3.4, 0.57):
        number.show_value(start)
        for up in (True, True, True, False, False, False):
            number.step(up)
        assert number.value == pytest.approx(start)


def test_whole_levers_step_by_whole_numbers_and_refuse_parts(qtbot: QtBot) -> None:
    number = NumberField("Pole pairs", "", whole=True)
    qtbot.addWidget(number)
    number.show_value(7.0)
    number.step(True)
    assert number.value == 8.0
    said: list[str] = []
    number.refused.connect(said.append)
    number.edit.clear()
    qtbot.keyClicks(number.edit, "2.5")
    qtbot.keyClick(number.edit, Qt.Key.Key_Return)
    assert said == ["Pole pairs: a whole number is needed."]
    assert number.value == 8.0
    assert number.edit.text() == "8"


def test_wheel_and_escape(number: NumberField, qtbot: QtBot) -> None:
    moved: list[float] = []
    number.moved.connect(moved.append)
    event = QWheelEvent(
        QPointF(5, 5),
        QPointF(5, 5),
        QPoint(),
        QPoint(0, 120),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(number, event)
    assert moved == [pytest.approx(1300.0)]
    number.edit.clear()
    qtbot.keyClicks(number.edit, "zz")
    assert number._frame.property("wrong") is True
    qtbot.keyClick(number.edit, Qt.Key.Key_Escape)
    assert number.edit.text() == "1.3 k"
    assert number._frame.property("wrong") is False


def test_an_optional_lever_may_be_emptied(qtbot: QtBot) -> None:
    number = NumberField("Kv", "rpm/V", optional=True)
    qtbot.addWidget(number)
    number.show_value(47.0)
    moved: list[float] = []
    number.moved.connect(moved.append)
    number.edit.selectAll()
    qtbot.keyClick(number.edit, Qt.Key.Key_Delete)
    qtbot.keyClick(number.edit, Qt.Key.Key_Return)
    assert len(moved) == 1
    assert np.isnan(moved[0])
    assert number.value is None


def test_a_choice_tells_only_what_a_person_chose(qtbot: QtBot) -> None:
    choice = Choice("Scheme", {"a": "one", "b": "two"})
    qtbot.addWidget(choice)
    chosen: list[str] = []
    choice.moved.connect(chosen.append)
    choice.show_value("b")
    assert chosen == []
    choice.box.activated.emit(0)
    assert chosen == ["a"]


def test_plot_keeps_its_view_while_a_lever_moves(qtbot: QtBot) -> None:
    plot = Plot(("time", "s"), ("current", "A"), name="p")
    qtbot.addWidget(plot)
    plot.resize(500, 300)
    plot.show()
    plot.curve("a", "deep")
    x = np.linspace(0, 1, 50)
    plot.set("a", x, np.sin(6 * x))
    plot.keep_in_view()
    first = plot.plotItem.viewRange()
    plot.set("a", x, 1.05 * np.sin(6 * x))
    plot.keep_in_view()
    assert plot.plotItem.viewRange() == first
    plot.set("a", x, 9 * np.sin(6 * x))
    plot.keep_in_view()
    assert plot.plotItem.viewRange() != first
    plot.set("a", x, 0.01 * np.sin(6 * x))
    plot.keep_in_view()
    assert plot.plotItem.viewRange()[1][1] < 0.1


def test_plot_cursors_read_differences_and_picture_is_copied(qtbot: QtBot) -> None:
    plot = Plot(("time", "s"), ("current", "A"), name="p")
    qtbot.addWidget(plot)
    plot.resize(500, 300)
    plot.curve("a", "deep")
    x = np.linspace(0, 1, 101)
    plot.set("a", x, 5 * x)
    plot.fit()
    plot.toggle_cursors()
    plot._cursors[0].setValue(0.2)
    plot._cursors[1].setValue(0.6)
    text = plot._readout.toPlainText()
    assert "Δ 400 ms" in text
    assert "Δy 2 A" in text
    assert "1/Δ 2.50 Hz" in text
    plot.copy_picture()
    assert not QApplication.clipboard().pixmap().isNull()


def test_dense_curves_keep_their_spikes(qtbot: QtBot) -> None:
    plot = Plot(("time", "s"), ("voltage", "V"), name="p")
    qtbot.addWidget(plot)
    plot.resize(400, 200)
    plot.show()
    plot.curve("a", "deep", dense=True)
    y = np.zeros(200_000)
    y[123_456] = 7.0
    plot.set("a", np.arange(200_000.0), y)
    plot.fit()
    plot.grab()
    shown = plot._curves["a"][0].curve.getData()[1]
    assert len(shown) < 20_000
    assert shown.max() == 7.0


def test_axes_write_units_with_prefix_and_plain_decades(qtbot: QtBot) -> None:
    plot = Plot(("frequency", "Hz"), ("gain", "dB"), name="p", log_x=True)
    qtbot.addWidget(plot)
    axis = plot.plotItem.getAxis("bottom")
    assert axis.logTickStrings([1, 2, 3, 4], 1, 1) == ["10", "100", "1k", "10k"]
    assert "gain [dB]" in plot.plotItem.getAxis("left").labelString()


def test_dial_turns_by_mouse_and_paints_every_part(qtbot: QtBot) -> None:
    dial = Dial()
    qtbot.addWidget(dial)
    dial.resize(320, 322)
    dial.show()
    turned: list[float] = []
    dial.turned.connect(turned.append)
    qtbot.mouseClick(dial, Qt.MouseButton.LeftButton, pos=QPoint(230, 140))
    assert turned == []
    sectors = tuple(Sector(60 * k, 60 * k + 60, str(k + 1)) for k in range(6))
    dial.show_view(
        DialView("c", rotor=0.0, current=(90.0, 0.5), voltage=(120.0, 0.9), sectors=sectors, draggable=True)
    )
    qtbot.mouseClick(dial, Qt.MouseButton.LeftButton, pos=QPoint(230, 140))
    assert turned == [pytest.approx(90.0)]  # clockwise as on a compass
    qtbot.keyClick(dial, Qt.Key.Key_Down)
    assert turned[-1] == pytest.approx(89.0)
    image = dial.grab().toImage()
    magenta = THEME.color("magenta").rgb()
    assert any(image.pixel(x, 140) == magenta for x in range(165, 230))


def test_course_is_travelled_by_mouse_and_keys(qtbot: QtBot) -> None:
    strip = CourseStrip()
    qtbot.addWidget(strip)
    strip.resize(1000, 74)
    strip.show()
    points = tuple(Place(s.name, s.value, "1.2 kHz", s) for s in State)
    strip.show_course(points, points[1].key)
    assert "evidence only" in strip.accessibleDescription()
    chosen: list[str] = []
    strip.chosen.connect(chosen.append)
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(900, 30))
    for key in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_End):
        qtbot.keyClick(strip, key)
    assert chosen == ["BLOCKED", "NOT_BEGUN", "SETTLED", "BLOCKED"]
    for name in ("light", "night"):
        THEME.use(name)
        image = strip.grab().toImage()
        cells = {bytes(image.copy(int(1000 / 6 * (k + 0.5)) - 15, 8, 30, 26).constBits()) for k in range(6)}
        assert len(cells) == 6  # every state has a shape of its own


def test_answer_and_findings(qtbot: QtBot) -> None:
    answer, findings = Answer("How much?"), Findings()
    for widget in (answer, findings):
        qtbot.addWidget(widget)
    answer.show_answer("463 mΩ", "±1.9 mΩ", "because", stale=True)
    assert (answer.text, answer.reason) == ("463 mΩ", "because")
    assert answer._reason.objectName() == "stale"
    findings.show_findings(
        [
            Finding("info", "a", "A."),
            Finding("stop", "b", "B."),
            Finding("caution", "c", "C."),
            Finding("info", "d", "D."),
        ]
    )
    assert findings.texts == ["B.", "C.", "A.", "D."]
    findings.show()
    assert [line.isVisible() for line in findings._lines] == [True, True, True, False]
    assert findings.more.text() == "Show 1 more"
    qtbot.mouseClick(findings.more, Qt.MouseButton.LeftButton)
    assert all(line.isVisible() for line in findings._lines)
    findings.show_findings([])
    assert findings.isHidden()


def test_jobs_drop_late_answers_and_name_what_broke(qtbot: QtBot) -> None:
    owner = QObject()
    job = Job(owner)
    done: list[object] = []
    refused: list[Refusal] = []
    job.done.connect(done.append)
    job.refused.connect(refused.append)
    job.ask(lambda: "old")
    job.ask(lambda: "new")
    qtbot.waitUntil(lambda: bool(done))
    QThreadPool.globalInstance().waitForDone(5000)
    qtbot.wait(20)
    assert done == ["new"]
    job.ask(lambda: 1 / 0)
    qtbot.waitUntil(lambda: bool(refused))
    assert "ZeroDivisionError" in refused[0].sentence
    job.ask(lambda: "cancelled")
    job.cancel()
    QThreadPool.globalInstance().waitForDone(5000)
    qtbot.wait(20)
    assert done == ["new"]


def test_mapping_dialog_makes_the_text_form(qtbot: QtBot, tmp_path: Path) -> None:
    path = tmp_path / "s.csv"
    path.write_text("Time;CH1;CH2\ns;V;mV\n0;1,5;2\n0,1;2,5;3\n")
    dialog = MappingDialog(None, path, ("v_ab", "i_a"), "why.")  # type: ignore[arg-type]
    qtbot.addWidget(dialog)
    assert dialog.usable
    with pytest.raises(Refusal, match="i_a: the channel is in mV, the signal in A"):
        dialog.mappings()
    dialog.choose("i_a", "CH2", flip=True, scale="10")
    dialog.choose("v_ab", "")
    assert dialog.mappings() == ("t=Time", "i_a=-CH2*10")
    dialog.choose("i_a", "CH2", scale="20 mV/A")
    assert dialog.mappings() == ("t=Time", "i_a=CH2*50")
    for scale in ("ten", "10 A/K", "10 K"):
        dialog.choose("i_a", "CH2", scale=scale)
        dialog._check()
        assert dialog._error.text().startswith(f"i_a: “{scale}” ")
    for standing in (("t=Time", "i_a=-CH2"), ("t=Time*0.001", "v_ab=CH1*20@0.5", "i_a=CH2*50")):  # opened again, it says what stood
        again = MappingDialog(None, path, ("v_ab", "i_a"), "why.", before=standing)  # type: ignore[arg-type]
        qtbot.addWidget(again)
        assert again.mappings() == standing
    # firmware tells its current on a debug pin: −20 A at 0 V, 20 A at 3.3 V; the channel is in mV
    out = dialog.debug
    out.signal.setCurrentText("i_a")
    assert not out.take.isEnabled()
    out.ends[1].setText("-20")
    out.ends[3].setText("20")
    assert out.said.text() == "12.1212 A/V, zero at 1.65 V"
    for asked, told in (("1.9 V", "1.900 V is 3.03 A"), ("-5 A", "−5 A stands at 1.238 V"), ("4 V", "4.000 V is 28.48 A, beyond its ends")):
        out.asked.setText(asked)
        assert out.said.text().endswith(f"; {told}")
    out.asked.setText("")
    dialog.choose("i_a", "CH2")
    out.take.click()
    assert dialog.mappings()[-1].startswith("i_a=CH2*12.1212")
    assert dialog.mappings()[-1].endswith("@1650")
    out.ends[2].setText("0")
    assert "two different voltages" in out.said.text()
    assert not out.take.isEnabled()
    broken = MappingDialog(None, tmp_path / "none.csv", ("v_ab",), "why.")  # type: ignore[arg-type]
    qtbot.addWidget(broken)
    assert not broken.usable


@pytest.mark.parametrize("waypoint", TEXTS)
def test_wiring_sketches_stay_inside_their_sheet(qtbot: QtBot, waypoint: str) -> None:
    sketch = WiringSketch(waypoint)
    qtbot.addWidget(sketch)
    for size in ((912, 460), (640, 340)):
        sketch.resize(*size)
        image = sketch.grab().toImage()
        sheet = THEME.color("sheet").rgb()
        border = [image.pixel(x, y) for x in range(0, size[0], 3) for y in (0, 1, size[1] - 1)]
        border += [image.pixel(x, y) for y in range(0, size[1], 3) for x in (0, 1, size[0] - 1)]
        assert set(border) == {sheet}
        inside = sum(image.pixel(x, y) != sheet for x in range(0, size[0], 6) for y in range(0, size[1], 6))
        assert inside > 150


def _tab_stops(window: Window) -> list[QWidget]:
    chain: list[QWidget] = []
    at = window.course.nextInFocusChain()
    while at is not None and at is not window.course and len(chain) < 2000:
        if at.focusPolicy() & Qt.FocusPolicy.TabFocus and at.isVisible():
            chain.append(at)
        at = at.nextInFocusChain()
    return chain


def test_tab_follows_the_eye(window: Window, qtbot: QtBot, winch: Path) -> None:
    """Course, then the page from top left to bottom right, then ledger and next bearing."""
    window.open(winch)
    window.travel("pwm")

    def in_order() -> bool:
        chain = _tab_stops(window)
        on_page = [w for w in chain if window.page.isAncestorOf(w) and w.accessibleName()]
        places = [w.mapTo(window.page, QPoint(0, 0)) for w in on_page]
        keys = [(p.y() // 20, p.x()) for p in places]
        last = max(chain.index(w) for w in on_page)
        return keys == sorted(keys) and last < chain.index(window.ledger.entry) < chain.index(window.bearing.button)

    assert len([w for w in _tab_stops(window) if window.page.isAncestorOf(w)]) > 8
    qtbot.waitUntil(in_order, timeout=180000)


def test_a_job_that_outlives_its_page_troubles_nobody(qtbot: QtBot, capfd: pytest.CaptureFixture[str]) -> None:
    """Its answer finds no one to take it; nothing is printed and nothing raised."""
    parent = QObject()
    job, begun, go = Job(parent), threading.Event(), threading.Event()

    def work() -> None:
        begun.set()
        go.wait(5)

    job.ask(work)
    qtbot.waitUntil(begun.is_set, timeout=180000)
    shiboken6.delete(parent)
    go.set()
    assert QThreadPool.globalInstance().waitForDone(5000)
    QCoreApplication.processEvents()
    assert "Traceback" not in capfd.readouterr().err


def test_a_legend_takes_the_lines_it_needs(qtbot: QtBot) -> None:
    plot = Plot(("time", "s"), ("speed", "rpm"), name="many curves")
    qtbot.addWidget(plot)
    for k in range(6):
        plot.curve(f"curve {k}", "deep", title=f"a curve with a long name, {k}")
        plot.set(f"curve {k}", [0.0, 1.0], [0.0, float(k)])
    plot.resize(420, 300)
    plot.show()
    legend = plot._legend
    qtbot.waitUntil(lambda: 0 < legend.rect().width() < 420)
    narrow = legend.maximumHeight()
    assert narrow >= 3 * legend.HEIGHT
    metrics = QFontMetricsF(font(11))
    for (text, _), (x, line) in zip(legend.entries, legend._places, strict=True):
        assert x + legend.SAMPLE + metrics.horizontalAdvance(text) <= legend.rect().width()
        assert (line + 1) * legend.HEIGHT <= narrow
    plot.resize(1600, 300)
    qtbot.waitUntil(lambda: legend.maximumHeight() < narrow)


def test_every_field_says_what_it_means_and_between_which_limits() -> None:
    for key, pages in PAGES.items():
        for page in pages.values():
            for declared in page.fields:
                tip = tip_of(declared, key)
                assert len(tip) > 4, declared
                assert not re.search(r"[a-z]_[a-z]", tip), tip  # no word of code
    assert tip_of(Entry("pole_pairs", "Pole pairs", tip="So many"), "plate") == "So many (1 to 200)"
    assert tip_of(Entry("dead_time", "Dead time", "s"), "pwm") == "Dead time (0 s to 10.0 ms)"


def test_an_empty_plot_has_no_figures_and_a_page_says_what_it_works_out(qtbot: QtBot) -> None:
    plot = Plot(("time", "s"), ("current", "A"), name="current over time")
    qtbot.addWidget(plot)
    plot.curve("i", "deep")
    axis = plot.plotItem.getAxis("bottom")
    plot.clear_data()
    assert not axis.style["showValues"]
    plot.set("i", [0.0, 1.0], [0.0, 2.0])
    assert axis.style["showValues"]
    head = Answer("What is it?")
    qtbot.addWidget(head)
    head.show()
    head.show_busy("Working out design …")
    assert (head.text, head._doubt.text()) == ("…", "Working out design …")  # nothing was known yet
    head.show_answer("3 A")
    head.show_busy("Working out design …")
    qtbot.waitUntil(lambda: not head._busy.isHidden(), timeout=30000)
    assert head.text == "3 A"  # what stands stays until the new answer is there
    head.show_busy("")
    assert head._busy.isHidden()


def test_a_map_has_round_ticks() -> None:
    assert [t for _, t in round_ticks(np.geomspace(286, 1993, 40).tolist())] == ["300", "500", "1000"]
    assert [t for _, t in round_ticks(np.linspace(0, 120, 20).tolist())] == ["0", "25", "50", "75", "100"]
    places = {t: p for p, t in round_ticks(np.geomspace(10, 1000, 21).tolist())}
    assert (places["10"], places["100"], places["1000"]) == pytest.approx((0, 10, 20))


def test_curves_of_every_frame_bear_nothing_gaps_and_single_points(qtbot: QtBot) -> None:
    plot = Plot(("time", "s"), ("current", "A"), name="frames")
    qtbot.addWidget(plot)
    plot.resize(300, 200)
    plot.show()
    plot.curve("i", "magenta")
    t = np.linspace(-1.0, 0.0, 50)
    gaps = np.sin(6 * t)
    gaps[10:20] = np.nan
    gaps[21] = np.nan
    for x, y in ((t[:0], t[:0]), (t[:1], t[:1]), (t, gaps), (t, np.full(50, np.nan)), (t, np.sin(6 * t))):
        plot.stream("i", x, y)
        plot.follow(-1.0, 0.0, floor=0.1)
        assert not plot.grab().isNull()  # painted
        assert len(plot.data("i")[0]) == len(x)
    plot.set("i", t, t)  # held: the whole curve, and no stroke over it
    assert not plot._strokes.lines
    plot.clear_data()
    assert len(plot.data("i")[0]) == 0
