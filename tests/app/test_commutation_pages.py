"""The sections of Commutation, driven by hand: table read, wires mended, zero taken, pulses read, wrong angle dragged."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from crisp_compass.app.waypoints.commutation.alignment import AlignPage
from crisp_compass.app.waypoints.commutation.direction_check import DirectionCheckPage
from crisp_compass.app.waypoints.commutation.edges import EdgesPage
from crisp_compass.app.waypoints.commutation.encoder import EncoderPage
from crisp_compass.app.waypoints.commutation.hand_turn import CommutationPage
from crisp_compass.app.waypoints.commutation.lead_orders import OrdersPage
from crisp_compass.app.waypoints.commutation.pole_search import PolesPage
from crisp_compass.app.window import Window
from crisp_compass.bench.entered import with_family
from crisp_compass.bench.records import Trial
from crisp_compass.capture import read_capture, write_capture
from crisp_compass.studies.lead_orders import rank_orders
from hands import copy_bench, drop, dropped, press_main, type_into
from makers import turning


def test_turn_the_dial_read_the_table_judge_the_edges(
    window: Window, qtbot: QtBot, thruster: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(thruster, tmp_path))
    window.travel("commutation", "Edges")
    assert "Capture a hand turn first" in window.page.answer.reason
    dropped(qtbot, window, tmp_path / "thruster-hand-turn.csv")
    qtbot.waitUntil(lambda: isinstance(window.page, CommutationPage) and bool(window.page.evidence()), timeout=180000)
    page = window.page
    assert isinstance(page, CommutationPage)
    qtbot.waitUntil(lambda: len(page.pictures.data("rotor")[0]) > 0, timeout=180000)
    assert page.answer.text == "60° halls"
    assert "exchange leads A and B" in page.answer.reason  # the shortest way to mend it
    # arrow keys on the dial: code, pair and table row follow
    seen = set()
    window.dial.setFocus()
    for _ in range(75):
        qtbot.keyClick(window.dial, Qt.Key.Key_Right)
        row = page.table.currentRow()
        code = page.table.item(row, 0)
        assert code is not None
        assert f"code {code.text()}," in page.dial_view.caption
        seen.add(code.text())
    assert len(seen) == 6
    assert page.pictures.data("rotor")[0][0] == pytest.approx(15.0)
    page.table.selectRow(2)
    assert page.dial_view.rotor == pytest.approx(166.7, abs=0.5)
    press_main(qtbot, window)
    assert window.document.bench.settled["commutation"].halls is not None
    window.travel("commutation", "Edges")
    edges = window.page
    assert isinstance(edges, EdgesPage)
    qtbot.waitUntil(lambda: edges.cost is not None, timeout=180000)
    assert edges.cost is not None
    assert edges.cost.ripple[1] < edges.cost.ripple[0]
    assert "Torque ripple" in edges.answer.text
    type_into(qtbot, edges.number("edge_speed"), "90000")
    qtbot.waitUntil(lambda: "cannot be run" in edges.answer.reason, timeout=180000)


def test_align_from_table_to_settled_zero(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.document.edit("bare", window.document.bench.model_copy(update={"evidence": {}}))
    window.travel("commutation", "Alignment")
    page = window.page
    assert isinstance(page, AlignPage)
    qtbot.waitUntil(lambda: page.outlook is not None, timeout=180000)
    assert page.answer.text == "Hold 3.0 A"
    # the table to fill in, filled in by a shaft with 2° of friction and its zero at 100°
    target = tmp_path / "mine.csv"
    page.write_table(target)
    rows = [line for line in target.read_text().splitlines() if not line.startswith("#")]
    field = np.array([float(r.partition(",")[0]) for r in rows[1:]])
    side = np.concatenate([[1.0], np.sign(np.diff(field))])
    shaft = (field - 2.0 * side - 100.0) / 7
    target.write_text("\n".join([rows[0], *(f"{a},{m:.4f}" for a, m in zip(field, shaft, strict=True))]) + "\n")
    drop(window, target)
    qtbot.waitUntil(lambda: page.evidence() is not None, timeout=180000)
    assert page.answer.text == "100.00°"
    assert page.pictures.texts["friction found"] == "2.0° each side"
    qtbot.waitUntil(lambda: len(page.pictures.data("approached from below")[0]) == 16, timeout=180000)
    press_main(qtbot, window)
    settled = window.document.bench.settled["commutation"].values
    assert math.degrees(settled["zero_offset"].value) == pytest.approx(100.0, abs=0.01)
    assert settled["offset_counts"].value == pytest.approx((-100 / 360 * 8192 / 7) % (8192 / 7), abs=0.1)
    # a shaft that did not follow, and one row too few, are refused and lose nothing
    target.write_text("\n".join([rows[0], *(f"{a},{0.1 * k}" for k, a in enumerate(field))]) + "\n")
    drop(window, target)
    qtbot.waitUntil(lambda: "does not follow the field" in window.notices.text, timeout=180000)
    assert page.answer.text == "100.00°"


def test_pulses_tell_the_pole_and_the_outlook_whether_it_can_work(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    dropped(qtbot, window, tmp_path / "winch-pulses.csv")
    qtbot.waitUntil(lambda: isinstance(window.page, PolesPage), timeout=180000)
    page = window.page
    assert isinstance(page, PolesPage)
    qtbot.waitUntil(lambda: page.outlook is not None, timeout=180000)
    assert page.answer.text == "221.7°"
    assert page.pictures.texts["polarity right"] == "100 of 100"
    qtbot.waitUntil(lambda: len(page.pictures.data("pulses")[0]) == 72, timeout=180000)  # drawn one after the other
    type_into(qtbot, page.number("magnet"), "0")
    qtbot.waitUntil(lambda: page.pictures.texts.get("polarity refused") == "100 of 100", timeout=180000)
    # a round rotor is not guessed at
    table = read_capture(tmp_path / "winch-pulses.csv", need_time=False)
    flat = 6 + 0.05 * np.random.default_rng(0).standard_normal(72)
    write_capture(tmp_path / "flat.csv", np.empty(0), {"field_angle": table["field_angle"], "i_peak": flat}, {})
    drop(window, tmp_path / "flat.csv")
    qtbot.waitUntil(lambda: page.answer.text == "Undetermined", timeout=180000)
    assert any("No saliency" in t for t in page.findings.texts)


def test_drag_the_angle_and_judge_the_signs(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("commutation", "Sense and offset")
    page = window.page
    assert isinstance(page, DirectionCheckPage)
    qtbot.waitUntil(lambda: page.run is not None, timeout=180000)
    assert page.answer.text == "It runs"
    window.dial.setFocus()
    for _ in range(12):
        qtbot.keyClick(window.dial, Qt.Key.Key_Right)
    assert window.document.bench.settings.view.wrong_angle == pytest.approx(math.radians(60))
    assert page.rows.texts["torque for the same current"] == "50 %"
    assert page.rows.texts["current for the same torque"] == "2.00 times"
    centre = window.dial._centre().toPoint()
    qtbot.mouseClick(window.dial, Qt.MouseButton.LeftButton, pos=centre + centre.__class__(0, 60) * -1)
    assert window.document.bench.settings.view.wrong_angle == pytest.approx(math.radians(-90), abs=0.02)
    type_into(qtbot, page.number("view.wrong_angle"), "150")
    qtbot.waitUntil(lambda: page.answer.text == "It runs away", timeout=180000)
    assert float(np.min(page.speed.data("wrong")[1])) < -500
    type_into(qtbot, page.number("view.wrong_angle"), "0")
    for seen, measured, text in (
        ("wanted", "wanted", "Agree"), ("wanted", "other", "Disagree"), ("other", "other", "Disagree"), ("other", "wanted", "Both reversed"),
    ):  # fmt: skip
        page._fields["seen"].moved.emit(seen)
        page._fields["measured"].moved.emit(measured)
        assert page.answer.text == text
    page._fields["observed"].moved.emit("other")
    assert "current channels" in page.answer.reason
    page._fields["seen"].moved.emit("wanted")
    page._fields["measured"].moved.emit("other")
    qtbot.waitUntil(lambda: page.run is not None and page.run.outcome == "stands", timeout=180000)


def test_an_absolute_encoder_and_a_motor_without_one(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    """The word is read; an induction motor has no such page, and one that is open is left."""
    window.open(copy_bench(winch, tmp_path))
    t = np.arange(8000) / 4000
    turned = 0.4 + 2 * math.pi * 1.1 * t
    word = np.floor(turned * 4096 / (2 * math.pi)) % 4096
    columns = {**turning(0.02, 7 * turned + 0.5, np.full(8000, 7 * 2 * math.pi * 1.1), t), "position": word}
    write_capture(tmp_path / "word.csv", t, columns, {})
    window.document.set_field("sensor", "counts_per_rev", 4096)
    dropped(qtbot, window, tmp_path / "word.csv")
    qtbot.waitUntil(
        lambda: isinstance(window.page, EncoderPage) and window.page.answer.text == "4096 counts", timeout=30000
    )
    page = window.page
    assert isinstance(page, EncoderPage)
    assert page.pictures.texts["bits of a turn, of turns"] == "12, 0"
    assert float(page.pictures.texts["θe is 0 at word"]) == pytest.approx(
        (-0.5 / (2 * math.pi) * 4096 / 7) % (4096 / 7), abs=1
    )
    window.document.edit("kind of motor", with_family(window.document.bench, "induction"))
    assert window.page.key == "plate"  # the course ends there, and the page that is gone is left
    window.document.undo_stack.undo()
    window.travel("commutation", "Encoder")
    assert window.page.answer.text == "4096 counts"


def test_two_orders_left_are_told_by_current_at_equal_speed(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("commutation", "Lead orders")
    page = window.page
    assert isinstance(page, OrdersPage)
    qtbot.waitUntil(lambda: bool(page.expected), timeout=180000)
    log = {o: Trial(forward="smooth", backward="smooth") for o in ("ABC", "BCA")}
    log |= {o: Trial(forward="still", backward="still") for o in ("ACB", "BAC", "CBA")}
    log["CAB"] = Trial(forward="vibrates", backward="vibrates")
    ranking = rank_orders(log, page.expected)
    assert "run both at the same speed" in ranking.reason
    one, two = sorted(ranking.probability, key=lambda o: -ranking.probability[o])[:2]
    for speeds, wording in (((100.0, 100.0), "draws less at equal speed"), ((100.0, 60.0), "not run at equal speed")):
        told = dict(log)
        for order, amps, speed in ((one, 0.5, speeds[0]), (two, 0.45, speeds[1])):
            told[order] = Trial(
                forward="smooth", backward="smooth", current_forward=amps, current_backward=amps,
                speed_forward=speed, speed_backward=speed,
            )  # fmt: skip
        assert wording in rank_orders(told, page.expected).reason
    assert "To turn it round" in page.outlook._note.text()
