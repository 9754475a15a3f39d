"""The real window, driven as a person would: from dropped captures to a written header, and what goes wrong on the way."""

from __future__ import annotations

import gc
import shutil
import threading
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, Qt, QThreadPool
from PySide6.QtWidgets import QAbstractButton, QComboBox, QLineEdit, QMessageBox, QWidget
from pytestqt.qtbot import QtBot

from crisp_compass.app.jobs import Job
from crisp_compass.app.page.mapping import MappingDialog
from crisp_compass.app.pages import PAGES
from crisp_compass.app.tokens import TOKENS, contrast
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.window import Window
from crisp_compass.bench import load_bench
from crisp_compass.bench.models import FORMAT
from crisp_compass.loops.current import axis_loop
from hands import copy_bench, drop, dropped, press_main
from makers import save, staircase


def test_from_dropped_captures_to_a_header(window: Window, qtbot: QtBot, thruster: Path, tmp_path: Path) -> None:
    """The whole voyage: every capture dropped, every leg settled, the drive run, the header's numbers those of the motor."""
    assert window.open(copy_bench(thruster, tmp_path))
    bench = lambda: window.document.bench  # noqa: E731
    for waypoint, name in (
        ("resistance", "staircase"),
        ("inductance", "step"),
        ("flux", "coast"),
        ("commutation", "hand-turn"),
    ):
        dropped(qtbot, window, tmp_path / f"thruster-{name}.csv")
        assert window.page.key == waypoint
        press_main(qtbot, window)
        assert waypoint in bench().settled
    for waypoint in ("pwm", "current_loop", "speed_loop"):
        window.follow_bearing()
        assert window.page.key == waypoint
        press_main(qtbot, window)
        assert waypoint in bench().settled
    assert "run the drive" in window.bearing.whole
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    press_main(qtbot, window)
    qtbot.waitUntil(lambda: run.port is not None and run.traces.history["t"].size > 50, timeout=180000)
    run.advance(1.5)
    assert run.port is not None
    assert run.port.speed == pytest.approx(300.0, rel=0.03)
    press_main(qtbot, window)
    assert not run.running
    window.travel("hand_over")
    target = tmp_path / "motor.h"
    window.page.save_settings(target, "c-header")  # type: ignore[attr-defined]
    header = target.read_text()
    found = {
        line.split()[1]: float(line.split("(")[1].split(")")[0].rstrip("f"))
        for line in header.splitlines()
        if line.startswith("#define CC_") and "(" in line
    }
    assert found["CC_RESISTANCE_OHM"] == pytest.approx(0.0622, rel=2e-3)
    assert found["CC_INDUCTANCE_LD_H"] == pytest.approx(44.1e-6, rel=5e-3)
    assert found["CC_FLUX_LINKAGE_WB"] == pytest.approx(2.137e-3, rel=1e-3)
    gains = (found["CC_CURRENT_LOOP_KP_Q_V_PER_A"], found["CC_CURRENT_LOOP_KI_Q_V_PER_AS"])
    loop = axis_loop(found["CC_RESISTANCE_OHM"], found["CC_INDUCTANCE_LQ_H"], *gains, found["CC_PWM_LOOP_HZ"], 1.5)
    assert loop.margins.crossover_hz == pytest.approx(1500, rel=1e-5)  # the crossover asked for, met exactly
    assert found["CC_HALL_SPACING_DEG"] == 60
    if shutil.which("gcc"):
        import subprocess

        (tmp_path / "m.c").write_text('#include "motor.h"\nint main(void) { return CC_PLATE_POLE_PAIRS - 6; }\n')
        subprocess.run(["gcc", "-Wall", "-Werror", "m.c", "-o", "m"], cwd=tmp_path, check=True)
        assert subprocess.run([tmp_path / "m"], check=False).returncode == 0
    window.page.save_record(tmp_path / "r.html")  # type: ignore[attr-defined]
    qtbot.waitUntil((tmp_path / "r.html").exists, timeout=180000)
    assert window.save()
    assert load_bench(tmp_path / "thruster.bench.json") == bench()
    assert not window.document.unsaved


