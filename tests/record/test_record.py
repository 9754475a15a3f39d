"""What leaves the bench: a header that compiles and holds the settled numbers, a record that stands alone."""

from __future__ import annotations

import csv
import io
import re
import shutil
import subprocess
from pathlib import Path

import pytest

from crisp_compass.bench import Bench, Quantity, load_bench, settle
from crisp_compass.record.export import export_settings
from crisp_compass.record.pdf import write_pdf
from crisp_compass.record.report import write_report
from crisp_compass.voyage.evidence import add_evidence, evaluate


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
    bench = add_evidence(bench, "commutation", found).model_copy(update={"name": "3*/ §\n#error x"})
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
    assert "Rests on resistance 408.0 mΩ" in html
    assert "local codes and qualified people" in html
    moved = write_report(bench, winch.parent.parent, "now")
    assert "no such file" in moved


def test_record_says_when_a_capture_has_changed(winch: Path, tmp_path: Path) -> None:
    for file in winch.parent.iterdir():
        shutil.copy(file, tmp_path)
    path = tmp_path / "winch-staircase.csv"
    path.write_text(path.read_text().replace("-1.9,", "-1.8,"))
    assert "The capture has changed since it was read" in write_report(load_bench(winch), tmp_path, "now")


def test_pdf_record_has_a_page_for_every_capture(winch: Path) -> None:
    content = write_pdf(load_bench(winch), winch.parent, "2026-05-12 15:00")
    assert content.startswith(b"%PDF-")
    assert len(re.findall(rb"/Type\s*/Page\b", content)) >= 6  # values, four captures, ledger


def test_settings_without_uncertainty_need_none() -> None:
    bench = settle(Bench(), "resistance", {"resistance": Quantity(value=1e-9, unit="Ω")}, reason="x", when="2026")
    assert "#define CC_RESISTANCE_OHM (1e-09f)" in export_settings(bench, "c-header")
