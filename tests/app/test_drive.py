"""The Drive leg in the real window, with the simulated drive in its own process."""

from __future__ import annotations

import json
import math
import signal
import socket
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from pytestqt.qtbot import QtBot

from crisp_compass.app.waypoints.drive.auto_tune import AutoTunePage
from crisp_compass.app.waypoints.drive.command import CommandPage
from crisp_compass.app.waypoints.drive.commissioning import CommissioningPage
from crisp_compass.app.waypoints.drive.connect import ConnectPage
from crisp_compass.app.waypoints.drive.display import DisplayPage
from crisp_compass.app.waypoints.drive.editor import KEYS, Editor
from crisp_compass.app.waypoints.drive.faults import FaultsPage
from crisp_compass.app.waypoints.drive.identify import IdentifyPage
from crisp_compass.app.waypoints.drive.live import LivePage
from crisp_compass.app.waypoints.drive.parameters import ParametersPage
from crisp_compass.app.waypoints.drive.scope import ScopePage
from crisp_compass.app.waypoints.drive.snapshots import Snapshots
from crisp_compass.app.waypoints.drive.terminals import TerminalsPage
from crisp_compass.app.waypoints.hand_over.files import HandOverPage
from crisp_compass.app.waypoints.mechanics.capture import MechanicsPage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.widgets.table import Table
from crisp_compass.app.window import Window
from crisp_compass.capture import read_capture
from crisp_compass.drive.description import Description
from crisp_compass.drive.editing import built, head_of, rows_of
from crisp_compass.drive.library import forget, kept
from crisp_compass.drive.profile import load_snapshot
from crisp_compass.preparation.terminals import findings_of
from crisp_compass.record.content import Table as Listed
from crisp_compass.record.content import content_of
from drive.test_line_search import device
from drive.test_line_search import drive as answering
from hands import copy_bench

DEMO = Path(__file__).parents[2] / "demo"
LONG = 120_000


@pytest.fixture(autouse=True)
def patient(monkeypatch: pytest.MonkeyPatch) -> None:
    """A machine that is busy with other tests is no owner who hangs; that one has a test of its own."""
    monkeypatch.setattr("crisp_compass.drive.conversation.OWNER_S", 5.0)


@pytest.fixture
def connected(window: Window, qtbot: QtBot, tmp_path: Path) -> Window:
    window.open(copy_bench(DEMO / "winch" / "winch.bench.json", tmp_path))
    window.travel("drive")
    page = window.page
    assert isinstance(page, ConnectPage)
    assert page.answer.text == "Not connected"
    page.simulated.click()
    qtbot.waitUntil(lambda: window.document.drive.state == "connected", timeout=LONG)
    qtbot.waitUntil(lambda: page.answer.text == "0 rpm", timeout=LONG)
    return window


@pytest.mark.thorough
def test_the_simulated_drive_is_armed_run_left_and_lost(connected: Window, qtbot: QtBot) -> None:
    window, drive = connected, connected.document.drive
    page = window.page
    assert isinstance(page, ConnectPage)
    page.speed.moved.emit(80.0)  # not armed: nothing is sent
    page.arm.click()
    qtbot.waitUntil(lambda: drive.armed, timeout=LONG)
    page.speed.moved.emit(80.0)
    qtbot.waitUntil(lambda: page.answer.text == "764 rpm", timeout=LONG)
    assert "ARMED" in page.answer._doubt.text()
    assert len(page.picture.speed.data("speed")[0]) > 3
    page.hold.click()
    still, looks = page.picture.speed.data("speed")[1].copy(), drive.line
    qtbot.waitUntil(lambda: drive.line is not looks, timeout=LONG)
    page.speed.moved.emit(60.0)
    qtbot.waitUntil(lambda: page.answer.text == "573 rpm", timeout=LONG)  # the drive goes on, and is told so
    assert list(page.picture.speed.data("speed")[1]) == list(still)
    page.hold.click()
    qtbot.waitUntil(lambda: abs(page.picture.speed.data("speed")[1][-1] - 573.0) < 2.0, timeout=LONG)
    page.speed.moved.emit(80.0)
    qtbot.waitUntil(lambda: page.answer.text == "764 rpm", timeout=LONG)
    window.travel("plate")  # leaving the page stops the motor
    qtbot.waitUntil(lambda: not drive.armed and abs(drive.now["speed"]) < 1.0, timeout=LONG)
    window.travel("drive")
    page.arm.click()
    qtbot.waitUntil(lambda: drive.armed, timeout=LONG)
    assert page.main_button is not None
    page.main_button.click()
    qtbot.waitUntil(lambda: not drive.armed, timeout=LONG)
    process = drive._process
    assert process is not None
    import os

    os.kill(process.processId(), signal.SIGKILL)
    qtbot.waitUntil(lambda: drive.state == "lost", timeout=LONG)
    assert page.answer.text == "Not connected"
    page.own.click()  # nothing says what one's own drive is
    assert "description" in window.notices.text


