"""Commands as scripts call them: keys, units, exit codes, one JSON object on standard output, one line on standard error."""

from __future__ import annotations

import json
import math
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from crisp_compass.capture import read_capture
from crisp_compass.cli.main import run
from makers import save, staircase

Out = tuple[int, str, str]


@pytest.fixture
def call(capsys: pytest.CaptureFixture[str]) -> Any:
    def inner(*arguments: object) -> Out:
        code = run([str(a) for a in arguments])
        out = capsys.readouterr()
        return code, out.out, out.err

    return inner


def _json(out: Out) -> dict[str, Any]:
    assert out[0] == 0, out
    assert out[2] == ""
    assert out[1].count("\n") == 1
    return json.loads(out[1])  # type: ignore[no-any-return]


ESTIMATES = [
    ("identify resistance", "winch/winch-staircase.csv", {"resistance": ("Ω", 0.4127), "voltage_offset": ("V", 0.212)}, []),
    ("identify resistance", "thruster/thruster-staircase.csv", {"resistance": ("Ω", 0.0622)}, []),
    ("identify inductance", "winch/winch-step-q.csv", {"inductance": ("H", 1.214e-3), "resistance": ("Ω", 0.4127)}, []),
    ("identify inductance", "thruster/thruster-step.csv", {"inductance": ("H", 44.1e-6), "resistance": ("Ω", 0.0622)}, []),
    ("identify flux", "winch/winch-coast.csv", {"flux_linkage": ("Wb", 16.83e-3), "pole_pairs": ("", 7), "harmonic_5": ("", 0.013), "harmonic_7": ("", 0.006), "kt": ("N·m/A", 0.17672), "kv_peak": ("rpm/V", 46.8)}, []),
    ("identify flux", "thruster/thruster-coast.csv", {"flux_linkage": ("Wb", 2.137e-3), "pole_pairs": ("", 6)}, ["--pole-pairs", "6"]),
]  # fmt: skip


@pytest.mark.parametrize(("name", "file", "wanted", "options"), ESTIMATES)
def test_identify_gives_the_demo_motors_back(
    call: Any, winch: Path, name: str, file: str, wanted: dict[str, tuple[str, float]], options: list[str]
) -> None:
    data = _json(call(*name.split(), winch.parents[1] / file, "--json", *options))
    assert data["command"] == name
    assert isinstance(data["method"], str)
    assert isinstance(data["findings"], list)
    for key, (unit, truth) in wanted.items():
        estimate = data["estimates"][key]
        assert set(estimate) == {"value", "unit", "u", "interval95"}
        assert estimate["unit"] == unit
        low, high = estimate["interval95"]
        assert low <= estimate["value"] <= high
        assert abs(estimate["value"] - truth) <= 5 * estimate["u"] + 0.003 * truth


def test_temperature_options(call: Any, winch: Path) -> None:
    file = winch.parent / "winch-staircase.csv"
    estimates = _json(
        call("identify", "resistance", file, "--json", "--temperature", 20, "--reference-temperature", 100)
    )["estimates"]
    assert estimates["resistance_at_reference"]["value"] / estimates["resistance"]["value"] == pytest.approx(
        335 / 255
    )
    ieee = _json(
        call(
            "identify",
            "resistance",
            file,
            "--json",
            "--temperature",
            20,
            "--reference-temperature",
            100,
            "--temperature-rule",
            "ieee",
        )
    )["estimates"]
    assert ieee["resistance_at_reference"]["value"] / ieee["resistance"]["value"] == pytest.approx(334.5 / 254.5)
    noted = _json(call("identify", "resistance", file, "--json", "--reference-temperature", 100))["estimates"]
    assert noted["resistance_at_reference"]["value"] / noted["resistance"]["value"] == pytest.approx(335 / 258.5)


def test_foreign_columns_are_mapped(call: Any, tmp_path: Path) -> None:
    capture = staircase(0.5, [1, 2, 3, 4], seed=1)
    rows = [
        f"{t:.6f};{v * 1000:.4f};{-i / 10:.6f}".replace(".", ",")
        for t, v, i in zip(capture.time, capture["v_ab"], capture["i_a"], strict=True)
    ]
    path = tmp_path / "scope.csv"
    path.write_text("\n".join(["Model;XY", "Time;CH1;CH2", "s;mV;V", *rows]))
    data = _json(call("identify", "resistance", path, "--json", "--column", "v_ab=CH1", "--column", "i_a=-CH2*10"))
    assert data["estimates"]["resistance"]["value"] == pytest.approx(0.5, rel=5e-3)


