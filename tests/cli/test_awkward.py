"""Every command that reads a capture, on two dozen ways in which a file can be awkward: a result, or one plain sentence."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from pathlib import Path

import pytest

from crisp_compass.cli.main import run

DEMO = Path(__file__).resolve().parents[2] / "demo"
COMMANDS: dict[str, tuple[str, list[str]]] = {
    "saliency": ("winch/winch-lcr.csv", ["identify", "saliency"]),
    "mechanics": ("winch/winch-run-up.csv", ["identify", "mechanics", "--kt", "0.1767"]),
    "saturation": ("winch/winch-step-d.csv", ["identify", "saturation"]),
    "inductance": ("winch/winch-step-d.csv", ["identify", "inductance"]),
    "flux": ("winch/winch-coast.csv", ["identify", "flux"]),
    "resistance": ("thruster/thruster-staircase.csv", ["identify", "resistance"]),
    "status": ("thruster/thruster-hand-turn.csv", ["commutation", "status"]),
    "halls": ("thruster/thruster-hand-turn.csv", ["commutation", "halls"]),
    "encoder": ("winch/winch-encoder.csv", ["commutation", "encoder"]),
    "align": ("winch/winch-align.csv", ["commutation", "align"]),
    "poles": ("winch/winch-pulses.csv", ["commutation", "poles"]),
}
Body = list[list[str]]


def _cells(change: Callable[[int, list[str]], list[str]]) -> Callable[[list[str], Body], str]:
    return lambda head, body: _text(head, [change(k, row) for k, row in enumerate(body)])


def _text(head: list[str], body: Body, delimiter: str = ",") -> str:
    return "\n".join([*head, *(delimiter.join(row) for row in body)]) + "\n"


def _noise(low: float, high: float, whole: bool = False) -> Callable[[list[str], Body], str]:
    def make(head: list[str], body: Body) -> str:
        rng = random.Random(1)
        value = (lambda: str(rng.randint(0, 1))) if whole else (lambda: f"{rng.uniform(low, high):.4f}")
        return _text(head, [[row[0], *(value() for _ in row[1:])] for row in body])

    return make


#: Ways that leave enough for some commands: those that must answer; all others must refuse.
SOME: tuple[int, ...] = ()
_EVERY = set(COMMANDS) - {"saturation"}  # the demo's step of one height has no curve in it
ANSWERED: dict[str, set[str]] = {
    "ten rows": {"saliency", "align"},
    "negative": {"mechanics", "inductance", "flux", "resistance", "align"},
    "a thousand million times too large": set(),  # no channel of a bench can hold it
    "first half": _EVERY - {"poles"},
    "second half": _EVERY - {"mechanics", "poles"},
    "a remark inside": _EVERY,
    "semicolons and decimal commas": _EVERY,
}

#: name → (how the file is spoilt, which exit codes are right)
WAYS: dict[str, tuple[Callable[[list[str], Body], str], tuple[int, ...]]] = {
    "empty": (lambda head, body: "", (2,)),
    "header only": (lambda head, body: _text(head, []), (2,)),
    "one row": (lambda head, body: _text(head, body[:1]), (2,)),
    "three rows": (lambda head, body: _text(head, body[:3]), (2,)),
    "ten rows": (lambda head, body: _text(head, body[:10]), SOME),
    "a cell of text": (_cells(lambda k, row: ["abc", *row[1:]] if k == 7 else row), (2,)),
    "an empty cell": (_cells(lambda k, row: [*row[:-1], ""] if k == 7 else row), (2,)),
    "nan": (_cells(lambda k, row: [*row[:-1], "nan"] if k == 5 else row), (2,)),
    "infinity": (_cells(lambda k, row: [*row[:-1], "inf"] if k == 5 else row), (2,)),
    "a short row": (_cells(lambda k, row: row[:-1] if k == 6 else row), (2,)),
    "a long row": (_cells(lambda k, row: [*row, "1"] if k == 6 else row), (2,)),
    "all zeros": (_cells(lambda k, row: [row[0], *("0" for _ in row[1:])]), (2,)),
    "noise": (_noise(-1.0, 1.0), (2,)),
    "zeros and ones": (_noise(0, 1, whole=True), (2,)),
    "negative": (_cells(lambda k, row: [row[0], *(c[1:] if c.startswith("-") else f"-{c}" for c in row[1:])]), SOME),
    "a thousand million times too large": (_cells(lambda k, row: [row[0], *(f"{c}e9" if "e" not in c else c for c in row[1:])]), SOME),
    "first half": (lambda head, body: _text(head, body[: len(body) // 2]), SOME),
    "second half": (lambda head, body: _text(head, body[len(body) // 2 :]), SOME),
    "a remark inside": (lambda head, body: _text(head, body[:9]) + "# a remark\n" + _text([], body[9:]).lstrip(), SOME),
    "semicolons and decimal commas": (
        lambda head, body: _text(
            [*head[:-1], head[-1].replace(",", ";")], [[c.replace(".", ",") for c in row] for row in body], ";"
        ),
        SOME,
    ),
    "binary": (lambda head, body: "\x00\x01\x02" * 900, (2,)),
}  # fmt: skip


@pytest.mark.thorough(each=4)
@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("name", COMMANDS)
def test_awkward(name: str, way: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    source, command = COMMANDS[name]
    lines = (DEMO / source).read_text(encoding="utf-8").splitlines()
    at = next(k for k, line in enumerate(lines) if not line.startswith("#"))
    body = [line.split(",") for line in lines[at + 1 :]]
    if name in (
        "encoder",
        "halls",
        "status",
    ):  # edges must not be thinned out; a third of the turn has enough of them
        stride, body = 1, body[: len(body) // 3]
    else:
        stride = max(1, len(body) // 6000)
    make, codes = WAYS[way]
    if codes is SOME:
        codes = (0,) if name in ANSWERED[way] else (2,)
    if name == "align" and way == "three rows":
        codes = (0,)  # three positions are enough for a zero with a wide bar
    path = tmp_path / "awkward.csv"
    path.write_text(make(lines[: at + 1], body[::stride]), encoding="utf-8")
    before = path.read_bytes()
    code = run([*command[:2], str(path), *command[2:], "--json"])
    out = capsys.readouterr()
    assert code in codes, (out.out[:300], out.err)
    assert "Traceback" not in out.err
    if code == 2:
        assert out.err.count("\n") == 1
        assert out.err.startswith(str(path))
        assert out.err.rstrip().endswith(".")
    else:
        data = json.loads(out.out)
        assert all(f["level"] in ("info", "caution", "stop") for f in data["findings"])
        assert (code == 1) == any(f["level"] == "stop" for f in data["findings"])
    assert path.read_bytes() == before


def test_the_same_answer_in_every_dialect(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Semicolons, decimal commas, CRLF, a byte-order mark, blanks around cells: the number does not change."""
    text = (DEMO / "winch/winch-run-up.csv").read_text(encoding="utf-8")
    lines = text.splitlines()
    at = next(k for k, line in enumerate(lines) if not line.startswith("#"))
    notes, header, rows = lines[:at], lines[at], lines[at + 1 :]
    dialects = {
        "plain": text,
        "semicolons": "\n".join(
            [*notes, header.replace(",", ";"), *(r.replace(",", ";").replace(".", ",") for r in rows)]
        )
        + "\n",
        "tabs": "\n".join([*notes, header.replace(",", "\t"), *(r.replace(",", "\t") for r in rows)]) + "\n",
        "crlf and mark": "\ufeff" + "\r\n".join(lines) + "\r\n",
        "blanks": "\n".join([*notes, header, *(" , ".join(r.split(",")) for r in rows)]) + "\n",
        "no end of line": "\n".join(lines),
        "milliseconds": "\n".join([*notes, header.replace("t [s]", "t [ms]"), *(_milli(r) for r in rows)]) + "\n",
    }
    found = {}
    for name, content in dialects.items():
        path = tmp_path / f"{name.replace(' ', '-')}.csv"
        path.write_bytes(content.encode("utf-8"))
        assert run(["identify", "mechanics", str(path), "--kt", "0.1767", "--json"]) == 0, name
        found[name] = json.loads(capsys.readouterr().out)["estimates"]["inertia"]["value"]
    for name, value in found.items():
        assert value == pytest.approx(found["plain"], rel=1e-6), name


def _milli(row: str) -> str:
    first, rest = row.split(",", 1)
    return f"{float(first) * 1e3:.6f},{rest}"