def test_a_run_is_on_the_link_on_a_capture_or_simulated_and_says_which(connected: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    window, drive = connected, connected.document.drive
    window.travel("run")
    page = window.page
    assert isinstance(page, RunPage)
    qtbot.waitUntil(lambda: "simulated drive, off" in page.answer._doubt.text(), timeout=LONG)
    page.source.choice.moved.emit("link")
    qtbot.waitUntil(lambda: "of Winch, on the link, off" in page.answer._doubt.text(), timeout=LONG)
    assert [n for n, w in page._fields.items() if not w.isHidden()] == ["speed"]  # the others reach the simulation alone
    page._fields["speed"].moved.emit(80.0)
    assert page.main_button is not None
    page.main_button.click()
    qtbot.waitUntil(lambda: page.answer.text == "764 rpm", timeout=LONG)
    assert drive.armed
    assert drive.commanding
    qtbot.keyClick(page, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: not drive.armed and page.answer.text == "0 rpm", timeout=LONG)
    assert page.main_button.text() == "Start"
    page.main_button.click()
    qtbot.waitUntil(lambda: page.answer.text == "764 rpm", timeout=LONG)
    h = page.traces.history
    recorded = tmp_path / "run.csv"
    recorded.write_text("t [s],speed [rpm],i_q [A]\n" + "".join(f"{t:.4f},{w * 30 / math.pi:.5g},{i:.5g}\n" for t, w, i in zip(h["t"], h["speed"], h["i_q"], strict=True)))
    page.source.take(recorded)  # another source: the motor is stopped
    qtbot.waitUntil(lambda: not drive.armed, timeout=LONG)
    qtbot.waitUntil(lambda: "run.csv, replayed: 0.0 of" in page.answer._doubt.text(), timeout=LONG)
    page.main_button.click()
    qtbot.waitUntil(lambda: page.answer.text == "764 rpm" and page.main_button.text() == "Play", timeout=LONG)  # played to its end
    assert not drive.armed
    page.source.choice.moved.emit("link")
    drive.close()
    assert page.answer.text == "Not yet"
    assert not page.main_button.isEnabled()
    (tmp_path / "none.csv").write_text("t [s],temp [degC]\n0,20\n1,21\n")
    page.source.take(tmp_path / "none.csv")
    qtbot.waitUntil(lambda: "neither a speed nor a current" in window.notices.text, timeout=LONG)
    assert page.source.kind == "simulation"


@pytest.mark.thorough
def test_parameters_are_compared_written_read_back_put_back_and_kept(connected: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    window, drive = connected, connected.document.drive
    window.travel("drive", "Parameters")
    page = window.page
    assert isinstance(page, ParametersPage)
    qtbot.waitUntil(lambda: page.answer.text == "All 12 agree", timeout=LONG)
    rows = {page.table.item(r, 0).text(): r for r in range(page.table.rowCount())}

    def typed(name: str, text: str) -> None:
        item = page.table.item(rows[name], 3)
        item.setText(text)

    typed("resistance", "450m")
    typed("current limit", "100")
    assert "outside" in window.notices.text
    typed("current limit", "6.0041 A")
    assert page.main_button is not None
    assert page.main_button.text() == "Write 2"
    page.main_button.click()
    qtbot.waitUntil(lambda: drive.held.get("current_limit") == 6.0, timeout=LONG)
    qtbot.waitUntil(lambda: page.answer.text == "1 of 12 differ", timeout=LONG)
    assert "read back" in window.document.bench.ledger[-1].text
    page.different.setChecked(True)
    assert page.table.rowCount() == 1
    page.different.setChecked(False)
    page.take.click()  # what the bench has settled goes back
    assert page.main_button.text() == "Write 1"
    page.main_button.click()
    qtbot.waitUntil(lambda: page.answer.text == "All 12 agree", timeout=LONG)
    page.back.click()
    assert page._new == {"current_limit": 8.0}
    page._new.clear()
    kept = tmp_path / "kept.json"
    monkeypatch.setattr("crisp_compass.app.waypoints.drive.parameters.ask_save_path", lambda *_, **__: kept)
    page.keep.click()
    said: list[str] = []
    page.done.connect(said.append)
    page.take_profile(kept)
    assert said[-1].startswith("0 of 17 values")
    data = json.loads(kept.read_text())
    data["values"] |= {"ramp": {"value": 60.0, "unit": "krpm/s"}, "flaps": {"value": 1.0, "unit": ""}}
    kept.write_text(json.dumps(data))
    page.take_profile(kept)
    assert "krpm/s" in window.notices.text
    data["values"]["ramp"] = {"value": 9549.2966, "unit": "rpm/s"}
    kept.write_text(json.dumps(data))
    page.take_profile(kept)
    assert "the drive has no flaps" in said[-1]
    assert page._new == {"ramp": pytest.approx(1000.0, rel=1e-6)}
    page.on_main()
    qtbot.waitUntil(lambda: drive.held.get("ramp") == 1000.0, timeout=LONG)
    typed("fault mask", "under-voltage + flaps")
    assert "no bit “flaps”" in window.notices.text
    typed("fault mask", "under-voltage")
    assert page.table.item(rows["fault mask"], 3).text() == "0x0004"
    page.on_main()
    qtbot.waitUntil(lambda: drive.held.get("fault_mask") == 4.0, timeout=LONG)
    window.travel("drive", "Faults")
    assert "does not watch for under-voltage" in window.page.answer._doubt.text()
    window.travel("drive", "Parameters")
    page.compare_snapshots([kept])
    assert "choose two" in window.notices.text
    drive.held["ramp"] = 900.0
    other = kept.with_name("other.json")
    monkeypatch.setattr("crisp_compass.app.waypoints.drive.parameters.ask_save_path", lambda *_, **__: other)
    page.keep.click()
    dialog = Snapshots(load_snapshot(kept), load_snapshot(other), page)
    assert dialog.answer.text() == "3 of 18 differ"  # the ramp, the mask, and the flaps that the other has not
    assert dialog.table.rowCount() == 3
    window.document.drive.close()
    assert page.answer.text == "Not connected"


def test_hanging_up_waits_for_no_dead_line(window: Window, qtbot: QtBot) -> None:
    drive = window.document.drive
    with socket.create_server(("127.0.0.1", 0)) as silent:
        told = Description.model_validate({"protocol": "modbus tcp", "unit_id": 1, "telemetry": [{"name": "n", "address": 0, "type": "int16"}]})
        drive.connect_to(f"tcp:127.0.0.1:{silent.getsockname()[1]}", told)
        peer, _ = silent.accept()
        talk = drive._talk
        assert talk is not None
        peer.recv(64)  # it asks, and is answered nothing
        drive.close()
        assert talk._thread.is_alive()
        assert drive.state == "apart"
        peer.close()
    talk._thread.join(30)
    assert not talk._thread.is_alive()


@pytest.mark.thorough
def test_hand_over_writes_what_the_drive_holds_otherwise(connected: Window, qtbot: QtBot) -> None:
    window, drive = connected, connected.document.drive
    qtbot.waitUntil(lambda: "resistance" in drive.held, timeout=LONG)
    assert drive.description is not None
    resistance = next(e for e in drive.description.parameters if e.name == "resistance")
    drive.talk().write([(resistance, 0.5)])
    qtbot.waitUntil(lambda: drive.held["resistance"] == 0.5, timeout=LONG)
    window.travel("hand_over")
    page = window.page
    assert isinstance(page, HandOverPage)
    said: list[str] = []
    page.done.connect(said.append)
    page.buttons["drive"].click()
    qtbot.waitUntil(lambda: bool(said), timeout=LONG)
    assert said == ["1 written and read back; 1 counts after a restart; current kp d, current ki d, current kp q and more left: outdated, settle again first"]
    assert drive.held["resistance"] == 0.4126
    assert "read back: resistance 0.4126 Ω" in window.document.bench.ledger[-1].text
    page.buttons["drive"].click()
    assert said[-1].startswith("the drive holds all 8 already; current kp d")
    drive.close()
    assert page.buttons["drive"].isHidden()


def test_a_wrong_description_and_a_dead_link_say_so(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "winch" / "winch.bench.json", tmp_path))
    window.travel("drive")
    page = window.page
    assert isinstance(page, ConnectPage)
    wrong = tmp_path / "wrong.json"
    wrong.write_text("{}")
    page.take_description(wrong)
    assert "wrong.json" in window.notices.text
    wrong.write_text(json.dumps({"protocol": "tcp", "unit_id": 1, "telemetry": [{"name": "n", "address": 0, "type": "int16"}]}))
    page.take_description(wrong)
    page.link.setText("tcp:127.0.0.1:1")
    page.own.click()
    qtbot.waitUntil(lambda: window.document.drive.state == "lost", timeout=LONG)
    assert "Nothing listens" in page.answer._doubt.text()


def test_a_drive_on_a_serial_line_is_found_by_asking(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.travel("drive")
    page = window.page
    assert isinstance(page, ConnectPage)
    assert not [a for a in page.finder.fill_menu().actions() if a.text().startswith("Ask") and a.isEnabled()]  # nothing to ask on
    described = tmp_path / "drive.json"
    described.write_text(json.dumps({"protocol": "modbus rtu", "unit_id": 1, "baud": 115200, "telemetry": [{"name": "speed", "address": 0, "type": "int16", "unit": "rpm", "signal": "speed"}]}))
    page.take_description(described)
    said: list[str] = []
    page.done.connect(said.append)
    with device(answering(2, 9600)) as port:
        page.link.setText(f"serial:{port}")
        page.finder.start(range(1, 17))
        qtbot.waitUntil(lambda: bool(said), timeout=LONG)
        assert said == ["unit 2 answers at 9600 baud, no parity, 1 stop bit; connect"]
        assert page._description is not None
        assert (page._description.unit_id, page._description.baud) == (2, 9600)
        assert page.own.isEnabled()
    page.link.setText("serial:/dev/ttyNONE")
    page.finder.start(range(1, 3))
    qtbot.waitUntil(lambda: "there is no such port" in window.notices.text, timeout=LONG)
    assert page.answer.text == "Not connected"


@pytest.mark.thorough
def test_a_description_is_written_read_on_trial_kept_and_used(connected: Window, tmp_path: Path, qtbot: QtBot) -> None:
    window, page = connected, connected.page
    assert isinstance(page, ConnectPage)
    link = window.document.drive.link
    editor = Editor(None, link, tmp_path, window)
    editor._typed["name"].setText("Own board")
    for name, kind in (("resistance", "uint16"), ("ld", "uint32")):
        editor._on_add()
        at = len(editor.rows) - 1
        for key, text in (("name", name), ("type", kind), ("scale", "0.0001" if at == 0 else "1e-10"), ("unit", "Ω" if at == 0 else "H"), ("place", str(at))):
            item = editor.table.item(at, KEYS.index(key))
            assert item is not None
            item.setText(text)
    assert editor.notice.text() == ""
    editor.table.clearSelection()  # nothing marked: all of it
    editor._on_test()
    qtbot.waitUntil(lambda: editor.notice.text() not in ("", "reading…"), timeout=LONG)
    assert editor.notice.text() == "2 of 2 read"
    assert editor._read == {"resistance": "0.4126 Ω", "ld": "0.000980426 H"}
    editor._on_add()  # behind the last, which takes two registers
    assert editor.rows[2]["place"] == "3"
    item = editor.table.item(1, KEYS.index("place"))
    assert item is not None
    item.setText("0")
    assert "Row 3" in editor.notice.text()  # it has no name yet
    editor.table.selectRow(2)
    editor._on_take_out()
    editor._on_use()
    assert "overlap at holding register 0" in editor.notice.text()
    item.setText("0x1")
    editor._on_keep()
    assert editor.notice.text() == "kept in the library as Own board"
    editor._on_use()
    assert editor.description is not None
    window.document.drive.close()
    assert [a.text() for a in page.fill_menu().actions()][:2] == ["Open file…", "Own board"]
    page.fill_menu().actions()[1].trigger()
    assert page._description == editor.description
    again = rows_of(editor.description)
    assert built(head_of(editor.description), again, editor.description) == editor.description
    odd: dict[str, object] = {
        "protocol": "modbus tcp", "unit_id": 1, "live": {"link": "tcp:127.0.0.1:9", "channels": [{"name": "i", "type": "int16"}]},
        "telemetry": [{"name": "n", "address": 0, "type": "int16", "table": "holding", "scale": 1 / 32768, "min": -0.1 / 3, "limit": "most", "bits": {"0": "in | out", "3": "stall"}}],
    }  # fmt: skip
    told = Description.model_validate(odd)  # telemetry among the holding registers, figures of many digits, a bar within a name, a stream beside it
    assert built(head_of(told), rows_of(told), told) == told
    forget(kept()[0])
    assert kept() == []


@pytest.mark.thorough
def test_a_fault_is_named_counted_and_cleared_and_the_strip_is_a_capture(connected: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    window, drive = connected, connected.document.drive
    page = window.page
    assert isinstance(page, ConnectPage)
    told = drive.description
    assert told is not None
    least = next(e for e in told.parameters if e.name == "minimum_bus")
    drive.talk().write([(least, 60.0)])  # above the bus: the next run trips at once
    qtbot.waitUntil(lambda: drive.held.get("minimum_bus") == 60.0, timeout=LONG)
    page.arm.click()
    qtbot.waitUntil(lambda: "under-voltage" in page.answer.reason, timeout=LONG)
    window.travel("drive", "Faults")
    faults = window.page
    assert isinstance(faults, FaultsPage)
    qtbot.waitUntil(lambda: faults.answer.text == "Under-voltage", timeout=LONG)
    rows = {faults.table.item(r, 0).text(): r for r in range(faults.table.rowCount())}
    assert faults.table.item(rows["under-voltage"], 1).text() == "STANDS"
    assert faults.table.item(rows["under-voltage"], 2).text() == "1"
    assert "supply" in faults.table.item(rows["under-voltage"], 5).text()
    drive.talk().write([(least, 30.0)])
    qtbot.waitUntil(lambda: drive.held.get("minimum_bus") == 30.0, timeout=LONG)
    assert faults.main_button is not None
    faults.main_button.click()
    qtbot.waitUntil(lambda: faults.answer.text == "No fault", timeout=LONG)
    window.travel("drive")
    qtbot.waitUntil(lambda: len(page.picture.speed.data("speed")[0]) > 5, timeout=LONG)  # looks come as the machine has time
    out = tmp_path / "strip.csv"
    monkeypatch.setattr("crisp_compass.app.waypoints.drive.connect.ask_save_path", lambda *_, **__: out)
    page.strip.click()
    capture = read_capture(out)
    assert all(len(capture[k]) == len(capture.time) for k in ("speed", "i_q", "v_bus"))
    assert len(capture.time) > 5


@pytest.mark.thorough
def test_the_drive_is_rehearsed_identified_and_taken_back(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "hatch" / "hatch.bench.json", tmp_path))
    document = window.document
    before = document.bench
    window.travel("drive", "Identify")
    page = window.page
    assert isinstance(page, IdentifyPage)
    page.rehearse.click()
    qtbot.waitUntil(lambda: "largest current" in page.rows.texts, timeout=LONG)
    assert page.main_button is not None
    assert not page.main_button.isEnabled()
    document.drive.start_simulated(document.bench)
    qtbot.waitUntil(lambda: document.drive.state == "connected" and bool(document.drive.now), timeout=LONG)
    page.main_button.click()
    qtbot.waitUntil(lambda: page.answer.text == "Identified", timeout=LONG)
    found = document.bench.settled["resistance"]
    assert found.reason == "taken by the program through the drive"
    assert abs(found.values["resistance"].value / before.settled["resistance"].values["resistance"].value - 1) < 0.02
    assert "step" in document.bench.ledger[-2].text
    assert (tmp_path / "hatch-drive-levels.csv").is_file()
    document.undo_stack.undo()
    assert document.bench == before
    qtbot.waitUntil(lambda: not document.drive.armed, timeout=LONG)
    page.main_button.click()
    qtbot.waitUntil(lambda: document.drive.armed, timeout=LONG)
    page.stop.click()
    qtbot.waitUntil(lambda: page.answer.text == "Broke off after 0 of 3", timeout=LONG)
    assert "stopped" in page.answer.reason
    qtbot.waitUntil(lambda: not document.drive.armed, timeout=LONG)
    assert document.bench.settled == before.settled


@pytest.mark.thorough
def test_the_drives_own_auto_tune_is_judged_and_kept(connected: Window, qtbot: QtBot) -> None:
    window = connected
    window.travel("drive", "Auto-tune")
    page = window.page
    assert isinstance(page, AutoTunePage)
    assert page.main_button is not None
    assert not page.main_button.isEnabled()
    page.buttons[1].click()
    qtbot.waitUntil(lambda: page.answer.text == "It ran", timeout=LONG)
    assert page.table.item(0, 6).text() == "ran"
    page.main_button.click()
    kept = window.document.bench.settings.auto_tune
    assert kept.resistance_after is not None
    assert kept.resistance_after != kept.resistance_before
    page.buttons[1].click()
    page.stop.click()
    qtbot.waitUntil(lambda: page.answer.text == "Broke off", timeout=LONG)


@pytest.mark.thorough
def test_commissioning_is_ticked_by_what_is_read_skipped_with_a_reason_and_undone(connected: Window, qtbot: QtBot) -> None:
    window, document = connected, connected.document
    window.travel("drive", "Commissioning")
    page = window.page
    assert isinstance(page, CommissioningPage)
    qtbot.waitUntil(lambda: page.table.item(1, 3).text() == "48.0 V by the drive", timeout=LONG)
    page.on_main()
    assert document.bench.commissioning["keep"].done
    assert page.task is not None
    assert page.task.key == "supply"
    page.skip.click()
    assert "reason" in window.notices.text
    page.reason.setText("measured by the works' electrician")
    page.skip.click()
    assert document.bench.commissioning["supply"].skipped == "measured by the works' electrician"
    told = document.drive.description
    assert told is not None
    limit = next(e for e in told.parameters if e.name == "current_limit")
    document.drive.talk().write([(limit, 20.0)])
    page.choose("limits")
    qtbot.waitUntil(lambda: "20.0 A" in page.table.item(4, 3).text(), timeout=LONG)
    page.on_main()
    assert "limits" not in document.bench.commissioning
    assert "20.0 A" in window.notices.text
    page.act.click()
    qtbot.waitUntil(lambda: page.table.item(4, 3).text() == "8.00 A", timeout=LONG)
    page.on_main()
    assert document.bench.commissioning["limits"].read == "8.00 A"
    page.choose("direction")
    page.act.click()
    qtbot.waitUntil(lambda: "by the drive" in page.table.item(8, 3).text() and not document.drive.busy, timeout=LONG)
    page.choose("creep")
    page.tacho.moved.emit(2.0)
    qtbot.waitUntil(lambda: "shaft 19.1 rpm" in page.table.item(9, 3).text(), timeout=LONG)
    for _ in range(6):
        document.undo_stack.undo()
    assert not document.bench.commissioning


@pytest.mark.thorough
def test_terminals_inputs_and_a_chain_are_written_down_and_judged(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "winch" / "winch.bench.json", tmp_path))
    window.travel("drive", "Terminals")
    page, document = window.page, window.document
    assert isinstance(page, TerminalsPage)
    assert page.answer.text == "No input is assigned"
    for action in page._menus[page.add_group].actions():
        if action.text() in ("Mains, one phase", "Digital inputs"):
            action.trigger()
    for name in ("enable", "stop", "direction"):
        next(a for a in page._menus[page.add_input].actions() if a.text() == name).trigger()
    assert page.answer.text == "Nothing unsafe"  # as proposed: stop by low, enable by high
    assert [page.inputs.item(r, 0).text() for r in range(3)] == ["DI1", "DI2", "DI3"]

    def typed(table: Table, row: int, column: int, text: str) -> None:
        item = table.item(row, column)
        assert item is not None
        item.setText(text)

    typed(page.inputs, 1, 2, "high")
    assert page.answer.text == "1 of 3 go unseen"
    assert any("DI2: stop is never given" in f.text for f in findings_of(document.bench))
    typed(page.inputs, 1, 1, "brake")
    assert "no function of an input" in window.notices.text
    assert page.inputs.item(1, 1).text() == "stop"
    typed(page.terminals, 0, 2, "1.5 mm²")
    typed(page.terminals, 0, 4, "-3")
    assert document.bench.settings.terminals.rows[0].wire == 1.5
    assert document.bench.settings.terminals.rows[0].torque is None
    page.add_axis.click()
    page.add_axis.click()
    typed(page.axes, 1, 1, "1")
    assert any("address 1 stands 2 times" in f.text for f in findings_of(document.bench))
    section = next(s for s in content_of(document.bench, tmp_path, "") if s.title == "Terminals of the drive")
    table = section.blocks[2]
    assert isinstance(table, Listed)
    assert table.rows[0] == ("either", "high", "either", "stops, and stands")
    typed(page.inputs, 1, 2, "low")  # the stop again as it is safe
    assert page.switch.isHidden()  # a real drive's inputs are switched at the bench
    document.drive.start_simulated(document.bench)
    qtbot.waitUntil(lambda: [page.inputs.item(r, 3).text() for r in range(3)] == ["high", "high", "low"], timeout=LONG)
    document.drive.talk().arm()
    document.drive.talk().run_at(60.0)
    qtbot.waitUntil(lambda: document.drive.now["speed"] > 50.0, timeout=LONG)
    page.inputs.selectRow(2)
    page.switch.click()  # direction
    qtbot.waitUntil(lambda: page.inputs.item(2, 3).text() == "high" and document.drive.now["speed"] < -50.0, timeout=LONG)
    page.inputs.selectRow(1)
    page.switch.click()  # stop: its wire is as good as broken
    qtbot.waitUntil(lambda: not document.drive.armed and abs(document.drive.now["speed"]) < 1.0, timeout=LONG)
    document.drive.talk().arm()
    qtbot.waitUntil(lambda: "refuses to arm" in window.notices.text, timeout=LONG)
    document.drive.close()
    page.inputs.clearSelection()
    page.terminals.selectRow(0)
    page.take_out.click()
    assert document.bench.settings.terminals.rows[0].terminal == "N"
    document.undo_stack.undo()
    assert document.bench.settings.terminals.rows[0].terminal == "L"


def test_a_display_in_a_persons_own_unit_trims_and_ramps(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "winch" / "winch.bench.json", tmp_path))
    window.travel("drive", "Display")
    page, document = window.page, window.document
    assert isinstance(page, DisplayPage)
    assert page.answer.text == "1146 rpm"  # until a figure is entered
    page._fields["display.shows"].moved.emit(100.0)
    page._fields["display.at"].moved.emit(1500 * math.pi / 30)
    page._fields["display.decimals"].moved.emit(1.0)
    page.unit.setText("m/min")
    page.unit.editingFinished.emit()
    assert page.answer.text == "76.4 m/min"
    page.add_trim.click()
    page.add_ramp.click()

    def typed(table: Table, row: int, column: int, text: str) -> None:
        item = table.item(row, column)
        assert item is not None
        item.setText(text)

    typed(page.trims, 0, 3, "gone")
    assert "as found or neutral or put back" in window.notices.text
    typed(page.trims, 0, 3, "neutral")
    typed(page.ramps, 0, 1, "1500 ms")
    assert document.bench.settings.display.ramps[0].seconds == 1.5
    assert document.bench.settings.display.trims[0].stands == "neutral"
    page.trims.selectRow(0)
    page.take_out.click()
    assert document.bench.settings.display.trims == ()