def test_halls(call: Any, thruster: Path) -> None:
    data = _json(call("commutation", "halls", thruster.parent / "thruster-hand-turn.csv", "--json"))
    assert (data["spacing_deg"], data["direction"]) == (60, -1)
    assert set(data["states"]) == {"0", "1", "3", "4", "6", "7"}
    assert data["states"]["4"]["from_deg"] == pytest.approx(17.2, abs=0.5)
    assert data["states"]["4"]["drive"] == "B+A-"
    truth = np.array([17.2, 75.1, 136.4, 196.9, 254.0, 316.6]) - 60 * np.arange(6)
    np.testing.assert_allclose(data["edge_errors_deg"], truth - truth.mean(), atol=0.5)


AXIS = {
    "kp",
    "ki",
    "crossover_hz",
    "phase_margin_deg",
    "gain_margin_db",
    "bandwidth_hz",
    "overshoot_pct",
    "rise_time_s",
    "sensitivity_peak",
}


def test_tune(call: Any) -> None:
    base = ["tune", "current", "--r", 0.4, "--ld", 1e-3, "--lq", 1.2e-3, "--loop-hz", 20000, "--json"]
    data = _json(call(*base, "--bandwidth-hz", 1000, "--vbus", 48))
    assert set(data["axes"]) == {"d", "q"}
    assert set(data["axes"]["q"]) == AXIS
    assert data["axes"]["q"]["kp"] == pytest.approx(2 * math.pi * 1000 * 1.2e-3)
    optimum = _json(call(*base, "--method", "modulus-optimum"))
    assert optimum["axes"]["d"]["kp"] == pytest.approx(1e-3 / (2 * 75e-6))
    speed = _json(
        call(
            "tune",
            "speed",
            "--inertia",
            1e-4,
            "--kt",
            0.2,
            "--viscous",
            0,
            "--loop-hz",
            2000,
            "--current-bandwidth-hz",
            900,
            "--filter-hz",
            300,
            "--method",
            "symmetric-optimum",
            "--a",
            2,
            "--json",
        )
    )
    assert {
        "kp",
        "ki",
        "crossover_hz",
        "phase_margin_deg",
        "gain_margin_db",
        "overshoot_pct",
        "overshoot_filtered_pct",
    } <= set(speed)


def test_an_unstable_loop_ends_with_1_and_still_prints_json(call: Any) -> None:
    code, out, err = call(
        "tune",
        "current",
        "--r",
        0.1,
        "--ld",
        1e-3,
        "--lq",
        1e-3,
        "--loop-hz",
        10000,
        "--bandwidth-hz",
        4000,
        "--json",
    )
    data = json.loads(out)
    assert (code, err) == (1, "")
    assert data["findings"][0]["level"] == "stop"
    assert data["axes"]["q"]["overshoot_pct"] is None


@pytest.mark.parametrize("scenario", ["speed-step", "load-step", "reversal", "current-step"])
def test_simulate_writes_a_capture(call: Any, winch: Path, tmp_path: Path, scenario: str) -> None:
    out = tmp_path / "run.csv"
    _json(call("simulate", winch, "--scenario", scenario, "-o", out, "--json"))
    capture = read_capture(out)
    assert {"speed", "speed_ref", "i_q", "i_q_ref", "v_bus"} <= set(capture.columns)
    if scenario != "current-step":
        assert abs(capture["speed"][-1]) == pytest.approx(120.0, rel=0.02)


def test_check_export_report(call: Any, winch: Path, tmp_path: Path) -> None:
    codes = [f["code"] for f in _json(call("check", winch, "--json"))["findings"]]
    assert {"settled-resistance", "stale-current-loop"} <= set(codes)
    for form in ("c-header", "json", "csv"):
        _json(call("export", winch, "--format", form, "-o", tmp_path / form, "--json"))
    settings = json.loads((tmp_path / "json").read_text())["settings"]
    assert settings["resistance"]["values"]["resistance"]["value"] == pytest.approx(0.4127, rel=2e-3)
    assert settings["current_loop"]["stale"] is True
    _json(call("report", winch, "-o", tmp_path / "r.html", "--json"))
    html = (tmp_path / "r.html").read_text()
    assert html.count("<svg") == 10  # nine captures, and the speed loop as it is settled
    assert "staircase replaces the meter reading" in html


