"""Files, undo, autosave and captures in the real window: nothing that a person made is lost, and nothing replaced unasked."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from functools import partial
from pathlib import Path

import pytest
from loop_gaps import large_coast
from PySide6.QtCore import QPoint, QPointF, Qt, qInstallMessageHandler
from PySide6.QtGui import QAction, QWheelEvent
from PySide6.QtWidgets import QApplication, QDialog, QFileDialog, QLabel, QMessageBox, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from crisp_compass.app import autosave, logs
from crisp_compass.app.diagnostics import DiagnosticsDialog
from crisp_compass.app.dialogs import may_replace
from crisp_compass.app.disk_watch import Comparison
from crisp_compass.app.main import restore
from crisp_compass.app.recovery import RecoveryDialog, offer_recovery
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.widgets.answer import Waiting
from crisp_compass.app.widgets.reason import ReasonDialog
from crisp_compass.app.window import Window
from crisp_compass.bench import load_bench
from crisp_compass.bench.store import save_bench
from crisp_compass.course.course import sections_of, waypoints_of
from crisp_compass.errors import Refusal
from crisp_compass.plant.simulation import READY
from hands import answering, choose, copy_bench, drop, press_main, type_into
from makers import save, staircase


def _names(monkeypatch: pytest.MonkeyPatch, path: Path) -> None:
    """Have the file dialog answer with a name as typed."""
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(path), ""))


def test_save_as_asks_with_the_whole_name(
    window: Window, winch: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window.open(copy_bench(winch, tmp_path))
    other = tmp_path / "mine.bench.json"
    save_bench(load_bench(winch).model_copy(update={"name": "somebody's"}), other)
    _names(monkeypatch, tmp_path / "mine")
    with answering(choose("Keep")) as asked:
        assert not window.files.save_as()
    assert len(asked) == 1
    assert load_bench(other).name == "somebody's"
    with answering(choose("Replace")):
        assert window.files.save_as()
    assert load_bench(other) == window.document.bench
    _names(monkeypatch, tmp_path / "fresh")
    assert window.files.save_as()  # nothing stands there: nobody is asked
    assert window.document.path == tmp_path / "fresh.bench.json"
    window.travel("hand_over")
    (tmp_path / "motor.h").write_text("mine")
    _names(monkeypatch, tmp_path / "motor")
    with answering(choose("Keep")) as asked:
        window.page.on_main()
    assert (tmp_path / "motor.h").read_text() == "mine"
    assert len(asked) == 1


def test_a_protected_or_changed_file_is_not_replaced_unasked(window: Window, winch: Path, tmp_path: Path) -> None:
    path = copy_bench(winch, tmp_path)
    window.open(path)
    window.document.set_field("run", "speed", 55.0)
    path.chmod(0o444)
    assert not window.save()
    assert "write-protected" in window.notices.text
    path.chmod(0o644)
    theirs = load_bench(path).model_copy(update={"name": "theirs"})
    save_bench(theirs, path)  # another window, or another program
    with answering(choose("Keep")) as asked:
        assert not window.save()
    assert len(asked) == 1
    assert load_bench(path) == theirs
    with answering(choose("Replace")):
        assert window.save()
    assert load_bench(path) == window.document.bench
    window.document.set_field("run", "speed", 56.0)
    with answering(choose("Keep")) as asked:
        assert window.save()  # its own writing is no stranger's
    assert not asked


def test_two_windows_on_one_bench(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    path = copy_bench(winch, tmp_path)
    window.open(path)
    second = window.another()
    assert second.open(path)
    second.document.set_field("run", "speed", 44.0)
    assert second.save()
    window.document.set_field("run", "speed", 33.0)
    with answering(choose("Keep")):
        assert not window.save()
    assert load_bench(path).settings.run.speed == 44.0
    gone = []
    second.destroyed.connect(lambda: gone.append(1))
    second.close()
    qtbot.waitUntil(lambda: bool(gone), timeout=180000)  # a closed window is really freed
    assert second not in Window.opened


def test_a_wrong_file_asks_nothing_and_recent_files_open(window: Window, winch: Path, tmp_path: Path) -> None:
    path = copy_bench(winch, tmp_path)
    window.open(path)
    window.document.set_field("run", "speed", 55.0)
    (tmp_path / "x.bench.json").write_text("{")
    with answering(choose("Cancel")) as asked:
        assert not window.open(tmp_path / "x.bench.json")
    assert not asked
    assert "damaged" in window.notices.text
    with answering(choose("Discard")) as asked:
        window.files.new()
    assert len(asked) == 1
    assert not window.document.unsaved
    window.menus._fill_recent()
    window.menus._recent.actions()[0].trigger()
    assert window.document.path == path
    assert window.document.bench.settings.run.speed != 55.0


@pytest.mark.thorough
def test_steady_work_is_autosaved_and_offered_by_name(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    path = copy_bench(winch, tmp_path)
    window.open(path)
    steps = iter(range(1000))
    while not window.document._autosave_file.exists():  # an edit every 0.2 s must not put it off
        number = next(steps)
        assert number < 60, "steady work was never saved"
        window.document.set_field("run", "speed", 60.0 + number)
        qtbot.wait(200)
    held = autosave.read_work(window.document._autosave_file)[0].settings.run.speed
    folder = autosave.autosave_folder()
    window.document._autosave_file.rename(folder / "999999999-1-a.json")
    autosave.write_work(folder / "999999999-2-b.json", load_bench(winch), None, tmp_path)
    (folder / "999999999-3-c.json").write_text("{damaged")
    assert [left.path for left in autosave.leftovers()] in ([str(path), ""], ["", str(path)])
    assert (folder / "999999999-3-c.damaged").exists()
    fresh = window.another()
    fresh.open(copy_bench(winch.parents[1] / "thruster" / "thruster.bench.json", tmp_path))
    asked_for = fresh.document.path

    def restore_all(dialog: object) -> None:
        assert isinstance(dialog, RecoveryDialog)
        texts = [take.accessibleName() for _, take, _ in dialog.rows]
        assert any("winch.bench.json of 20" in t for t in texts)
        assert any("never saved of 20" in t for t in texts)
        for _, take, _ in list(dialog.rows):
            qtbot.mouseClick(take, Qt.MouseButton.LeftButton)

    with answering(restore_all):
        offer_recovery(fresh, partial(restore, fresh))
    assert fresh.document.path == asked_for  # the bench that was asked for stays
    restored = {w.document.path: w for w in Window.opened if w is not fresh}
    assert restored[path].document.bench.settings.run.speed == held
    assert restored[path].document.unsaved
    assert (restored[None].document.base / restored[None].document.bench.evidence["resistance"][0].file).exists()
    assert autosave.leftovers() == []
    for other in list(Window.opened):
        other.document._recovered = False
        other.close()


_KILLED = """
import os, sys
from pathlib import Path
from crisp_compass.bench.store import load_bench, save_bench
bench = load_bench(sys.argv[1])
print("ready", flush=True)
for k in range(100000):
    save_bench(bench.model_copy(update={"name": f"bench {k}"}), Path(sys.argv[1]))