def test_undo_redo_and_levers(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("current_loop")
    number = window.page.number("bandwidth_hz")
    before = window.page.step.data("predicted")[1].copy()  # type: ignore[attr-defined]
    number.edit.setFocus()
    number.edit.selectAll()
    qtbot.keyClicks(number.edit, "2k")
    assert window.document.bench.settings.current_loop.bandwidth_hz == pytest.approx(1200.0)  # nothing before Enter
    qtbot.keyClick(number.edit, Qt.Key.Key_Return)
    assert window.document.bench.settings.current_loop.bandwidth_hz == pytest.approx(2000.0)
    assert not np.array_equal(before, window.page.step.data("predicted")[1])  # type: ignore[attr-defined]
    assert (number.edit.text(), number.suffix.text()) == ("2 k", "Hz")
    qtbot.keyClick(number.edit, Qt.Key.Key_Up)
    assert window.document.bench.settings.current_loop.bandwidth_hz == pytest.approx(2100.0)
    qtbot.keyClick(number.edit, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert window.document.bench.settings.current_loop.bandwidth_hz == pytest.approx(5000.0)
    window.document.undo_stack.undo()
    assert window.document.bench.settings.current_loop.bandwidth_hz == pytest.approx(1200.0)
    assert number.edit.text() == "1.2 k"
    window.document.undo_stack.redo()
    assert window.document.bench.settings.current_loop.bandwidth_hz == pytest.approx(5000.0)
    number.edit.selectAll()
    qtbot.keyClicks(number.edit, "12 mH")
    qtbot.keyClick(number.edit, Qt.Key.Key_Return)
    assert window.notices.text == "Crossover: “12 mH” is an inductance; a frequency in Hz is needed."
    assert window.document.bench.settings.current_loop.bandwidth_hz == pytest.approx(5000.0)
    window.page.number("delay_samples").moved.emit(0.1)
    assert "outside what is possible" in window.notices.text


def test_stale_loop_says_what_would_change_and_settles_again(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    assert window.page.key == "current_loop"  # the next bearing
    assert "would move by 1.1 %" in window.page.answer.reason
    press_main(qtbot, window)
    assert "would move" not in window.page.answer.reason
    assert window.document.bench.ledger[-1].kind == "settled"
    assert "unsaved" in window.windowTitle()


def test_typed_readings(window: Window, qtbot: QtBot) -> None:
    for text in ("lead 0.05", "ruv 0.88", "temp 24"):
        qtbot.keyClicks(window.ledger.entry, text)
        qtbot.keyClick(window.ledger.entry, Qt.Key.Key_Return)
    assert [e.kind for e in window.document.bench.ledger] == ["lead", "ruv", "temp"]
    assert window.document.bench.settings.resistance.temperature == 24.0
    window.travel("resistance")
    qtbot.keyClicks(window.ledger.entry, "ruv much")
    qtbot.keyClick(window.ledger.entry, Qt.Key.Key_Return)
    assert "“much” is not a number" in window.notices.text
    assert window.ledger.entry.text() == "ruv much"


@pytest.mark.thorough
def test_an_emptied_temperature_is_unknown_again(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("resistance")
    field = window.page.number("temperature").edit  # type: ignore[attr-defined]
    field.selectAll()
    qtbot.keyClick(field, Qt.Key.Key_Delete)
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert window.document.bench.settings.resistance.temperature is None
    QThreadPool.globalInstance().waitForDone(20000)
    window.document.undo_stack.undo()
    assert window.document.bench.settings.resistance.temperature == 23.5


@pytest.mark.thorough
def test_bad_files_leave_everything_as_it_was(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    before = window.document.bench
    (tmp_path / "new.bench.json").write_text('{"format": 99}')
    drop(window, tmp_path / "new.bench.json")
    assert (
        window.notices.text
        == f"new.bench.json: the bench has format 99, this program knows up to {FORMAT}; open it with a newer version; the file was not changed."
    )
    window.travel("resistance")
    (tmp_path / "bad.csv").write_text("t [s],v_ab [V],i_a [A]\n0,1,2\n1,2\n")
    drop(window, tmp_path / "bad.csv")
    qtbot.waitUntil(lambda: "line 3 has 2 cells" in window.notices.text, timeout=180000)
    window.travel("pwm")
    drop(window, tmp_path / "bad.csv")
    qtbot.waitUntil(lambda: "line 3 has 2 cells" in window.notices.text and window.notices.isVisible(), timeout=180000)
    assert window.document.bench == before
    QThreadPool.globalInstance().waitForDone(20000)


def test_foreign_channels_are_asked_for(
    window: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    capture = staircase(0.5, [1, 2, 3, 4], seed=1)
    save(capture, tmp_path / "a.csv")
    text = (tmp_path / "a.csv").read_text().replace("v_ab [V]", "CH1 [V]").replace("i_a [A]", "CH2 [V]")
    (tmp_path / "a.csv").write_text(text)

    def answer(self: MappingDialog) -> int:
        self.choose("v_ab", "CH1")
        self.choose("v_cmd", "")
        self.choose("i_a", "CH2", scale="2 A/V")
        return 1

    monkeypatch.setattr(MappingDialog, "exec", answer)
    window.travel("resistance")
    drop(window, tmp_path / "a.csv")
    qtbot.waitUntil(lambda: bool(window.document.bench.evidence.get("resistance")), timeout=180000)
    evidence = window.document.bench.evidence["resistance"][0]
    assert evidence.columns == ("t=t", "v_ab=CH1", "i_a=CH2*2")
    assert evidence.estimates["resistance"].value == pytest.approx(0.25, rel=5e-3)
    assert "clipped" not in str(evidence.findings)


def test_faults_latch_on_the_page(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    press_main(qtbot, window)
    run._timer.stop()
    run.advance(0.3)
    run.supply.moved.emit(12.0)
    run.advance(0.05)
    assert not run.running
    assert "under-voltage" in run.fault_text.text()
    assert run.acknowledge.isVisible()
    press_main(qtbot, window)
    assert "stands; acknowledge it first" in window.notices.text
    run.supply.moved.emit(48.0)
    qtbot.mouseClick(run.acknowledge, Qt.MouseButton.LeftButton)
    assert not run.acknowledge.isVisible()
    press_main(qtbot, window)
    run._timer.stop()
    run.advance(0.5)
    qtbot.mouseClick(run.reverse, Qt.MouseButton.LeftButton)
    run.advance(0.8)
    assert run.port is not None
    assert run.port.speed == pytest.approx(-120.0, rel=0.05)
    window.travel("plate")  # leaving the page stops the motor
    assert not run.running
    assert not run._timer.isActive()


def test_closing_with_unsaved_work_asks(
    window: Window, winch: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = copy_bench(winch, tmp_path)
    window.open(path)
    window.document.set_field("run", "speed", 55.0)
    asked = []

    def ask(*_: object) -> QMessageBox.StandardButton:
        asked.append(1)
        return QMessageBox.StandardButton.Cancel if len(asked) == 1 else QMessageBox.StandardButton.Save

    monkeypatch.setattr(QMessageBox, "question", ask)
    assert not window.close()
    assert window.isVisible()
    assert window.close()
    assert load_bench(path).settings.run.speed == 55.0
    assert len(asked) == 2


@pytest.mark.thorough
def test_a_capture_is_taken_though_its_page_is_left(
    window: Window, qtbot: QtBot, thruster: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(thruster, tmp_path))
    window.travel("flux")
    window.page.load(tmp_path / "thruster-coast.csv")  # type: ignore[attr-defined]
    window.travel("plate")
    qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert len(window.document.bench.evidence["flux"]) == 1
    assert window.page.key == "plate"
    assert window.notices.text == "thruster-coast.csv was read into Flux."


def _spoken(control: QWidget) -> str:
    """Return what a screen reader says of a control."""
    return control.accessibleName() or (control.text() if isinstance(control, QAbstractButton) else "")


def test_every_control_has_a_name_and_the_keyboard_reaches_it(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    for page in (window.page_of(key, name) for key, names in PAGES.items() for name in names):
        key = (page.key, page.section)
        names = [
            c.accessibleName()
            for c in page.findChildren(QLineEdit) + page.findChildren(QComboBox)
            if not isinstance(c.parent(), QComboBox)
        ]
        assert len(set(names)) == len(names), (key, sorted(n for n in names if names.count(n) > 1))
        for kind in (QAbstractButton, QLineEdit, QComboBox):
            for control in page.findChildren(kind):
                if control.objectName().startswith("qt_") or isinstance(control.parent(), QComboBox):
                    continue
                assert _spoken(control), (key, control)
                assert control.focusPolicy() != Qt.FocusPolicy.NoFocus or not control.isEnabled(), (key, control)
    for number, key in enumerate(("plate", "resistance", "inductance", "flux", "mechanics", "commutation", "pwm"), 1):  # type: ignore[assignment]
        qtbot.keyClick(window, getattr(Qt.Key, f"Key_{number}"), Qt.KeyboardModifier.AltModifier)
        assert window.page.key == key
    window.course.setFocus()
    qtbot.keyClick(window.course, Qt.Key.Key_Right)
    assert window.page.key == "current_loop"
    QThreadPool.globalInstance().waitForDone(20000)
    window.page.leave()


@pytest.mark.thorough
def test_dial_can_be_turned_by_keys(window: Window, qtbot: QtBot, thruster: Path, tmp_path: Path) -> None:
    window.open(copy_bench(thruster, tmp_path))
    dropped(qtbot, window, tmp_path / "thruster-hand-turn.csv")
    qtbot.waitUntil(lambda: window.dial.view.draggable, timeout=180000)
    window.page.show_turn(10.0)  # type: ignore[attr-defined]
    qtbot.keyClick(window.dial, Qt.Key.Key_Right)
    qtbot.keyClick(window.dial, Qt.Key.Key_Right)
    assert window.dial.view.caption.startswith("θe 20°: code 4, drive B+A−")


@pytest.mark.thorough
def test_plot_saves_what_it_shows(window: Window, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    plot = window.page.gain  # type: ignore[attr-defined]
    plot.save_csv(tmp_path / "p.csv")
    table = np.genfromtxt(tmp_path / "p.csv", delimiter=",", skip_header=1)
    np.testing.assert_allclose(table[:, 0], plot.data("open loop")[0])
    plot.toggle_cursors()
    plot.keyPressEvent(_key(Qt.Key.Key_C))
    assert not plot._cursors


def _key(key: Qt.Key) -> object:
    from PySide6.QtGui import QKeyEvent

    return QKeyEvent(QEvent.Type.KeyPress, key, Qt.KeyboardModifier.NoModifier)


@pytest.mark.parametrize("name", TOKENS)
def test_text_contrast_is_at_least_4_5(name: str) -> None:
    table = TOKENS[name]
    for ground in ("paper", "sheet", "water"):
        for text in ("ink", "soft", "deep", "magenta", "ochre", "brick", "moss"):
            assert contrast(table[ground], table[text]) >= 4.5, (ground, text)
    assert contrast(table["ink"], table["sheet"]) >= 7


@pytest.mark.thorough
def test_another_bench_starts_with_a_drive_of_its_own(
    window: Window, qtbot: QtBot, winch: Path, thruster: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    press_main(qtbot, window)
    run._timer.stop()
    run.supply.moved.emit(12.0)
    run.advance(0.05)
    assert run.acknowledge.isVisible()
    window.document.undo_stack.setClean()
    window.document.load(copy_bench(thruster, tmp_path))
    assert run.port is None
    assert not run.acknowledge.isVisible()
    assert run.answer.text == "Not yet"
    assert run.waiting.isVisible()
    assert "Resistance: Clamp the rotor" in run.waiting.accessibleName()
    window.document.load(tmp_path / "winch.bench.json")
    assert run.port is not None
    assert (run.port.speed, run.port.fault) == (0.0, "")


def test_garbage_is_collected_by_the_windows_thread_alone(window: Window, qtbot: QtBot) -> None:
    """A part of the screen that a calculation happens to let go of must not be torn down beside a repaint."""
    where: list[bool] = []

    class Part:
        def __init__(self) -> None:
            self.itself = self

        def __del__(self) -> None:
            where.append(threading.current_thread() is threading.main_thread())

    def work() -> None:
        for _ in range(2000):
            Part()
            _ = [[] for _ in range(1000)]  # enough for the interpreter to collect by itself

    job = Job(window)
    job.ask(work)
    qtbot.waitUntil(lambda: len(where) > 1000, timeout=60000)
    assert all(where)
    assert not gc.isenabled()  # nor in the window's own thread wherever it allocates, which may be inside a destructor