def test_command_points_are_typed_judged_and_dropped(window: Window, tmp_path: Path) -> None:
    window.open(copy_bench(DEMO / "winch" / "winch.bench.json", tmp_path))
    window.travel("drive", "Command")
    page = window.page
    assert isinstance(page, CommandPage)
    assert page.answer.text.endswith("rpm")
    for row, (command, speed) in enumerate((("2.5 V", "560 rpm"), ("7500 mV", "1560"))):
        page.table.item(row, 0).setText(command)
        page.table.item(row, 2).setText(speed)
    assert page.answer.text == "The offset is wrong"
    assert "ends to enter in the drive" in page.rows.texts
    page.table.item(0, 0).setText("five")
    assert "five" in window.notices.text
    page.table.item(0, 0).setText("")
    assert len(window.document.bench.settings.command.points) == 1
    page.clear.click()
    assert window.document.bench.settings.command.points == ()
    window.document.set_field("command", "source", "current")
    assert page.answer._doubt.text() == "4.00 mA to 20.0 mA"


@pytest.mark.thorough
def test_live_shows_every_channel_of_the_drives_own_stream(connected: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    window, drive = connected, connected.document.drive
    window.travel("drive", "Live")
    page = window.page
    assert isinstance(page, LivePage)
    qtbot.waitUntil(lambda: page.source.store is not None and page.source.store.rows > 20_000, timeout=LONG)
    assert page.table.rowCount() == 20
    assert page.panes.plots["A"].isVisible()
    assert not page.panes.plots["W"].isVisible()
    power = next(r for r in range(20) if page.table.item(r, 0).text() == "power")
    page.table.item(power, 0).setCheckState(Qt.CheckState.Checked)
    qtbot.waitUntil(lambda: page.panes.plots["W"].isVisible() and len(page.panes.plots["W"].data("power")[0]) > 50, timeout=LONG)
    page.arm.click()
    qtbot.waitUntil(lambda: drive.armed, timeout=LONG)
    # a trigger on the reference: 20 ms before it passes 300 rpm, the rest behind
    page.span.show_value(0.1)
    page.before.show_value(0.02)
    page.level.show_value(300.0)
    page.trigger.show_value("speed_ref")
    page.trigger.moved.emit("speed_ref")
    page.speed.moved.emit(80.0)
    qtbot.waitUntil(lambda: page._window is not None, timeout=LONG)
    store = page.source.store
    assert store is not None
    assert page.main_button is not None
    page.main_button.click()
    assert page.held
    t, asked = page.panes.plots["rad/s"].data("speed_ref")
    assert abs(t[0] + 0.02) < 2e-4
    assert abs(t[-1] - 0.08) < 2e-4
    assert (np.asarray(asked)[t < 0] < 300.0).all()
    assert abs(float(np.interp(0.0, t, asked)) - 300.0) < 5.0
    assert len(t) == pytest.approx(2000, abs=3)  # every row of what is held
    plot = page.panes.seen[0]
    plot.toggle_cursors()
    page._measure(store)
    speed = next(r for r in range(20) if page.table.item(r, 0).text() == "speed_ref".replace("_", " "))
    assert page.table.item(speed, 1).text().endswith("rpm")
    assert any("% of 8.00 A" in text for text in page.bars.texts)
    out = tmp_path / "live.csv"
    monkeypatch.setattr("crisp_compass.app.waypoints.drive.live.ask_save_path", lambda *_, **__: out)
    page.save.click()
    kept = read_capture(out)
    assert {"i_a", "speed", "angle"} <= set(kept.columns)
    assert len(kept.time) == pytest.approx(2000, abs=3)
    page.main_button.click()
    page.trigger.show_value("")
    page.trigger.moved.emit("")
    qtbot.waitUntil(lambda: page.answer.text in ("763 rpm", "764 rpm", "765 rpm"), timeout=LONG)
    page.stop.click()
    qtbot.waitUntil(lambda: not drive.armed, timeout=LONG)
    window.travel("drive", "Connect")
    assert page.source._reader is None  # nobody looks
    drive.close()
    window.travel("drive", "Live")
    assert page.answer.text == "Not connected"


@pytest.mark.thorough
def test_a_leg_takes_its_own_capture_through_the_drive(connected: Window, qtbot: QtBot) -> None:
    window, document = connected, connected.document
    window.travel("mechanics")
    page = window.page
    assert isinstance(page, MechanicsPage)
    run_up, _ = page.take_button.offered()
    assert not page.take_button.isHidden()
    before = document.bench
    page.take_button.open(run_up)
    dialog = page.take_button.dialog
    assert dialog is not None
    assert not dialog.arm.isEnabled()  # not before it was rehearsed
    qtbot.waitUntil(lambda: dialog.state.text() == "Ready to take", timeout=LONG)
    assert "largest current" in dialog.rows.texts
    dialog.arm.click()
    qtbot.waitUntil(lambda: document.drive.armed, timeout=LONG)
    qtbot.keyClick(dialog, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: dialog.state.text() == "Nothing was taken", timeout=LONG)
    qtbot.waitUntil(lambda: not document.drive.armed, timeout=LONG)
    assert document.bench == before
    qtbot.waitUntil(lambda: dialog.arm.isEnabled(), timeout=LONG)
    dialog.arm.click()
    qtbot.waitUntil(lambda: page.take_button.dialog is None, timeout=LONG)
    taken = document.bench.evidence["mechanics"][-1]
    assert taken.file == "winch-drive-run-up.csv"
    assert abs(taken.estimates["inertia"].value / before.settled["mechanics"].values["inertia"].value - 1) < 0.03
    assert page.answer.text.startswith("1.9") or page.answer.text.startswith("1.8")
    assert document.bench.settled == before.settled  # it is settled by the person
    document.undo_stack.undo()
    assert document.bench == before
    page.take_button.open(run_up)  # the drive is gone in the middle of it: the dialog lets go
    dialog = page.take_button.dialog
    assert dialog is not None
    qtbot.waitUntil(lambda: dialog.state.text() == "Ready to take", timeout=LONG)
    dialog.arm.click()
    qtbot.waitUntil(lambda: document.drive.armed, timeout=LONG)
    process = document.drive._process
    assert process is not None
    process.kill()
    qtbot.waitUntil(lambda: dialog.state.text() == "Nothing was taken", timeout=LONG)
    assert dialog.away.isEnabled()
    dialog.reject()
    assert document.bench == before
    assert page.take_button.isHidden()


@pytest.mark.thorough
def test_a_menu_connects_to_the_simulated_drive_of_each_demo(window: Window, qtbot: QtBot) -> None:
    offered = {a.text(): a for a in window.findChildren(QAction) if a.text().startswith("Connect to the simulated ")}
    assert {t.rpartition(" ")[2] for t in offered} >= {"winch", "thruster", "carousel", "hatch", "pump", "hoist"}
    offered["Connect to the simulated hoist"].trigger()
    drive = window.document.drive
    qtbot.waitUntil(lambda: drive.state == "connected" and bool(drive.now), timeout=LONG)
    assert window.document.bench.name == "Shore hoist"
    assert window.page.section == "Connect"
    assert not drive.armed  # nothing moves


@pytest.mark.thorough
def test_the_scope_waits_for_a_crossing_while_the_drive_is_told_a_speed(connected: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    window, drive = connected, connected.document.drive
    window.travel("drive", "Scope")
    page = window.page
    assert isinstance(page, ScopePage)
    assert page.choices["speed"].isChecked()
    page.arm.click()
    qtbot.waitUntil(lambda: drive.armed, timeout=LONG)
    page.trigger.show_value("speed_ref")
    page.level.show_value(100.0)
    page.on_main()
    assert page.answer.text == "Waits for the trigger"
    page.speed.moved.emit(80.0)
    qtbot.waitUntil(lambda: page.answer.text.endswith("rows"), timeout=LONG)
    t, speed = page.panes.plots["rad/s"].data("speed_ref")
    assert abs(float(speed[int((t < 0).sum())]) - 100.0) < 20.0
    assert drive.armed
    out = tmp_path / "scope.csv"
    monkeypatch.setattr("crisp_compass.app.waypoints.drive.scope.ask_save_path", lambda *_, **__: out)
    page.save.click()
    kept = read_capture(out)
    assert {"i_a", "speed"} <= set(kept.columns)
    assert "voltages" not in kept.notes  # every second period is kept: a row is no mean over the time to the next
    page.stop.click()
    qtbot.waitUntil(lambda: not drive.armed, timeout=LONG)
