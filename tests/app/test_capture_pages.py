"""Captures and what they settle, in the window: repeats, foreign files, long plots, encoders and lead orders."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QCoreApplication, Qt, QThreadPool
from pytestqt.qtbot import QtBot

from crisp_compass.app.intake import Arrival
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.waypoints.commutation.encoder import EncoderPage
from crisp_compass.app.waypoints.commutation.lead_orders import OrdersPage
from crisp_compass.app.waypoints.flux.capture import FluxPage
from crisp_compass.app.waypoints.inductance.capture import InductancePage
from crisp_compass.app.waypoints.mechanics.capture import MechanicsPage
from crisp_compass.app.waypoints.resistance.side_by_side import ResistanceAgreement
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.pyramid import Pyramid
from crisp_compass.app.window import Window
from crisp_compass.capture import Capture
from crisp_compass.course.captures import Evaluated, read_again
from hands import copy_bench, drop, dropped, press_main, type_into
from makers import save, staircase, turning


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


def test_a_dropped_capture_is_fitted_once(window: Window, qtbot: QtBot, winch: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    again: list[str] = []

    def recorded(*given: Any) -> Evaluated:
        again.append(given[1].file)
        return read_again(*given)

    monkeypatch.setattr("crisp_compass.app.page.reading.read_again", recorded)
    window.travel("resistance")
    dropped(qtbot, window, winch.parent / "winch-staircase.csv")
    qtbot.waitUntil(lambda: bool(window.document.bench.evidence.get("resistance")), timeout=180000)
    QCoreApplication.processEvents()
    QThreadPool.globalInstance().waitForDone()
    assert again == []
    page = window.page
    assert isinstance(page, CapturePage)
    assert page.pictures.plots  # shown all the same


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
