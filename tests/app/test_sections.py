"""The sections of Plate and of the constants, driven by hand."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtWidgets import QInputDialog, QTableWidgetItem
from pytestqt.qtbot import QtBot

from crisp_compass.app.intake import Arrival
from crisp_compass.app.waypoints.commutation.encoder import EncoderPage
from crisp_compass.app.waypoints.commutation.lead_orders import OrdersPage
from crisp_compass.app.waypoints.flux.capture import FluxPage
from crisp_compass.app.waypoints.inductance.capture import InductancePage
from crisp_compass.app.waypoints.mechanics.capture import MechanicsPage
from crisp_compass.app.waypoints.plate.checks import ChecksPage
from crisp_compass.app.waypoints.plate.interference import InterferencePage
from crisp_compass.app.waypoints.plate.motor import PlatePage
from crisp_compass.app.waypoints.plate.profile import ProfileDialog
from crisp_compass.app.waypoints.plate.sensor_cable import CablePage
from crisp_compass.app.waypoints.plate.supply import SupplyPage
from crisp_compass.app.waypoints.plate.wiring import WiringPage
from crisp_compass.app.waypoints.resistance.meter import MeterPage
from crisp_compass.app.waypoints.resistance.side_by_side import ResistanceAgreement
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.pyramid import Pyramid
from crisp_compass.app.window import Window
from crisp_compass.capture import Capture
from hands import copy_bench, drop, dropped, press_main, type_into
from makers import save, staircase, turning


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
def test_repeats_stand_side_by_side(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    for seed in range(3):
        save(staircase(0.4, [0.5, 1.0, 1.5, 2.0, 2.5], seed=seed, rate=1e3), tmp_path / f"r{seed}.csv")
        drop(window, tmp_path / f"r{seed}.csv")
        qtbot.waitUntil(
            lambda n=seed: len(window.document.bench.evidence.get("resistance", ())) == n + 1,  # type: ignore[misc]
            timeout=180000,
        )
    window.travel("resistance", "Side by side")
    page = window.page
    assert isinstance(page, ResistanceAgreement)
    assert page.answer.text == "They agree"
    assert [b.kind for b in page.forest.bars] == ["capture"] * 3
    press_main(qtbot, window)
    assert window.document.bench.settled["resistance"].values["resistance"].value == pytest.approx(0.4, rel=2e-3)
    for field in ("resistance_before", "resistance_after"):
        type_into(qtbot, page.number(f"auto_tune.{field}"), "1")
    assert "did not run" in " ".join(page.findings.texts)
    window.navigator.turn_section(1)
    assert window.page.section == "Capture"


@pytest.mark.thorough
def test_mechanics_and_angle_table_of_the_demo(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    dropped(qtbot, window, tmp_path / "winch-run-up.csv")
    qtbot.waitUntil(
        lambda: isinstance(window.page, MechanicsPage) and len(window.page.pictures.data("fit")[0]) > 0, timeout=30000
    )
    assert window.page.answer.text == "1.900 kg·cm²"
    press_main(qtbot, window)
    assert window.document.bench.settled["mechanics"].values["inertia"].value == pytest.approx(1.9e-4, rel=1e-3)
    dropped(qtbot, window, tmp_path / "winch-lcr.csv")
    qtbot.waitUntil(
        lambda: isinstance(window.page, InductancePage) and len(window.page.pictures.data("fit")[0]) > 0,
        timeout=180000,
    )
    assert "982 µH" in window.page.answer.text
    assert "1.21 mH" in window.page.answer.text


def test_pole_pairs_from_turns_counted_by_hand(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    t = np.arange(0, 2.0, 1e-3)
    omega = 2 * np.pi * 10 * (1 + 0.2 * np.sin(3 * t))
    theta = np.concatenate([[0], np.cumsum((omega[1:] + omega[:-1]) / 2) * 1e-3])
    save(Capture("h", t, turning(0.02, theta, omega, t)), tmp_path / "hand.csv")
    dropped(qtbot, window, tmp_path / "hand.csv")
    qtbot.waitUntil(lambda: isinstance(window.page, FluxPage) and bool(window.page.evidence()), timeout=180000)
    page = window.page
    assert isinstance(page, FluxPage)
    electrical = theta[-1] / (2 * np.pi)
    type_into(qtbot, page.number("turns"), f"{electrical / 4:.1f}")
    qtbot.waitUntil(lambda: "4 pole pairs seen" in page.answer.reason, timeout=180000)


def test_a_foreign_capture_gives_the_same_value_once_mapped(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    """Semicolons, decimal comma, CH1 with the mapping that the dialog makes (the dialog itself: test_window)."""
    made = staircase(0.4, [0.5, 1.0, 1.5, 2.0, 2.5], rate=1e3)
    rows = [
        f"{t:.6f};{v:.6f};{i:.6f}".replace(".", ",")
        for t, v, i in zip(made.time, made["v_ab"], made["i_a"], strict=True)
    ]
    (tmp_path / "scope.csv").write_text("\n".join(["Zeit;CH1;CH2", "s;V;V", *rows]) + "\n", encoding="utf-8")
    window.travel("resistance")
    window.intake.add(Arrival(tmp_path / "scope.csv", topic="resistance", columns=("v_ab=CH1", "i_a=CH2")))
    qtbot.waitUntil(lambda: bool(window.document.bench.evidence.get("resistance")), timeout=180000)
    assert window.document.bench.evidence["resistance"][0].estimates["resistance"].value == pytest.approx(
        0.4, rel=2e-3
    )


# ---- long channels


def test_a_pyramid_loses_no_spike() -> None:
    n = 300_001
    x, y = np.arange(n) * 1e-6, np.random.default_rng(0).normal(size=n)
    y[[123_456, 300_000]] = 50.0, -60.0
    pyramid = Pyramid(x, y)  # type: ignore[arg-type]
    for left, right in ((0.0, 1.0), (0.1, 0.2), (0.12345, 0.12346)):
        xs, ys = pyramid.view(left, right, 2000)
        inside = (x >= left) & (x <= right)
        assert len(xs) <= 2600
        assert np.all(np.diff(xs) >= 0)
        assert ys.max() == pytest.approx(max(y[inside].max(), ys.max()))
        assert ys.max() >= y[inside].max()
        assert ys.min() <= y[inside].min()


def test_a_long_plot_keeps_all_its_samples(window: Window, tmp_path: Path) -> None:
    plot = Plot(("time", "s"), ("voltage", "V"), name="long")
    plot.curve("v", "deep", dense=True)
    x = np.arange(400_000) * 1e-5
    plot.set("v", x, np.sin(x))
    plot.fit()
    assert len(plot._curves["v"][0].xData) < 10_000
    assert len(plot.data("v")[0]) == 400_000
    plot.plotItem.setXRange(1.0, 1.001, padding=0)
    shown = plot._curves["v"][0].xData
    assert shown[0] <= 1.0
    assert shown[-1] >= 1.001
    assert len(shown) < 110
    plot.clear_data()
    assert len(plot.data("v")[0]) == 0
    plot.close()


# ---- commutation


def test_an_encoder_capture_goes_to_its_section_and_is_settled(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.document.edit("sensor", window.document.bench.model_copy(update={"evidence": {}, "settled": {}}))
    dropped(qtbot, window, tmp_path / "winch-encoder.csv")
    qtbot.waitUntil(lambda: isinstance(window.page, EncoderPage) and bool(window.page.evidence()), timeout=180000)
    page = window.page
    assert isinstance(page, EncoderPage)
    assert page.answer.text == "8192 counts"
    assert page.pictures.texts["counts at ×1, ×2, ×4"] == "2048, 4096, 8192"
    assert "143.3°" in page.dial_view.caption
    press_main(qtbot, window)
    settled = window.document.bench.settled["commutation"]
    assert settled.halls is None
    assert settled.values["direction"].value == -1
    assert np.degrees(settled.values["zero_offset"].value) == pytest.approx(143.265, abs=0.2)
    window.document.set_field("sensor", "counts_per_rev", 2048)
    page.refresh()
    page.load(tmp_path / "winch-encoder.csv")
    qtbot.waitUntil(lambda: any("×2 or ×4" in t for t in page.findings.texts), timeout=180000)


def test_lead_orders_by_trial_in_the_window(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("commutation", "Lead orders")
    page = window.page
    assert isinstance(page, OrdersPage)
    qtbot.waitUntil(lambda: bool(page.expected), timeout=180000)
    assert page.answer.text == "No trial yet"
    for order, seen in (("ABC", "still"), ("ACB", "wrong-way"), ("BAC", "smooth")):
        row = page.rows[order]
        row.forward.moved.emit(seen)
        row.backward.moved.emit(seen)
    assert page.answer.text == "U→B V→A W→C"
    type_into(qtbot, page.rows["BAC"].readings[0], "90m")
    assert window.document.bench.trials["BAC"].current_forward == pytest.approx(0.09)
    type_into(qtbot, page.rows["BAC"].readings[1], "-4")
    assert "is no reading" in window.notices.text
    type_into(qtbot, page.rows["BAC"].readings[2], "600")
    assert window.document.bench.trials["BAC"].speed_forward == pytest.approx(600 * np.pi / 30)
    qtbot.mouseClick(page.clear, Qt.MouseButton.LeftButton)
    assert window.document.bench.trials == {}
    window.document.undo_stack.undo()
    assert window.document.bench.trials["ACB"].forward == "wrong-way"


def test_orders_say_what_is_missing(window: Window, qtbot: QtBot) -> None:
    window.travel("commutation", "Lead orders")
    qtbot.waitUntil(lambda: window.page.answer.text == "Not yet", timeout=180000)
    assert "the resistance is missing" in window.page.answer.reason


@pytest.mark.thorough
def test_only_the_sections_of_this_sensor_are_offered(window: Window, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("commutation")
    assert window.page.section == "Encoder"
    assert window.page.tabs["Hand turn"].isHidden()
    for name in ("Alignment", "Pole search", "Sense and offset", "Lead orders", "Encoder"):
        window.navigator.turn_section(1)
        assert window.page.section == name
    window.document.edit("halls", window.document.bench.model_copy(update={"evidence": {}}))
    window.document.set_field("sensor", "kind", "halls")
    window.travel("commutation")
    assert window.page.section == "Hand turn"
    assert window.page.tabs["Encoder"].isHidden()
    assert window.page.tabs["Pole search"].isHidden()
    assert not window.page.tabs["Lead orders"].isHidden()


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
