"""Before anything is measured, in the window: plate, checks, wires, cable, supply, profiles, and what of it reaches Run."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtWidgets import QInputDialog, QTableWidgetItem
from pytestqt.qtbot import QtBot

from crisp_compass.app.waypoints.plate.checks import ChecksPage
from crisp_compass.app.waypoints.plate.interference import InterferencePage
from crisp_compass.app.waypoints.plate.motor import PlatePage
from crisp_compass.app.waypoints.plate.profile import ProfileDialog
from crisp_compass.app.waypoints.plate.sensor_cable import CablePage
from crisp_compass.app.waypoints.plate.supply import SupplyPage
from crisp_compass.app.waypoints.plate.wiring import WiringPage
from crisp_compass.app.waypoints.resistance.meter import MeterPage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.window import Window
from hands import copy_bench, press_main, type_into


def test_with_only_a_meter_and_a_supply(window: Window, qtbot: QtBot) -> None:
    """A new bench: readings typed, phases solved, value settled; no capture anywhere."""
    window.travel("resistance", "Meter")
    page = window.page
    assert isinstance(page, MeterPage)
    assert page.answer.text == "No pair yet"
    type_into(qtbot, page.probes, "0.05")
    for name, text in (("uv", "0.88"), ("vw", "870m"), ("wu", "0,88")):
        type_into(qtbot, page.pairs[name], text)
    type_into(qtbot, page.number("temperature"), "23.5")
    assert page.answer.text.startswith("413")
    assert [b.name for b in page.forest.bars] == ["phase U", "phase V", "phase W"]
    assert page.rows.texts["120 °C"].startswith("567")
    press_main(qtbot, window)
    assert window.document.bench.settled["resistance"].values["resistance"].value == pytest.approx(0.41333, rel=1e-3)
    type_into(qtbot, page.pairs["uv"], "-3")
    assert "cannot be read on a meter" in window.notices.text
    assert page.pairs["uv"].value == pytest.approx(0.88)


def test_one_bad_winding_stops_the_run(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("plate", "Checks")
    page = window.page
    assert isinstance(page, ChecksPage)
    assert page.answer.text == "Proceed with caution"  # one check is skipped for a reason
    pairs = page.rows["pairs"].settings
    for name, text in (("uv", "600m"), ("vw", "600m"), ("wu", "880m")):
        type_into(qtbot, pairs[name], text)
    assert page.answer.text == "No"
    assert "Phase V" in page.rows["pairs"].reason.text()
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    assert run.main_button is not None
    assert not run.main_button.isEnabled() or "three pairs" in run.answer.reason.lower()
    for _ in range(3):
        window.document.undo_stack.undo()
    window.travel("plate", "Checks")
    assert page.answer.text == "Proceed with caution"


def test_checks_are_done_skipped_and_opened_again(
    window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    window.travel("plate", "Checks")
    page = window.page
    assert isinstance(page, ChecksPage)
    assert page.answer.text == "Not yet"
    row = page.rows["terminals"]
    qtbot.keyClicks(row.said, "all tight")
    row.said.editingFinished.emit()
    assert window.document.bench.checks["terminals"].said == "all tight"
    assert "open" in row.mark.accessibleName()
    row.choice.moved.emit("in-order")
    assert "passed" in row.mark.accessibleName()
    row.choice.moved.emit("not-in-order")
    assert page.answer.text == "No"
    row.choice.moved.emit("in-order")
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("no insulation tester here", True))
    qtbot.mouseClick(page.rows["insulation_motor"].skip, Qt.MouseButton.LeftButton)
    assert window.document.bench.checks["insulation_motor"].skipped == "no insulation tester here"
    assert "no insulation tester here" in window.document.bench.ledger[-1].text
    qtbot.mouseClick(page.rows["insulation_motor"].skip, Qt.MouseButton.LeftButton)
    assert "insulation_motor" not in window.document.bench.checks
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("", True))
    qtbot.mouseClick(page.rows["frame"].skip, Qt.MouseButton.LeftButton)
    assert "no reason is given" in window.notices.text


def test_a_data_sheet_in_the_wrong_base(window: Window, qtbot: QtBot) -> None:
    """Kt given per A rms but entered as peak: the page names the convention that makes the plate consistent."""
    page = window.page
    assert isinstance(page, PlatePage)
    for field, text in (("pole_pairs", "7"), ("kv", "46.8"), ("kt", "0.25")):
        number = page.number(field)
        type_into(qtbot, number, text)  # type: ignore[arg-type]
    page._fields["kt_convention"].moved.emit("peak")
    assert "Kt is per A rms, not per A peak" in " ".join(page.findings.texts)
    page._fields["kt_convention"].moved.emit("rms")
    assert "agree" in " ".join(page.findings.texts)
    assert page.rows.texts["Kt per A rms"].startswith("249") or page.rows.texts["Kt per A rms"].startswith("250")
    assert "rpm" in page.answer.text


@pytest.mark.parametrize(
    ("family", "fields", "words"),
    [
        ("induction", {"rated_voltage": "380", "mains_hz": "50", "rated_current": "32", "rated_power": "15k", "rated_speed": "1460"}, "0.712"),
        ("stepper", {"steps_per_turn": "200", "rated_voltage": "3", "rated_current": "2", "r": "1.5", "inductance": "3m", "holding_torque": "1.2"}, "1.8°"),
        ("brushed", {"v1": "24", "i1": "0.6", "n1": "4200", "v2": "24", "i2": "9", "n2": "3100"}, ""),
    ],
)  # fmt: skip
def test_every_family_has_its_page(
    window: Window, qtbot: QtBot, family: str, fields: dict[str, str], words: str
) -> None:
    page = window.page
    assert isinstance(page, PlatePage)
    page._fields["family"].moved.emit(family)
    for field, text in fields.items():
        number = page.number(field)
        assert not number.isHidden(), field
        type_into(qtbot, number, text)  # type: ignore[arg-type]
    shown = " ".join([page.answer.text, *page.rows.texts, *page.rows.texts.values()])
    assert words in shown
    assert len(page.rows.texts) >= 4
    x, y = page.plot.data("predicted")
    assert len(x) == len(y) > 1
    assert np.isfinite(y).all()


def test_power_is_typed_in_horsepower(window: Window, qtbot: QtBot) -> None:
    """1 hp = 745.7 W, 1 PS = 735.5 W (NIST SP 811)."""
    page = window.page
    assert isinstance(page, PlatePage)
    for text, watts in (("3 hp", 3 * 745.6998716), ("3 PS", 3 * 735.49875), ("2.2 kW", 2200.0)):
        type_into(qtbot, page.number("rated_power"), text)  # type: ignore[arg-type]
        assert window.document.bench.settings.plate.rated_power == pytest.approx(watts, rel=1e-6)


def test_supply_limits_go_to_the_run(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("plate", "Drive and supply")
    page = window.page
    assert isinstance(page, SupplyPage)
    assert "to" in page.answer.text
    press_main(qtbot, window)
    run = window.document.bench.settings.run
    assert run.i_limit == pytest.approx(3.0)
    assert run.speed < 30
    page._fields["supply.source"].moved.emit("mains")
    page._fields["supply.mains_hz"].moved.emit("60")
    assert window.document.bench.settings.supply.mains_hz == 60
    assert not page.number("supply.mains_v").isHidden()
    assert page.number("supply.v_full").isHidden()


def test_a_profile_marks_what_it_changes(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("plate")
    page = window.page
    assert isinstance(page, PlatePage)
    page.save_profile(tmp_path / "winch.motor.json")
    page.open_profile(tmp_path / "winch.motor.json")
    assert "holds what this bench already has" in window.notices.text
    window.files.new()
    page = window.page
    assert isinstance(page, PlatePage)
    seen: list[int] = []

    def accept(dialog: ProfileDialog) -> int:
        seen.append(dialog.table.rowCount())
        for row in range(dialog.table.rowCount()):  # measured constants come without a tick
            dialog.table.item(row, 0).setCheckState(Qt.CheckState.Checked)
        return 1

    monkeypatch.setattr(ProfileDialog, "exec", accept)
    page.open_profile(tmp_path / "winch.motor.json")
    assert seen
    assert seen[0] > 6
    assert window.document.bench.settings.plate.pole_pairs == 7
    assert window.document.bench.settled["flux"].values["flux_linkage"].value == pytest.approx(16.83e-3, rel=1e-2)
    assert "similar motor" in window.document.bench.settled["flux"].reason
    window.document.undo_stack.undo()
    assert "flux" not in window.document.bench.settled
    (tmp_path / "bad.motor.json").write_text("[]")
    page.open_profile(tmp_path / "bad.motor.json")
    assert "this is no motor profile" in window.notices.text


def test_wiring_chart_swaps_colours_and_prints(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.travel("plate", "Wiring")
    page = window.page
    assert isinstance(page, WiringPage)
    assert page.answer.text == "Forward"
    page.table.item(0, 1).setText("brown")
    page.table.item(1, 1).setText("mauve")
    assert "no wire colour" in window.notices.text
    assert window.document.bench.leads[0].colour == "BN"
    assert window.document.bench.leads[1].colour == ""
    page.table.selectRow(0)
    page.table.selectionModel().select(
        page.table.model().index(1, 0),
        page.table.selectionModel().SelectionFlag.Select | page.table.selectionModel().SelectionFlag.Rows,
    )
    press_main(qtbot, window)
    assert page.answer.text == "Backward"
    assert isinstance(page.table.item(0, 0), QTableWidgetItem)
    printer = QPrinter()
    printer.setOutputFileName(str(tmp_path / "w.pdf"))
    page.print_to(printer)
    assert (tmp_path / "w.pdf").stat().st_size > 1000


def test_an_unknown_cable_is_worked_through(window: Window, qtbot: QtBot, thruster: Path, tmp_path: Path) -> None:
    window.open(copy_bench(thruster, tmp_path))
    window.travel("plate", "Sensor cable")
    page = window.page
    assert isinstance(page, CablePage)
    assert "Diode test" in page.answer.reason
    page.known.moved.emit("")
    for wire, role in (("brown", "ground"), ("orange", "supply")):
        page.first.moved.emit(wire)
        page.known.moved.emit(role)
    page.first.moved.emit("brown")
    page.other.moved.emit("yellow")
    type_into(qtbot, page.diode, "0.61")
    assert page.diode.value == 0.61
    page.first.moved.emit("orange")
    type_into(qtbot, page.current, "18.5m")
    for _ in range(4):
        for wire in ("yellow", "violet", "pink"):
            page.first.moved.emit(wire)
            page.scope.moved.emit("square-with-pull-up")
    assert page.answer.text == "All known"
    roles = {page.table.item(r, 0).text(): page.table.item(r, 1).text() for r in range(page.table.rowCount())}
    assert (roles["brown"], roles["orange"]) == ("0 V", "supply")
    assert [roles[w] for w in ("yellow", "violet", "pink")] == ["channel"] * 3
    page.first.moved.emit("pink")
    type_into(qtbot, page.ohms, "-4")
    assert window.notices.isVisible()


def test_interference_readings(window: Window, qtbot: QtBot) -> None:
    window.travel("plate", "Interference")
    page = window.page
    assert isinstance(page, InterferencePage)
    press_main(qtbot, window)
    assert "the peak is missing" in window.notices.text
    for remedy, peak in (("nothing changed yet", "8.4"), ("screened and earthed", "2.7"), ("ferrites", "4.7")):
        page.remedy.setCurrentText(remedy)
        type_into(qtbot, page.peak, peak)
        press_main(qtbot, window)
    assert page.answer.text == "−68 %"
    qtbot.mouseClick(page.remove, Qt.MouseButton.LeftButton)
    assert len(window.document.bench.spikes) == 2


@pytest.mark.thorough
def test_run_refuses_what_no_bench_has_and_lets_a_load_drive(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run")
    page = window.page
    assert isinstance(page, RunPage)
    qtbot.waitUntil(lambda: page.port is not None, timeout=180000)
    assert page.port is not None
    for text, words in (("-10", "0 V to 1.50 kV is"), ("1e9", "more than any motor bench has")):
        type_into(qtbot, page.supply, text)
        assert words in window.notices.text
        assert page.port.surroundings.supply == pytest.approx(48.0)
    type_into(qtbot, page.number("load"), "0.1")
    page.port.exchange(None, 0.3)
    assert page.port.speed == 0.0  # off, and a brake
    page._fields["load_kind"].moved.emit("drives")
    page.port.exchange(None, 0.3)
    assert page.port.speed < -10.0


@pytest.mark.thorough
def test_amperes_typed_as_rms_are_brought_to_the_fields_base(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("plate", "Motor")
    number = window.page.number("rated_current")  # type: ignore[attr-defined]
    type_into(qtbot, number, "5 A rms")
    assert window.document.bench.settings.plate.rated_current == pytest.approx(5 * math.sqrt(2))
    window.document.set_field("plate", "current_base", "rms")
    type_into(qtbot, number, "5 A rms")
    assert window.document.bench.settings.plate.rated_current == pytest.approx(5.0)
    # a bare number is in the unit that stands at the field, whatever prefix was shown before
    window.travel("run")
    page = window.page
    assert isinstance(page, RunPage)
    type_into(qtbot, page.number("load"), "50m")
    assert page.number("load").edit.text() == "50 m"
    type_into(qtbot, page.number("load"), "0.1")
    assert window.document.bench.settings.run.load == pytest.approx(0.1)
    assert page.number("load").suffix.text() == "N·m"
