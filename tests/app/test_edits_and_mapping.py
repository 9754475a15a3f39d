"""What is shown is what stands: edited but not settled, presumed, open points, channels, and files made to harm."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest
from everything import BROKEN
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot
from random_benches import random_bench

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.mapping import MappingDialog
from crisp_compass.app.pages import PAGES
from crisp_compass.app.waypoints.hand_over.files import HandOverPage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.window import Window
from crisp_compass.bench import load_bench
from crisp_compass.bench.store import save_bench
from crisp_compass.capture import Capture, read_capture
from crisp_compass.capture.mapping import propose_channels
from crisp_compass.capture.preview import preview
from crisp_compass.course.course import State, headline, state_of
from crisp_compass.course.drive import build_drive
from crisp_compass.course.open_points import open_points
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.errors import Refusal
from crisp_compass.identify.flux import fit_flux
from crisp_compass.record.report import write_report
from hands import answering, choose, copy_bench, drop, press_main, type_into
from makers import save, staircase


@pytest.mark.thorough
def test_an_edit_waits_until_it_is_settled(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    """Settled at 48 V; then 36 V, 40 kHz and 800 ns are typed: everything goes on with what was settled, and says so."""
    window.open(copy_bench(winch, tmp_path))
    before = build_drive(window.document.bench)
    window.travel("plate", "Drive and supply")
    type_into(qtbot, window.page.number("v_bus"), "36")  # type: ignore[attr-defined]
    window.travel("pwm")
    type_into(qtbot, window.page.number("carrier_hz"), "40k")  # type: ignore[attr-defined]
    type_into(qtbot, window.page.number("dead_time"), "800n")  # type: ignore[attr-defined]
    bench = window.document.bench
    for key, shown in (("plate", "48.0 V  7 pp"), ("pwm", "20.0 kHz")):
        assert state_of(bench, BY_KEY[key]) is State.EDITED
        assert headline(bench, BY_KEY[key]) == shown
    assert "dead time 160.0 ns → 800.0 ns" in window.page.answer.reason
    assert build_drive(bench) == before
    window.travel("run")
    run = window.page
    assert isinstance(run, RunPage)
    assert run.port is not None
    assert run.port.surroundings.supply == 48.0
    window.travel("hand_over")
    page = window.page
    assert isinstance(page, HandOverPage)
    header = page.preview.toPlainText()
    assert "CC_PLATE_V_BUS_V (48.0f)" in header
    assert "CAUTION: Plate is edited, not settled: bus voltage 48.00 V → 36.00 V" in header
    assert "open point" in page.answer._doubt.text()
    assert "Plate is edited, not settled" in write_report(bench, tmp_path, "now")
    assert window.bearing.whole.startswith("Current loop uses an outdated") or "edited" in window.bearing.whole
    window.travel("plate")
    press_main(qtbot, window)
    assert state_of(window.document.bench, BY_KEY["plate"]) is State.SETTLED
    assert build_drive(window.document.bench).inverter.v_supply == 36.0


@pytest.mark.thorough
def test_one_list_of_open_points_everywhere(window: Window, qtbot: QtBot, winch: Path, tmp_path: Path) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.document.edit("no checks", window.document.bench.model_copy(update={"checks": {}}))
    bench = window.document.bench
    texts = [f.text for f in open_points(bench)]
    assert any(t.startswith("11 of 11 checks before power are still open") for t in texts)
    window.travel("hand_over")
    assert window.page.findings.texts == texts  # the same, all of them
    assert f"{len(texts)} open points" in window.page.answer._doubt.text()
    record, header = write_report(bench, tmp_path, "now"), window.page.preview.toPlainText()  # type: ignore[attr-defined]
    for text in texts:
        assert text.split(":")[0] in header
        assert text.split(":")[0] in record


def test_a_reason_is_not_proposed_against_a_finding(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    window.open(copy_bench(winch, tmp_path))
    window.travel("current_loop")
    type_into(qtbot, window.page.number("bandwidth_hz"), "2.9k")  # type: ignore[attr-defined]
    assert window.page.findings.grave  # it rings
    seen: list[str] = []

    def look(dialog: object) -> None:
        seen.append(dialog.edit.text())  # type: ignore[attr-defined]
        dialog.reject()  # type: ignore[attr-defined]

    button = window.page.main_button
    assert button is not None
    if button.isEnabled():
        with answering(look):
            qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
        assert seen == [""]


@pytest.mark.thorough
def test_the_open_page_comes_first_and_channels_are_questioned(
    window: Window, qtbot: QtBot, winch: Path, tmp_path: Path
) -> None:
    """Ten even levels on Resistance are a staircase; a current channel in volts needs its probe's scale, remembered later."""
    save(staircase(0.5, list(np.linspace(0.4, 4.0, 10)), seed=3), tmp_path / "ten.csv")
    window.travel("resistance")
    drop(window, tmp_path / "ten.csv")
    qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert len(window.document.bench.evidence["resistance"]) == 1
    for name, seed in (("one.csv", 4), ("two.csv", 5)):
        made = staircase(0.5, [1, 2, 3, 4], seed=seed)
        rows = zip(made.time, made["v_ab"], made["i_a"] / 10 + 0.02, strict=True)
        lines = ["TIME [s],CH1 [V],CH2 [V]", *(f"{t:.6f},{v:.6f},{i:.7f}" for t, v, i in rows)]
        (tmp_path / name).write_text("\n".join(lines) + "\n")
    problems: list[str] = []

    def answer(dialog: object) -> None:
        assert isinstance(dialog, MappingDialog)
        texts = [x.text() for x in dialog.findChildren(QLabel)]
        assert not any("--" in t or "SOURCE" in t for t in texts)  # fields, not options
        assert dialog._rows["v_ab"].box.currentData() == "CH1"
        assert dialog._rows["v_cmd"].box.currentData() == ""
        assert dialog._rows["i_a"].box.currentData() == "CH2"
        dialog._check()
        problems.append(dialog._error.text())
        dialog.choose("i_a", "CH2", scale="100 mV/A", offset="0.02")
        dialog._check()

    with answering(answer) as asked:
        drop(window, tmp_path / "one.csv")
        qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert problems == ["i_a: the channel is in V, the signal in A; enter the probe's scale, like 10 A/V."]
    with answering(answer) as again:
        drop(window, tmp_path / "two.csv")
        qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert (len(asked), len(again)) == (1, 0)
    assert "channels mapped as t = TIME; v_ab = CH1; i_a = CH2 × 10, zero at 0.02" in window.statusBar().currentMessage()
    window.travel("flux")  # there CH2 would be another voltage: what was said on Resistance is not taken over
    with answering(choose("Cancel")) as elsewhere:
        drop(window, tmp_path / "two.csv")
        qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert len(elsewhere) == 1
    window.travel("resistance")
    page = window.page
    assert isinstance(page, CapturePage)
    assert "i_a = CH2 × 10, zero at 0.02" in page.answer.reason  # at the capture, and in the ledger
    assert "i_a = CH2 × 10" in window.document.bench.ledger[-1].text
    found = [e.estimates["resistance"].value for e in window.document.bench.evidence["resistance"]]

    def mend(dialog: object) -> None:
        assert isinstance(dialog, MappingDialog)
        assert dialog._rows["i_a"].scale.text() == "10"  # as it stands
        assert "V" in dialog._rows["v_ab"].said.text()
        dialog.choose("i_a", "CH2", scale="20 A/V", offset="0.02")
        dialog._check()

    with answering(mend) as opened:
        qtbot.mouseClick(page.map_button, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert len(opened) == 1
    values = [e.estimates["resistance"].value for e in window.document.bench.evidence["resistance"]]
    assert len(values) == len(found)  # it takes the place of the one that was mapped wrongly
    assert values[-1] == pytest.approx(found[-1] / 2, rel=1e-6)
    window.document.undo_stack.undo()
    (tmp_path / "other").mkdir()
    window.document.load(copy_bench(winch, tmp_path / "other"))
    window.travel("resistance")
    with answering(choose("Cancel")) as other:  # another bench knows nothing of it
        drop(window, tmp_path / "two.csv")
        qtbot.waitUntil(lambda: window.intake.idle, timeout=180000)
    assert len(other) == 1
    window.document.undo_stack.setClean()
    assert not window.document.bench.channels


def test_logic_is_no_back_emf(tmp_path: Path) -> None:
    t = np.arange(0, 1.5, 2e-4)
    theta = 60 * t - 15 * t**2 + 40 * t
    halls = [4.9 * (np.cos(theta - 2.1 * k) > 0) + 0.03 * np.sin(999 * t + k) for k in range(3)]
    path = tmp_path / "scope.csv"
    rows = zip(t, *halls, np.sin(theta), strict=True)
    path.write_text("\n".join(["Time [s],CH1 [V],CH2 [V],CH3 [V],CH4 [V]", *(",".join(f"{x:.6f}" for x in r) for r in rows)]))
    looks = {c.name: c.look for c in preview(path)}
    assert looks == {"Time": "rising", "CH1": "logic", "CH2": "logic", "CH3": "logic", "CH4": "wave"}
    names, units = tuple(looks), ("s", "V", "V", "V", "V")
    found = propose_channels(("hall_1", "hall_2", "hall_3", "v_ab", "v_bc"), names, units, looks)
    assert found == {"t": "Time", "hall_1": "CH1", "hall_2": "CH2", "hall_3": "CH3", "v_ab": "CH4"}
    with pytest.raises(Refusal, match="rests on two levels"):
        fit_flux(read_capture(path, ["t=Time", "v_ab=CH1", "v_bc=CH2", "v_ca=CH3"]))
    w = 100 - 30 * t
    lines = {n: w * 0.01 * np.sin(theta - 2 * np.pi / 3 * k) for k, n in enumerate(("v_ab", "v_bc", "v_ca"))}
    lines["v_ca"] = 1.5 * lines["v_ca"]
    assert "lines-do-not-sum" in {f.code for f in fit_flux(Capture("x.csv", t, lines)).findings}


def test_nothing_of_a_bench_becomes_code(winch: Path, tmp_path: Path) -> None:
    from crisp_compass.record.formats import export_settings
    from crisp_compass.safe_text import csv_cell

    evil = "x */ #error gone ??/\n\\ \u202e\u2066 //*/ /* "
    bench = load_bench(winch)
    settled = {t: s.model_copy(update={"reason": evil}) for t, s in bench.settled.items()}
    plate = bench.settings.plate.model_copy(update={"motor": evil})
    bench = bench.model_copy(
        update={"name": evil, "settled": settled, "settings": bench.settings.model_copy(update={"plate": plate})}
    )
    save_bench(bench, tmp_path / "e.bench.json")  # what the models accept
    header = export_settings(load_bench(tmp_path / "e.bench.json"), "c-header")
    assert "\u202e" not in header
    assert "??/" not in header
    if shutil.which("gcc"):
        (tmp_path / "m.h").write_text(header)
        (tmp_path / "m.c").write_text('#include "m.h"\nint main(void) { return CC_PLATE_POLE_PAIRS - 7; }\n')
        flags = ["-Wall", "-Wextra", "-Wcomment", "-Wbidi-chars=any", "-trigraphs", "-Werror"]
        subprocess.run(["gcc", *flags, "m.c", "-o", "m"], cwd=tmp_path, check=True)
    for start in ("=1+1", "+1", "-1", "@x", "\tx"):
        assert csv_cell(start) == f"'{start}"
    rows = export_settings(
        bench.model_copy(
            update={"settled": {t: s.model_copy(update={"reason": "=cmd()"}) for t, s in settled.items()}}
        ),
        "csv",
    )
    assert ",=cmd()" not in rows
    assert ",'=cmd()" in rows


@pytest.mark.thorough
@pytest.mark.parametrize("seed", range(1))
def test_pages_of_any_bench_show_whole_figures(window: Window, qtbot: QtBot, seed: int) -> None:
    """Benches drawn over all that physics allows: no page ends in a traceback, ``nan`` or ``inf``."""
    from PySide6.QtCore import QThreadPool

    window.document._replace(random_bench(np.random.default_rng([11, seed])), None)
    for key, names in PAGES.items():
        for section in names:
            window.travel(key, section)
            QThreadPool.globalInstance().waitForDone(60000)
            qtbot.wait(1)
            for text in (x.text() for x in window.page.findChildren(QLabel)):
                assert not BROKEN.search(text), (key, section, text)
            assert "calculation failed" not in window.notices.text, (key, section, window.notices.text)
            assert "calculation failed" not in window.page.answer.reason
