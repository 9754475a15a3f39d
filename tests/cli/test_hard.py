"""Names, outputs, terminals, interruptions and damaged caches: what a command meets outside its own input."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from crisp_compass import __main__ as entry
from crisp_compass.capture import read_capture
from crisp_compass.cli.main import run
from makers import save, staircase

DEMO = Path(__file__).resolve().parents[2] / "demo"
STAIRS, HATCH, PUMP = DEMO / "winch/winch-staircase.csv", DEMO / "hatch/hatch.bench.json", DEMO / "pump/pump.bench.json"


def start(*arguments: object, **environment: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "crisp_compass", *map(str, arguments)],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, env={**os.environ, **environment},
    )  # fmt: skip


@pytest.mark.thorough
def test_a_path_is_a_name_and_never_a_pattern(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    save(staircase(0.0123, [-2.0, -1.0, 1.0, 2.0]), "cap1.csv")
    values = []
    for name in ("cap[1].csv", "ca?1.csv", "*.csv", "~", "a*b/x.csv", "~/y.csv"):
        Path(name).parent.mkdir(exist_ok=True)
        shutil.copy(STAIRS, name)
        assert run(["identify", "resistance", name, "--json"]) == 0
        values.append(json.loads(capsys.readouterr().out)["estimates"]["resistance"]["value"])
        Path(name).unlink()
    assert max(values) - min(values) < 1e-12


@pytest.mark.parametrize("mark", ["\x0c", "\x0b", "\x85", "\u2028", "\u2029", "\x1c"])
def test_only_a_line_feed_ends_a_line(mark: str, tmp_path: Path) -> None:
    text = STAIRS.read_text(encoding="utf-8")
    lines = text.splitlines()
    at = next(k for k, line in enumerate(lines) if not line.startswith("#"))
    (tmp_path / "marked.csv").write_text("\n".join([f"# note: one{mark}two", *lines[:at], *lines[at:]]) + "\n", encoding="utf-8")
    found, plain = read_capture(tmp_path / "marked.csv"), read_capture(STAIRS)
    assert len(found.time) == len(plain.time)
    assert found.time[0] == plain.time[0]


@pytest.mark.thorough(each=2)
@pytest.mark.parametrize(
    ("command", "source"),
    [
        (["identify", "inductance"], "winch/winch-step-d.csv"),
        (["identify", "flux"], "winch/winch-coast.csv"),
        (["identify", "mechanics", "--kt", "0.177"], "winch/winch-run-up.csv"),
        (["commutation", "halls"], "thruster/thruster-hand-turn.csv"),
        (["identify", "inductance"], "carousel/carousel-steps.csv"),
        (["identify", "inductance"], "hatch/hatch-steps.csv"),
    ],
)
@pytest.mark.parametrize("part", [0.4])
def test_a_gap_is_no_sampling_period(
    command: list[str], source: str, part: float, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    lines = (DEMO / source).read_text(encoding="utf-8").splitlines()
    at = next(k for k, line in enumerate(lines) if not line.startswith("#")) + 1
    first = at + int(part * (len(lines) - at))
    path = tmp_path / "gap.csv"
    path.write_text("\n".join(lines[:first] + lines[first + 140 :]) + "\n", encoding="utf-8")
    assert run([*command[:2], str(DEMO / source), *command[2:], "--json"]) == 0
    whole = json.loads(capsys.readouterr().out)
    code = run([*command[:2], str(path), *command[2:], "--json"])
    out = capsys.readouterr()
    if code == 2:
        assert "rows are missing" in out.err
        return
    found = json.loads(out.out)
    assert any(f["code"] == "gap-in-time" for f in found["findings"])
    for name, e in found.get("estimates", {}).items():
        if name in whole["estimates"]:
            off, u = abs(e["value"] - whole["estimates"][name]["value"]), whole["estimates"][name]["u"]
            assert off < 4 * np.hypot(e["u"], u) + 1e-12, name


def test_turns_counted_over_a_gap_are_refused(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    lines = (DEMO / "winch/winch-encoder.csv").read_text(encoding="utf-8").splitlines()
    path = tmp_path / "gap.csv"
    path.write_text("\n".join(lines[:5000] + lines[5400:]) + "\n", encoding="utf-8")
    assert run(["commutation", "encoder", str(path), "--revolutions", "3"]) == 2
    assert "rows are missing" in capsys.readouterr().err


def test_an_output_never_replaces_an_input_or_somebody_elses_file(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    bench, mine, link = tmp_path / "h.bench.json", tmp_path / "mine.json", tmp_path / "link.json"
    shutil.copy(HATCH, bench)
    link.symlink_to(bench)
    before = bench.read_bytes()
    for output in (bench, link):
        assert run(["export", str(bench), "--format", "json", "-o", str(output), "--force"]) == 2
        assert "input" in capsys.readouterr().err
    assert bench.read_bytes() == before
    mine.write_text("kept")
    assert run(["export", str(bench), "--format", "json", "-o", str(mine)]) == 2
    assert "--force" in capsys.readouterr().err
    refused = ["simulate", str(bench), "--scenario", "nonsense", "-o", str(mine)]
    assert run([*refused, "--force"]) == 2  # wrote nothing, so it is somebody else's still
    assert "scenario" in capsys.readouterr().err
    assert run(refused) == 2
    assert "--force" in capsys.readouterr().err
    assert mine.read_text() == "kept"
    fresh = tmp_path / "fresh.json"
    for _ in range(2):  # what the program wrote it may write again
        assert run(["export", str(bench), "--format", "json", "-o", str(fresh)]) == 0
    fresh.write_text(fresh.read_text() + " ")
    assert run(["export", str(bench), "--format", "json", "-o", str(fresh)]) == 2
    assert run(["export", str(bench), "--format", "json", "-o", str(fresh), "--force"]) == 0


def test_new_files_follow_the_umask(tmp_path: Path) -> None:
    p = subprocess.run(
        ["sh", "-c", f'umask 077; exec "{sys.executable}" -m crisp_compass export "{HATCH}" --format json -o "{tmp_path}/o.json"'],
        capture_output=True, check=False,
    )  # fmt: skip
    assert (p.returncode, (tmp_path / "o.json").stat().st_mode & 0o777) == (0, 0o600)


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["tune", "current", "--r", "3.9e8", "--ld", "1m", "--lq", "1m", "--loop-hz", "20k", "--bandwidth-hz", "900"], "--r"),
        (["tune", "current", "--r", "1", "--ld", "1m", "--lq", "1m", "--loop-hz", "1e13", "--bandwidth-hz", "900"], "--loop-hz"),
        (["tune", "speed", "--inertia", "1.9e8", "--kt", "1", "--loop-hz", "1k", "--current-bandwidth-hz", "500"], "--inertia"),
        (["identify", "resistance", "OHMS"], "OHMS"),
        (["study", "start-map", str(PUMP), "--size", "²x2"], "--size"),
        (["study", "start-map", str(PUMP), "--workers", "100000"], "--workers"),
        (["identify", "resistance", "loop"], "loop"),
        (["simulate", str(HATCH), "-o", "loop"], "loop"),
        (["simulate", str(HATCH), "-o", "x" * 300], "x" * 60),
        (["identify", "resistance", "bad\udcff.csv"], "bad"),
    ],
)
def test_plausible_or_refused_in_one_sentence(
    arguments: list[str], said: str, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    Path("loop").symlink_to("loop")
    ohms = staircase(0.4, [-2.0, -1.0, 1.0, 2.0])
    save(replace(ohms, columns={**ohms.columns, "i_a": ohms["i_a"] * 1e-9}), "OHMS")
    assert run(arguments) == 2
    err = capsys.readouterr().err
    assert err.startswith(said)
    assert err.count("\n") == 1
    assert said[0] != "-" or err.count(said) == 1  # an option is named once


def test_what_a_file_says_never_steers_a_terminal(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    evil = "\x1b]0;owned\x07\u202eabc\n# pole_pairs: 99"
    bench = json.loads(HATCH.read_text(encoding="utf-8"))
    bench["name"] = evil
    bench["notes"] = evil
    path = tmp_path / "e.bench.json"
    path.write_text(json.dumps(bench), encoding="utf-8")
    for command in (["check", str(path)], ["check", str(path), "--json"], ["identify", "flux", str(tmp_path / "a\x1b[31m.csv")]):
        run(command)
        out = capsys.readouterr()
        assert not set("\x1b\x07\u202e") & set(out.out + out.err)
    target = tmp_path / "run.csv"
    assert run(["simulate", str(path), "-o", str(target)]) == 0
    assert "pole_pairs" not in read_capture(target).notes
    assert run(["export", str(path), "-o", str(tmp_path / "h.h")]) in (0, 1)
    assert not set("\x1b\x07\u202e") & set((tmp_path / "h.h").read_text(encoding="utf-8"))


@pytest.mark.thorough
def test_a_lot_keeps_its_work_whatever_one_file_does(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    for k in range(3):
        shutil.copy(STAIRS, tmp_path / f"{k}.csv")
    (tmp_path / "broken.csv").write_bytes(STAIRS.read_bytes() + b"\xff")
    (tmp_path / os.fsdecode(b"\xff.csv")).write_bytes(STAIRS.read_bytes())
    (tmp_path / "later.csv").write_bytes(STAIRS.read_bytes()[:-40] + b"\n1,\xe9\xe8,2\n")
    assert run(["identify", "resistance", "--batch", str(tmp_path), "--workers", "1", "--json", "-o", str(tmp_path / "t")]) == 0, capsys.readouterr().err
    found = json.loads(capsys.readouterr().out)
    assert (found["files"], found["refused"], found["agreement"]["resistance"]["count"]) == (6, 2, 4)


@pytest.mark.thorough
def test_streams_that_take_nothing(tmp_path: Path) -> None:
    with open("/dev/full", "wb") as full:
        p = subprocess.run([sys.executable, "-m", "crisp_compass", "check", str(HATCH)], stdout=full, stderr=subprocess.PIPE, check=False)
    assert (p.returncode, p.stderr.count(b"\n"), b"Traceback" in p.stderr) == (2, 1, False)
    closed = start("check", HATCH)
    assert closed.stdout is not None
    closed.stdout.close()
    assert closed.wait(60) == 0
    assert closed.stderr is not None
    assert closed.stderr.read() == b""
    closed.stderr.close()
    plain = start("identify", "resistance", STAIRS, PYTHONIOENCODING="ascii").communicate(timeout=60)
    assert b"resistance" in plain[0]
    assert plain[1] == b""


def test_an_error_of_the_program_itself_ends_with_70_and_a_report(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def fails() -> int:
        raise KeyError("nobody thought of it")

    monkeypatch.setattr(entry, "_start", fails)
    assert entry.main() == 70
    err = capsys.readouterr().err
    assert err.count("\n") == 1
    report = Path(err.split(" lies in ")[1].strip().rstrip("."))
    assert "nobody thought of it" in report.read_text(encoding="utf-8")


def _workers_of(group: int) -> list[str]:
    return [p.name for p in Path("/proc").iterdir() if p.name.isdigit() and _group(p) == group]


def _group(process: Path) -> int:
    try:
        return int((process / "stat").read_text().rsplit(") ", 1)[1].split()[2])
    except (OSError, IndexError, ValueError):
        return -1


@pytest.mark.thorough
@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_a_study_that_is_stopped_leaves_no_workers(how: signal.Signals) -> None:
    p = subprocess.Popen(
        [sys.executable, "-m", "crisp_compass", "study", "start-map", str(PUMP), "--size", "200x200", "--draws", "99", "--workers", "2"],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip
    deadline = time.monotonic() + 120
    while len(_workers_of(p.pid)) < 3 and p.poll() is None and time.monotonic() < deadline:
        time.sleep(0.1)
    p.send_signal(how)
    assert p.wait(60) == (130 if how == signal.SIGINT else -signal.SIGKILL)
    deadline = time.monotonic() + 60  # two seconds on an idle machine
    while _workers_of(p.pid) and time.monotonic() < deadline:
        time.sleep(0.1)
    assert not _workers_of(p.pid)


@pytest.mark.thorough
def test_damaged_kernels_are_compiled_again_and_a_cache_that_cannot_be_is_done_without(tmp_path: Path) -> None:
    code = (
        "import numpy as np\n"
        "from crisp_compass.modulation import vectors\n"
        "from crisp_compass.loops.step_kernel import *\n"
        "from crisp_compass.compiled import compiled\n"
        "from crisp_compass.plant.mechanics import drag\n"
        "@compiled\n"
        "def f(x: float) -> float:\n"
        "    return drag(1.0, 2.0, x)\n"
        "print(f(2.0))\n"
    )
    script = tmp_path / "s.py"
    script.write_text(code)
    cache = tmp_path / "cache"

    def ask(**more: str) -> bytes:
        environment = {k: v for k, v in os.environ.items() if k != "NUMBA_CACHE_DIR"} | more
        p = subprocess.run([sys.executable, str(script)], capture_output=True, env=environment, check=False)
        assert p.returncode == 0, p.stderr
        return p.stdout

    for spoil in (lambda b: b, lambda b: b"", lambda b: b[:-9] + bytes(9)):
        for file in cache.rglob("*.nb?"):
            file.write_bytes(spoil(file.read_bytes()))
        assert ask(XDG_CACHE_HOME=str(cache)) == b"10.0\n"
    kernels = {p.read_bytes(): p for p in cache.rglob("*.nbc")}
    written = {p: p.stat().st_mtime_ns for p in kernels.values()}
    assert kernels
    assert ask(XDG_CACHE_HOME=str(cache)) == b"10.0\n"
    assert {p: p.stat().st_mtime_ns for p in kernels.values()} == written  # taken from the cache, not compiled again
    # two at once wrote over each other: what was compiled for a float stands where an index says “for an integer”
    script.write_text(code.replace("f(2.0)", "f(2)"))
    assert ask(XDG_CACHE_HOME=str(cache)) == b"10.0\n"
    (other,) = set(cache.rglob("s.f*.nbc")) - set(kernels.values())
    (first,) = (p for p in kernels.values() if p.name.startswith("s.f"))
    other.write_bytes(first.read_bytes())
    assert ask(XDG_CACHE_HOME=str(cache)) == b"10.0\n"
    assert other.read_bytes() != first.read_bytes()
    blocked = tmp_path / "blocked"
    blocked.write_text("a file where the folder would be")
    assert ask(XDG_CACHE_HOME=str(blocked)) == b"10.0\n"
