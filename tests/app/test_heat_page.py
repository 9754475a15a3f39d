"""Run, heat: a capture's constants taken, the overload trip taken, and a simulated run that tells how warm it is."""

from __future__ import annotations

from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.waypoints.run.heat import HeatPage
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.app.window import Window
from crisp_compass.capture.writer import write_capture
from hands import copy_bench, drop, type_into
from makers import warmed


@pytest.mark.thorough
def test_the_page_says_how_hot_and_takes_constants_and_trip(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("run", "Heat")
    page = window.page
    assert isinstance(page, HeatPage)
    assert page.answer.text == "Not known yet"
    capture, truth = warmed(3)
    path = tmp_path / "warm.csv"
    write_capture(path, capture.time, dict(capture.columns), capture.notes)
    drop(window, path)
    qtbot.waitUntil(lambda: page.take_heat.isVisibleTo(page), timeout=60000)
    page.take_heat.click()
    assert window.document.bench.settings.heat.to_air == pytest.approx(truth[1], rel=0.08)
    window.document.set_field("heat", "insulation", "F")
    qtbot.waitUntil(lambda: "allowed in the mean" in page.answer._doubt.text(), timeout=20000)
    assert not page.number("heat.period").isVisibleTo(page)
    window.document.set_field("run", "i_limit", 60.0)
    window.document.set_field("run", "i_trip", 90.0)
    texts = {k: v for box in page.pictures.findChildren(Rows) for k, v in box.texts.items()}
    assert "overload trip for it" in texts
    page.take_guard.click()
    assert window.document.bench.settings.run.i_continuous is not None
    type_into(qtbot, page.number("heat.current"), "900 mA")
    assert "900 mA peak" in page.answer._reason.text()
    window.document.set_field("limits", "because", "only in a test")
    window.travel("run", "Drive")
    run = window.page
    assert isinstance(run, RunPage)
    run.start()
    for _ in range(6):  # figures are written anew every few frames
        run.advance(0.05)
    assert "winding 4" in run.figures.text()
    run.stop()
