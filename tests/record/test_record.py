"""What leaves the bench: a header that compiles and holds the settled numbers, a record that stands alone."""

from __future__ import annotations

import csv
import io
import json
import math
import pickle
import re
import shutil
import subprocess
import warnings
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import Bench, Quantity, load_bench, settle
from crisp_compass.bench.entered import enter, standing
from crisp_compass.bench.records import CurrentTrial, Trial
from crisp_compass.cli.main import run
from crisp_compass.course.captures import add_evidence, evaluate
from crisp_compass.course.points import with_rows
from crisp_compass.course.speed_design import design_speed
from crisp_compass.errors import Refusal
from crisp_compass.motion.points import Row
from crisp_compass.record import pdf as pdf_record
from crisp_compass.record.formats import FORMS, export_settings
from crisp_compass.record.formats.form import Form, own_settled
from crisp_compass.record.glyphs import BASE, families_for, printable
from crisp_compass.record.pdf import write_pdf
from crisp_compass.record.report import write_report
from crisp_compass.record.save import save_record
from crisp_compass.views.designs import loop_drawn


def compile_header(header: str, folder: Path, body: str = "return 0;") -> subprocess.CompletedProcess[str]:
    """Compile and run a program that uses the header, with all warnings as errors."""
    (folder / "motor.h").write_text(header, encoding="utf-8")
    (folder / "main.c").write_text(f'#include <stdio.h>\n#include "motor.h"\nint main(void) {{ {body} }}\n')
    subprocess.run(
        ["gcc", "-std=c99", "-Wall", "-Wextra", "-Werror", "main.c", "-o", "main"],
        cwd=folder,
        check=True,
        capture_output=True,
        text=True,
    )
    return subprocess.run(["./main"], cwd=folder, check=True, capture_output=True, text=True)


needs_gcc = pytest.mark.skipif(shutil.which("gcc") is None, reason="gcc is not installed")


@needs_gcc
def test_header_compiles_and_carries_the_numbers(winch: Path, tmp_path: Path) -> None:
    bench = load_bench(winch)
    body = 'printf("%.7g %.7g %d\\n", (double)CC_RESISTANCE_OHM, (double)CC_CURRENT_LOOP_KP_Q_V_PER_A, CC_PLATE_POLE_PAIRS); return 0;'
    r, kp, p = compile_header(export_settings(bench, "c-header"), tmp_path, body).stdout.split()
    assert float(r) == pytest.approx(bench.settled["resistance"].values["resistance"].value, rel=1e-6)
    assert float(kp) == pytest.approx(bench.settled["current_loop"].values["kp_q"].value, rel=1e-6)
    assert int(p) == 7


@needs_gcc
def test_hall_tables_compile_and_hostile_texts_stay_comments(thruster: Path, tmp_path: Path) -> None:
    bench = load_bench(thruster)
    found = evaluate(
        bench,
        "commutation",
        thruster.parent / "thruster-hand-turn.csv",
        base=thruster.parent,
        when="2026-05-12T15:00:00",
    ).evidence
    bench = add_evidence(bench, found).model_copy(update={"name": "3*/ §\n#error x"})
    bench = settle(bench, "commutation", {}, reason="ends here */ #error ??/", when="2026", halls=found.halls)
    body = 'static const int pair[8] = CC_HALL_FORWARD_PAIR; static const float c[8] = CC_HALL_CENTER_DEG; printf("%d %d %.1f\\n", pair[4], pair[2], (double)c[4]); return 0;'
    out = compile_header(export_settings(bench, "c-header"), tmp_path, body).stdout
    assert out.split() == ["3", "-1", "46.2"]  # code 4 drives B+A−; code 2 does not occur


def test_csv_has_one_row_a_value(winch: Path) -> None:
    rows = list(csv.DictReader(io.StringIO(export_settings(load_bench(winch), "csv"))))
    row = next(r for r in rows if r["name"] == "flux_linkage")
    assert float(row["low95"]) < float(row["value"]) < float(row["high95"])
    assert {r["stale"] for r in rows if r["topic"] == "current_loop"} == {"yes"}


def test_record_stands_alone_and_escapes_what_people_typed(winch: Path) -> None:
    bench = load_bench(winch).model_copy(update={"notes": "<script>alert(1)</script>"})
    html = write_report(bench, winch.parent, "2026-05-12 15:00")
    assert not re.search(r"(src|href)=\"(http|//)", html)
    assert "<script>" not in html
    assert "Uses an outdated resistance: 408.0 mΩ then" in html
    assert "local codes and qualified people" in html
    assert "880 mΩ  pair, meter" in html  # what was typed, with its figure
    moved = write_report(bench, winch.parent.parent, "now")
    assert "no longer there" in moved