def test_people_get_lines_instead(call: Any, winch: Path) -> None:
    code, out, _ = call("identify", "resistance", winch.parent / "winch-staircase.csv")
    assert code == 0
    assert "412." in out
    assert "mΩ" in out


def _refusals(folder: Path, winch: Path) -> dict[str, list[object]]:
    (folder / "empty.csv").write_text("")
    (folder / "text.csv").write_text("t [s],v_ab [V],i_a [A]\n0,1,2\n1,x,3\n")
    save(staircase(0.5, [1, 2]), folder / "short.csv")
    (folder / "new.bench.json").write_text('{"format": 99}')
    (folder / "bare.bench.json").write_text('{"format": 1}')
    return {
        str(folder / "none.csv"): ["identify", "resistance", folder / "none.csv"],
        str(folder / "empty.csv"): ["identify", "flux", folder / "empty.csv"],
        str(folder / "text.csv") + ": line 3": ["identify", "inductance", folder / "text.csv"],
        str(folder / "short.csv"): ["identify", "resistance", folder / "short.csv"],
        str(folder / "short.csv") + ": the column hall_1": ["commutation", "halls", folder / "short.csv"],
        "--column": ["identify", "resistance", folder / "short.csv", "--column", "nonsense"],
        "--temperature-rule": ["identify", "resistance", folder / "short.csv", "--temperature-rule", "ansi"],
        "--crossover-hz": ["tune", "current", "--r", 1, "--ld", 1e-3, "--lq", 1e-3, "--loop-hz", 1e4],
        "--r": ["tune", "current", "--r", -1, "--ld", 1e-3, "--lq", 1e-3, "--loop-hz", 1e4, "--bandwidth-hz", 100],
        "--inertia": ["tune", "speed", "--inertia", "much", "--kt", 1, "--loop-hz", 1e3, "--current-bandwidth-hz", 100],
        "--a": ["tune", "speed", "--inertia", 1, "--kt", 1, "--loop-hz", 1e3, "--current-bandwidth-hz", 100, "--a", 0.5],
        "--scenario": ["simulate", winch, "--scenario", "moon", "-o", folder / "x.csv"],
        "--format": ["export", winch, "--format", "pdf", "-o", folder / "x"],
        str(folder / "x.doc"): ["report", winch, "-o", folder / "x.doc"],
        str(folder / "new.bench.json"): ["check", folder / "new.bench.json"],
        str(folder / "bare.bench.json"): ["simulate", folder / "bare.bench.json", "-o", folder / "x.csv"],
        str(folder / "bare.bench.json") + ": nothing is settled": ["export", folder / "bare.bench.json", "-o", folder / "x.h"],
        str(folder / "no" / "x.html"): ["report", winch, "-o", folder / "no" / "x.html"],
        "--nonsense": ["check", winch, "--nonsense"],
        "FILE: it is missing": ["identify", "resistance"],
        "No such command": ["identify", "weather", "x.csv"],
    }  # fmt: skip


def test_refusals_are_one_line_beginning_with_what_is_at_fault(call: Any, winch: Path, tmp_path: Path) -> None:
    for beginning, arguments in _refusals(tmp_path, winch).items():
        code, out, err = call(*arguments, "--json") if arguments[-1] != "--nonsense" else call(*arguments)
        assert code == 2, (arguments, err)
        assert out == ""
        assert err.count("\n") == 1
        assert beginning in err[: len(beginning) + 10], (beginning, err)
        assert "Traceback" not in err


def test_the_installed_command_runs_from_anywhere(tmp_path: Path) -> None:
    command = [
        sys.executable,
        "-m",
        "crisp_compass",
        "tune",
        "current",
        "--r",
        "0.4",
        "--ld",
        "1e-3",
        "--lq",
        "1e-3",
        "--loop-hz",
        "2e4",
        "--bandwidth-hz",
        "900",
        "--json",
    ]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=120, check=True)
    assert json.loads(done.stdout)["command"] == "tune current"


def test_core_and_commands_work_where_qt_cannot_be_imported(winch: Path) -> None:
    script = (
        "import sys\n"
        "for name in ('PySide6', 'shiboken6', 'pyqtgraph'): sys.modules[name] = None\n"
        "from crisp_compass.cli.main import run\n"
        f"raise SystemExit(run(['identify', 'resistance', {str(winch.parent / 'winch-staircase.csv')!r}, '--json']) or run(['check', {str(winch)!r}]))\n"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 0, done.stderr