"""


@pytest.mark.thorough
def test_kills_leave_a_whole_file_and_no_litter(winch: Path, tmp_path: Path) -> None:
    path = copy_bench(winch, tmp_path)
    for k in range(3):
        child = subprocess.Popen([sys.executable, "-c", _KILLED, str(path)], stdout=subprocess.PIPE)
        assert child.stdout is not None
        child.stdout.readline()
        while not list(tmp_path.glob(".*.part")) and k < 2:
            pass  # until it is in the middle of a save
        child.kill()
        child.wait()
        child.stdout.close()
        assert load_bench(path).settled
    assert not list(tmp_path.glob(".*.part"))


@pytest.mark.thorough
def test_what_the_program_does_itself_is_no_undo_step(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    stack = window.document.undo_stack
    window.travel("resistance")
    qtbot.keyClicks(window.ledger.entry, "temp 24")
    qtbot.keyClick(window.ledger.entry, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: not window.page.reading.running, timeout=180000)  # type: ignore[attr-defined]
    assert window.document.bench.settings.resistance.temperature == 24.0
    assert window.document.bench.evidence["resistance"][-1].estimates["temperature"].value == 24.0  # fitted again
    assert stack.count() == 1
    window.ledger.entry.setFocus()
    qtbot.keyClick(window.ledger.entry, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert stack.index() == 0
    qtbot.waitUntil(lambda: not window.page.reading.running, timeout=180000)  # type: ignore[attr-defined]
    assert stack.canRedo()  # fitting again has not thrown it away
    stack.redo()
    assert window.document.bench.settings.resistance.temperature == 24.0
    window.travel("plate", "Drive and supply")
    press_main(qtbot, window)
    assert stack.count() == 2
    assert "Run limits set" in window.statusBar().currentMessage()


def test_keys_of_the_window_work_wherever_the_focus_is(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("current_loop")
    number = window.page.number("bandwidth_hz")  # type: ignore[attr-defined]
    type_into(qtbot, number, "1.5k")
    qtbot.keyClick(number.edit, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.document.bench.settings.current_loop.bandwidth_hz == 1200.0
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    window.ledger.entry.setFocus()
    load = run.number("load")
    before = load.value
    at = QPointF(load.edit.rect().center())
    wheel = QWheelEvent(
        at, load.edit.mapToGlobal(at), QPoint(0, 0), QPoint(0, 120), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(load.edit, wheel)
    assert load.value == before  # a wheel that passes by changes nothing


def test_a_blank_in_a_field_starts_nothing_and_stopping_works_from_everywhere(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    start = run.main_button
    assert start is not None
    limit = run.number("i_limit")
    type_into(qtbot, limit, "4 A")
    assert (run.running, window.document.bench.settings.run.i_limit) == (False, 4.0)
    start.setFocus()
    qtbot.keyClick(start, Qt.Key.Key_Space)
    assert not run.running  # it stops and never starts
    qtbot.keyClick(start, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: run.running, timeout=180000)
    type_into(qtbot, run.number("load"), "30 mNm")
    assert (run.running, window.document.bench.settings.run.load) == (True, 0.03)
    for key in (Qt.Key.Key_Space, Qt.Key.Key_Escape):
        for place in (start, run.reverse, window.dial, window.ledger.entry, limit.edit):
            if key == Qt.Key.Key_Space and place in (window.ledger.entry, limit.edit):
                continue  # a blank
            run.start()
            place.setFocus()
            limit.edit.insert(" 9")
            qtbot.keyClick(place, key)
            assert not run.running
    assert limit.edit.text() == "4"  # what was being typed is gone with it
    run.start()
    with answering(choose("OK")):
        QMessageBox.information(window, "a dialog", "stands before the stop button")
    assert not run.running


@pytest.mark.thorough
def test_a_picture_of_the_window_leaves_its_buttons_where_they_are(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run")
    for height in (800, 620, 800):
        window.resize(1280, height)
        window.notice("two\nlines")
        window.grab()
        for _ in range(3):
            QApplication.processEvents()
        page = window.page
        assert page.main_button is not None
        assert all(w.updatesEnabled() and w.isVisible() for w in (page.main_button, *(f for f in page._fields.values() if not f.isHidden())))
        assert page.body.isAncestorOf(page.number("speed")) is (height < 700)  # type: ignore[attr-defined]


@pytest.mark.thorough
def test_fields_take_an_entry_whole_or_not_at_all(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("plate", "Drive and supply")
    number = window.page.number("v_bus")  # type: ignore[attr-defined]
    type_into(qtbot, number, "3600")
    assert window.document.bench.settings.plate.v_bus == 48.0
    assert number.edit.text() == "48"
    assert "outside what is possible" in window.notices.text
    number.edit.selectAll()
    qtbot.keyClicks(number.edit, "36")
    qtbot.keyClick(number.edit, Qt.Key.Key_Escape)
    assert (number.edit.text(), window.document.bench.settings.plate.v_bus) == ("48", 48.0)
    number.edit.selectAll()
    qtbot.keyClicks(number.edit, "36")
    window.ledger.entry.setFocus()  # leaving the field enters it
    assert window.document.bench.settings.plate.v_bus == 36.0
    assert window.notices.text == ""  # the cause is gone
    window.travel("plate")
    power = window.page.number("rated_power")  # type: ignore[attr-defined]
    type_into(qtbot, power, "5 kg")
    assert window.document.bench.settings.plate.rated_power is None
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    press_main(qtbot, window)
    run._timer.stop()
    run.supply.edit.setFocus()
    run.supply.edit.selectAll()
    qtbot.keyClicks(run.supply.edit, "30")
    run.advance(0.05)
    assert run.port is not None
    assert run.port.fault == ""  # not at the “3”
    run.stop()


def test_every_dropped_file_is_taken_or_refused_by_name(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    for seed in range(3):
        save(staircase(0.5, [1, 2, 3, 4], seed=seed), tmp_path / f"r{seed}.csv")
    (tmp_path / "bad.csv").write_text("t [s],v_ab [V],i_a [A]\n0,1,2\n1,2\n")
    (tmp_path / "one.bench.json").write_text("{}")
    window.take_files([*sorted(tmp_path.glob("*.csv")), tmp_path / "one.bench.json"])
    qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert len(window.document.bench.evidence["resistance"]) == 3
    assert window.page.key == "plate"  # a drop does not pull anybody away
    text = window.notices.text
    assert "bad.csv: line 3 has 2 cells" in text
    assert "one.bench.json: a bench is opened by itself" in text
    qtbot.mouseClick(window.notices.action, Qt.MouseButton.LeftButton)
    assert window.page.key == "resistance"


def test_a_capture_that_changed_or_left_is_noticed_on_every_visit(
    window: Window, qtbot: QtBot, tmp_path: Path
) -> None:
    file = tmp_path / "r.csv"
    save(staircase(0.5, [1, 2, 3, 4], seed=1), file)
    window.travel("resistance")
    drop(window, file)
    qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert window.notices.text == ""
    save(staircase(0.6, [1, 2, 3, 4], seed=1), file)
    for word in ("has changed", "no longer there"):
        for _ in range(2):
            window.travel("plate")
            window.travel("resistance")
            qtbot.waitUntil(lambda w=word: w in window.notices.text, timeout=180000)  # type: ignore[misc]
        file.unlink(missing_ok=True)


def test_a_bench_from_anybody_reads_nothing_outside_its_folder(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    folder = tmp_path / "theirs"
    folder.mkdir()
    path = copy_bench(winch, folder)
    secret = tmp_path / "secret.csv"
    save(staircase(0.5, [1, 2, 3, 4], seed=1), secret)
    os.symlink("/dev/zero", folder / "endless.csv")
    bench = load_bench(path)
    for name in ("../secret.csv", str(secret), "endless.csv", "x" * 3000):
        one = bench.evidence["resistance"][0].model_copy(update={"file": name})
        save_bench(bench.model_copy(update={"evidence": {"resistance": (one,)}}), path)
        window.open(path)
        window.travel("resistance")
        words = ("lies outside", "not a file", "not possible", "no longer there", "File name too long")
        qtbot.waitUntil(lambda w=words: any(x in window.notices.text for x in w), timeout=180000)  # type: ignore[misc]
    drop(window, secret)  # what the person picks may lie anywhere
    qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert window.save()
    window.open(path)
    window.travel("resistance")
    qtbot.waitUntil(lambda: not window.page.reading.running, timeout=180000)  # type: ignore[attr-defined]
    assert window.notices.text == ""


def test_the_question_for_a_reason(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    """The real dialog: cancelled, empty, and with presumed figures, for which nobody's reason is proposed."""
    window.open(copy_bench(winch, tmp_path))
    window.travel("pwm")
    settled = window.document.bench.settled["pwm"]
    button = window.page.main_button
    assert button is not None
    with answering(choose("Cancel")):
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert window.document.bench.settled["pwm"] == settled

    def empty_then_reason(dialog: object) -> None:
        assert isinstance(dialog, ReasonDialog)
        dialog.edit.clear()
        qtbot.keyClick(dialog.edit, Qt.Key.Key_Return)
        assert dialog.result() != QDialog.DialogCode.Accepted
        assert dialog._empty.isVisible()
        qtbot.keyClicks(dialog.edit, "timer set so")
        qtbot.keyClick(dialog.edit, Qt.Key.Key_Return)

    with answering(empty_then_reason):
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert window.document.bench.settled["pwm"].reason == "timer set so"
    window.files._document.undo_stack.setClean()
    window.files.new()
    window.travel("plate")
    main = window.page.main_button
    assert main is not None
    assert window.page.answer.text == "Nothing entered yet"
    number = window.page.number("pole_pairs")  # type: ignore[attr-defined]
    assert "presumed" in number.edit.accessibleDescription()
    qtbot.keyClick(number.edit, Qt.Key.Key_Return)  # Enter confirms what stands there
    assert window.document.bench.entered["plate"] == ("pole_pairs",)
    assert "presumed" not in number.edit.accessibleDescription()

    def look(dialog: object) -> None:
        assert isinstance(dialog, ReasonDialog)
        assert dialog.edit.text() == ""
        assert dialog.settle.text() == "Confirm and settle"
        qtbot.keyClick(dialog, Qt.Key.Key_Escape)

    with answering(look) as asked:
        qtbot.mouseClick(main, Qt.MouseButton.LeftButton)
    assert len(asked) == 1
    assert "plate" not in window.document.bench.settled
    press_main(qtbot, window)
    values = window.document.bench.settled["plate"].values
    assert set(values) == {"pole_pairs", "v_bus", "rated_current", "top_speed"}  # no inertia that nobody typed