def test_the_record_holds_what_was_tried_and_both_forms_say_the_same(
    winch: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    tried = {"ABC": Trial(forward="smooth", backward="nudge", current_forward=0.42, speed_forward=31.0)}
    gains = (CurrentTrial(kp=7.25, ki=3000.0, current=1.5, overshoot=0.18, when="2026-05-12"),)
    bench = load_bench(winch).model_copy(update={"trials": tried, "current_trials": gains, "evidence": {}})
    html = write_report(bench, winch.parent, "now")
    printed: list[str] = []
    monkeypatch.setattr(
        pdf_record, "_text_pages", lambda _, lines: printed.extend(c[1] for cs, _h in lines for c in cs)
    )
    pdf_record.write_pdf(bench, winch.parent, "now")
    for said in ("needs a nudge", "420 mA", "7.25 V/A", "18 %", "Wiring", "Checks before power", "Interference"):
        assert said in html
        assert said in printed


def test_loops_are_drawn_as_they_are_settled_and_no_other(winch: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    bench = load_bench(winch)  # its resistance was measured anew after the current loop was settled
    drawn: list[str] = []
    monkeypatch.setattr(pdf_record, "_drawn_page", lambda pages, title, drawings: drawn.extend(d.title for d in drawings))
    bare = bench.model_copy(update={"evidence": {}})
    html = write_report(bare, winch.parent, "now")
    pdf_record.write_pdf(bare, winch.parent, "now")
    assert "Current loop is not drawn: the design gives other gains" in html
    assert drawn == ["Speed loop"]
    design = design_speed(standing(bench))
    assert f"{design.margins.phase_margin_deg:.1f}° and {design.margins.gain_margin_db:.1f} dB margin" in html
    assert html.count("<svg") == 1
    kp, _, (step, gain, phase) = loop_drawn(standing(bench), "speed_loop")
    assert kp == pytest.approx(bench.settled["speed_loop"].values["kp"].value)
    assert step.curves[1].y[-1] == pytest.approx(1.0, abs=0.02)
    assert np.interp(phase.curves[1].x[0], phase.curves[0].x, phase.curves[0].y) == pytest.approx(phase.curves[1].y[0], abs=0.5)
    assert np.interp(gain.curves[1].x[0], gain.curves[0].x, gain.curves[0].y) == pytest.approx(0.0, abs=0.2)


@pytest.mark.thorough
def test_record_says_when_a_capture_has_changed(winch: Path, tmp_path: Path) -> None:
    for file in winch.parent.iterdir():
        shutil.copy(file, tmp_path)
    path = tmp_path / "winch-staircase.csv"
    path.write_text(path.read_text().replace("-1.9,", "-1.8,"))
    assert "the capture has changed since it was read" in write_report(load_bench(winch), tmp_path, "now")


@pytest.mark.thorough
def test_pdf_record_has_a_page_for_every_capture(winch: Path) -> None:
    content = write_pdf(load_bench(winch), winch.parent, "2026-05-12 15:00")
    assert content.startswith(b"%PDF-")
    assert len(re.findall(rb"/Type\s*/Page\b", content)) >= 6  # values, four captures, ledger


def test_a_record_is_saved_by_its_suffix_and_refusals_travel_between_processes(winch: Path, tmp_path: Path) -> None:
    with pytest.raises(Refusal) as refused:
        save_record(tmp_path / "r.docx", load_bench(winch), winch.parent, "now")
    again = pickle.loads(pickle.dumps(refused.value))
    assert again.sentence == refused.value.sentence
    assert "end the name in .html or .pdf" in again.remedy


def test_settings_without_uncertainty_need_none() -> None:
    bench = settle(Bench(), "resistance", {"resistance": Quantity(value=1e-9, unit="Ω")}, reason="x", when="2026")
    assert "#define CC_RESISTANCE_OHM (1e-09f)" in export_settings(bench, "c-header")


@needs_gcc
def test_encoder_angle_in_c_is_the_formula(winch: Path, tmp_path: Path) -> None:
    """θe = zero + direction·p·2π·count/N, the macro against the same in Python; its sense is said beside it."""
    bench = load_bench(winch)
    header = export_settings(bench, "c-header")
    assert "fall when the motor turns A-B-C" in header
    body = (
        'printf("%.6f %.6f\\n", (double)CC_COMMUTATION_THETA_E(0), (double)CC_COMMUTATION_THETA_E(1000)); return 0;'
    )
    at_zero, later = map(float, compile_header(header, tmp_path, body).stdout.split())
    values = bench.settled["commutation"].values
    assert at_zero == pytest.approx(values["zero_offset"].value, abs=1e-5)
    assert later - at_zero == pytest.approx(-7 * 2 * 3.14159265 * 1000 / 8192, abs=1e-5)
    # without the plate there are no pole pairs to rest on: the macro is left out, the rest compiles
    alone = bench.model_copy(update={"settled": {"commutation": bench.settled["commutation"]}})
    assert "THETA_E" not in export_settings(alone, "c-header")
    compile_header(export_settings(alone, "c-header"), tmp_path)


@needs_gcc
def test_hall_edges_for_both_directions_in_c(thruster: Path, tmp_path: Path) -> None:
    file = thruster.parent / "thruster-hand-turn.csv"
    bench = load_bench(thruster)
    found = evaluate(bench, "commutation", file, base=thruster.parent, when="2026-05-12T15:00:00").evidence
    bench = settle(bench, "commutation", {}, reason="hand turn", when="2026", halls=found.halls)
    body = (
        "static const float ahead[8] = CC_HALL_EDGE_AHEAD_DEG, back[8] = CC_HALL_EDGE_BACK_DEG, e[6] = CC_HALL_EDGE_ERROR_DEG;"
        "static const int f[8] = CC_HALL_FORWARD_PAIR, r[8] = CC_HALL_REVERSE_PAIR;"
        'for (int k = 0; k < 8; k++) printf("%.3f %.3f %d %d %.3f\\n", (double)ahead[k], (double)back[k], f[k], r[k], (double)e[k % 6]); return 0;'
    )
    rows = [
        line.split()
        for line in compile_header(export_settings(bench, "c-header"), tmp_path, body).stdout.splitlines()
    ]
    assert found.halls is not None
    for code in range(8):
        ahead, back, forward, reverse, _ = rows[code]
        sector = found.halls.states.get(str(code))
        if sector is None:
            assert (ahead, back, forward, reverse) == ("-1.000", "-1.000", "-1", "-1")
            continue
        assert float(ahead) == pytest.approx(sector.from_deg % 360, abs=1e-3)
        assert float(back) == pytest.approx(sector.to_deg % 360, abs=1e-3)
        assert (int(forward) + 3) % 6 == int(reverse)
    written = json.loads(export_settings(bench, "json"))["settings"]["commutation"]["halls"]
    assert "4*hall_1" in written["convention"]
    assert "hall_1_from" in export_settings(bench, "csv")
    assert "Edge errors from the best even grid" in write_report(bench, thruster.parent, "2026")


def test_a_name_in_any_script_is_printed_or_spelled_out(winch: Path) -> None:
    bench = load_bench(winch).model_copy(update={"name": "Łódź ポンプ Ünïcode", "evidence": {}})
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        assert write_pdf(bench, winch.parent, "now").startswith(b"%PDF")
    assert printable("Łódź", [BASE]) == "Łódź"
    families = families_for("ポ")
    assert printable("aポ", families) == ("aポ" if len(families) > 1 else "a⟨U+30DD⟩")


def test_a_format_is_one_module(winch: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Registered from outside, it is written by the command, named in the refusal, and has its button in the window."""
    monkeypatch.setitem(FORMS, "lines", Form("lines", "lines", ".txt", "settings", 9, lambda bench: "\n".join(own_settled(bench))))
    assert run(["export", str(winch), "-o", str(tmp_path / "s.txt"), "--format", "lines"]) == 0
    assert "current_loop" in (tmp_path / "s.txt").read_text()
    with pytest.raises(Refusal, match="no format"):
        export_settings(load_bench(winch), "punched cards")


@needs_gcc
def test_moves_are_handed_over_with_their_table_gear_and_homing(winch: Path, tmp_path: Path) -> None:
    bench = load_bench(winch.parents[1] / "carousel" / "carousel.bench.json")
    rows = [Row(1.5, "to", 20.0, 300.0, 0.25, None, 0.5, (3, 2)), Row(-0.25, "by", follows=0)]
    bench = enter(enter(with_rows(bench, rows), "motion", {"pulse_way": 2 * math.pi / 1000}), "homing", {"reference": "home-switch"})
    told = json.loads(export_settings(bench, "json"))
    assert [p["target"] for p in told["points"]] == [1.5, -0.25]
    assert told["firmware"]["motion.gear_up"]["value"] / told["firmware"]["motion.gear_down"]["value"] == 8.0  # 8000 counts for 1000 pulses a turn
    assert told["firmware"]["homing.contact"]["value"] == 1.0
    body = (
        "typedef struct { float target; int by; float speed, accel, dwell; int next; float torque; unsigned mask; int branch; } row; static const row table[CC_POINT_ROWS] = CC_POINT_TABLE; "
        'printf("%g %d %g %g %u %d %g %d", (double)table[0].target, table[0].next, (double)table[0].speed, (double)table[0].torque, table[0].mask, table[0].branch, (double)table[1].target, table[1].next); return 0;'
    )
    assert compile_header(export_settings(bench, "c-header"), tmp_path, body).stdout.split() == ["1.5", "1", "20", "0.5", "4", "1", "-0.25", "-1"]
    assert "input 3: 2" in write_report(bench, winch.parents[1] / "carousel", "2026-05-12 12:00")
