"""Circuit, without a sensor: the page plays the run, says from which speed and why, and judges the ways to run the motor; Run on it."""

from __future__ import annotations

from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from crisp_compass.app.waypoints.circuit.observed import ObservedPage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.widgets.parts import Text
from crisp_compass.app.window import Window
from hands import copy_bench, type_into


@pytest.mark.thorough
def test_without_a_sensor(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.open(copy_bench(Path("demo/hoist/hoist.bench.json"), tmp_path))
    window.document.set_field("sensor", "kind", "none")
    window.travel("circuit", "Without a sensor")
    page = window.page
    assert isinstance(page, ObservedPage)
    qtbot.waitUntil(lambda: page.answer.text == "From 251 rpm", timeout=120000)
    assert "stator's resistance" in page.answer._reason.text()
    assert page.ways.texts["no sensor"] == "–"
    type_into(qtbot, page.number("lowest_needed"), "30")
    type_into(qtbot, page.number("hand_over"), "300")
    window.document.set_field("run", "load", 4.0)
    qtbot.waitUntil(lambda: page.answer.text == "From 300 rpm" and page.ways.texts["no sensor"] == "does not", timeout=60000)
    assert "an encoder, or a larger forced current" in " ".join(t.text() for t in page.findings.findChildren(Text))
    type_into(qtbot, page.number("run.speed"), "100")
    window.travel("run", "Drive")
    run = window.page
    assert isinstance(run, RunPage)
    assert "no flux tells the angle" in " ".join(t.text() for t in run.findings.findChildren(Text))
    window.document.set_field("run", "load", 0.0)
    run.start()
    run.advance(1.5)
    assert abs(run.port.speed * 9.549 - 100) < 8  # type: ignore[union-attr]
    run.stop()