def test_a_long_read_is_cancelled_and_the_next_file_taken(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    rows = 1_500_000
    large_coast(tmp_path / "large.csv", rows)
    save(staircase(0.5, [1, 2, 3, 4], seed=1), tmp_path / "small.csv")
    window.take_files([tmp_path / "large.csv", tmp_path / "small.csv"])
    assert "large.csv" in window.arrivals.text.text()
    assert "1 more waiting" in window.arrivals.text.text()
    qtbot.mouseClick(window.arrivals.findChild(QPushButton), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert set(window.document.bench.evidence) == {"resistance"}
    assert window.arrivals.text.text() == ""


def test_pages_wait_while_the_simulation_is_prepared(window: Window, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    READY.clear()
    try:
        window.travel("run")
        assert "being prepared" in window.page.answer.reason
        assert window.page.main_button is not None
        assert not window.page.main_button.isEnabled()
    finally:
        READY.set()
    window.refresh()
    assert window.page.main_button.isEnabled()


def test_a_crash_in_foreign_code_leaves_where_it_was(tmp_path: Path) -> None:
    """The next start finds the report; a start after a sound end finds none."""
    begin = "from crisp_compass.app.logs import watch_crashes; print(watch_crashes(), flush=True)"
    environment = {**os.environ, "XDG_STATE_HOME": str(tmp_path)}

    def started(then: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([sys.executable, "-c", f"{begin}\n{then}"], env=environment, capture_output=True, text=True, check=False)

    crashed = started("import ctypes; ctypes.string_at(0)")
    assert crashed.returncode < 0
    assert crashed.stdout.strip() == "None"
    report = Path(started("pass").stdout.strip())
    assert "Segmentation fault" in report.read_text()
    assert "string_at" in report.read_text()
    assert started("pass").stdout.strip() == "None"


def test_what_nobody_caught_is_logged_and_said(window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    logs.start_log()
    logs.keep_alive(window.notice)
    try:
        raise ValueError("made to fail")
    except ValueError as error:
        sys.excepthook(ValueError, error, error.__traceback__)
    assert window.notices.text.startswith("Something failed inside the program (ValueError); your work is kept.")
    assert "made to fail" in logs.log_file().read_text(encoding="utf-8")
    window.document.edit("names", window.document.bench.model_copy(update={"name": "Secret bench"}))
    dialog = DiagnosticsDialog(window, window.settings, window.document.bench)
    shown = dialog.view.toPlainText()
    assert "made to fail" in shown
    assert "Secret bench" not in shown
    dialog.tick.setChecked(True)
    dialog.save(tmp_path / "told.txt")
    assert (tmp_path / "told.txt").read_text(encoding="utf-8") == dialog.view.toPlainText()
    assert "Secret bench" in dialog.view.toPlainText()
    dialog.save(tmp_path / "nowhere" / "told.txt")
    assert "cannot be written" in dialog.said.text()
    qInstallMessageHandler(None)
    for handler in list(logs.LOG.handlers):
        logs.LOG.removeHandler(handler)
        handler.close()
    logs.LOG.propagate = True


@pytest.mark.thorough
def test_nothing_a_file_says_is_markup(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    """An image link in a bench's texts would open any local path, and a large one freezes the window."""
    evil = "<img src='/etc/hostname'><b>bold</b>"
    path = copy_bench(winch, tmp_path)
    data = json.loads(path.read_text(encoding="utf-8"))
    data["name"], data["notes"] = evil[:40], evil
    for entry in data["ledger"]:
        entry["text"] = evil
    data["settings"]["plate"]["motor"] = evil[:40]
    path.write_text(json.dumps(data), encoding="utf-8")
    window.open(path)
    shown = 0
    for waypoint in waypoints_of(window.document.bench):
        for section in sections_of(window.document.bench, waypoint)[:2] or ("",):
            window.travel(waypoint.key, section)
            window.notice(evil)
            window.bearing.show_text(evil)
            QApplication.processEvents()
            for found in window.findChildren(QLabel):
                shown += "<img" in found.text()
                rich = found.textFormat() != Qt.TextFormat.PlainText and not isinstance(found.parent(), Waiting)
                assert not rich, (waypoint.key, section, found.objectName(), found.text()[:40])
            for widget in window.findChildren(QWidget):
                assert "<img" not in widget.toolTip()
    assert shown > 3
    with answering(choose("Keep")) as seen:
        may_replace(window, f"{evil} is already there.")
    assert all("<img" not in d.text() for d in seen if isinstance(d, QMessageBox))


def test_what_was_restored_does_not_overwrite_newer_work(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.document.set_field("run", "speed", 123.0)
    window.document.write_autosave()
    kept = window.document._autosave_file.read_bytes()
    path = window.document.path
    assert path is not None
    newer = load_bench(path).model_copy(update={"notes": "newer"})
    save_bench(newer, path)
    file = autosave.autosave_folder() / "1-1-a.json"
    file.write_bytes(kept)
    window.document.recover(file)
    assert window.document.changed_on_disk
    assert window.document.bench.settings.run.speed == 123.0


def test_work_that_another_machine_keeps_is_not_offered_as_dead(winch: Path, tmp_path: Path) -> None:
    folder = autosave.autosave_folder()
    for old in folder.glob("*.json"):
        old.unlink()
    for name in ("999999999-2-b@elsewhere.json", "999999999-2-b@" + autosave._machine() + ".json"):
        autosave.write_work(folder / name, load_bench(winch), None, tmp_path)
    assert [left.file.name for left in autosave.leftovers()] == ["999999999-2-b@" + autosave._machine() + ".json"]
    os.utime(folder / "999999999-2-b@elsewhere.json", (0, 0))
    assert len(autosave.leftovers()) == 2


def test_a_disk_that_takes_no_more_is_said_once(window: Window, winch: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    window.open(copy_bench(winch, tmp_path))

    def full(*_: object, **__: object) -> None:
        raise Refusal("the file cannot be written (No space left on device)", "choose another folder")

    monkeypatch.setattr(autosave, "write_work", full)
    window.document.set_field("run", "speed", 123.0)
    window.document.write_autosave()
    assert "not being kept" in window.notices.text
    window.notices.clear()
    window.document.write_autosave()
    assert window.notices.text == ""
    assert autosave.AUTOSAVE_MS <= 500


def test_a_file_changed_on_disk_is_noticed_when_it_happens(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = copy_bench(winch, tmp_path)
    window.open(path)
    assert window.disk.isHidden()
    theirs = load_bench(path)
    plate = theirs.settings.plate.model_copy(update={"motor": "Theirs"})
    save_bench(theirs.model_copy(update={"settings": theirs.settings.model_copy(update={"plate": plate})}), path)
    qtbot.waitUntil(lambda: not window.disk.isHidden(), timeout=60000)
    assert "changed on disk" in window.disk.text.text()
    shown: list[str] = []
    monkeypatch.setattr(Comparison, "exec", lambda self: shown.append(self.view.toPlainText()))
    window.disk.compare.click()
    assert '-      "motor": "Theirs"' in shown[0]
    window.disk.keep.click()
    assert window.disk.isHidden()
    assert not window.document.changed_on_disk  # it may be replaced now
    save_bench(theirs, path)
    save_bench(theirs.model_copy(update={"name": "Once more"}), path)
    qtbot.waitUntil(lambda: not window.disk.isHidden(), timeout=60000)
    window.disk.reload.click()
    assert window.document.bench.name == "Once more"
    assert window.disk.isHidden()
    window.document.set_field("plate", "motor", "Mine")
    window.files.save()
    window.disk.look()  # nothing comes of one's own saving
    assert window.disk.isHidden()


def test_a_notice_moves_nothing_under_the_hand_and_goes_with_undo(window: Window, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.resize(1280, 800)
    window.travel("current_loop")
    QApplication.processEvents()
    button = window.page.main_button
    assert button is not None
    before = button.mapTo(window, QPoint(0, 0))
    window.document.set_field("current_loop", "bandwidth_hz", 900.0)
    window.notice("Something was refused here.")
    QApplication.processEvents()
    assert window.notices.isVisible()
    assert button.mapTo(window, QPoint(0, 0)) == before
    undo = next(a for a in window.findChildren(QAction) if a.text().startswith("&Undo"))
    undo.trigger()
    assert not window.notices.isVisible()
