"""The capture reader: every dialect of the contract is read to the same arrays, every refusal names its place."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crisp_compass.capture import read_capture, write_capture
from crisp_compass.errors import Refusal

PLAIN = "t [s],v_ab [V],i_a [A]\n0,1.5,2\n0.001,2.5,3\n0.002,3.5,-4\n"
DIALECTS: dict[str, tuple[bytes, tuple[str, ...]]] = {
    "plain": (PLAIN.encode(), ()),
    "notes": (b"# temperature_c: 24\n# circuit: a-b\n" + PLAIN.encode(), ()),
    "semicolon, decimal comma": (b"t [s];v_ab [V];i_a [A]\n0;1,5;2\n0,001;2,5;3\n0,002;3,5;-4\n", ()),
    "tab": (PLAIN.replace(",", "\t").encode(), ()),
    "byte-order mark, CRLF": (b"\xef\xbb\xbf" + PLAIN.replace("\n", "\r\n").encode(), ()),
    "UTF-16": (PLAIN.encode("utf-16"), ()),
    "Latin micro sign": (b"t [\xb5s],v_ab [mV],i_a [A]\n0,1500,2\n1000,2500,3\n2000,3500,-4\n", ()),
    "prefixed units": (b"t [ms],v_ab [kV],i_a [mA]\n0,0.0015,2000\n1,0.0025,3000\n2,0.0035,-4000\n", ()),
    "preamble": (
        b"Recorder;model 7\nDate;2026-05-12\n\nt [s];v_ab [V];i_a [A]\n0;1.5;2\n0.001;2.5;3\n0.002;3.5;-4\n",
        (),
    ),
    "units row": (b"t,v_ab,i_a\nms,V,A\n0,1.5,2\n1,2.5,3\n2,3.5,-4\n", ()),
    "bracketed units row": (b"t,v_ab,i_a\n(ms),(V),(A)\n0,1.5,2\n1,2.5,3\n2,3.5,-4\n", ()),
    "channels mapped": (
        b"Time;CH1;CH2\ns;V;mV\n0;1,5;-200\n0,001;2,5;-300\n0,002;3,5;400\n",
        ("v_ab=CH1", "i_a=-CH2*10"),
    ),
    "blanks around cells": (b"t [s], v_ab [V] , i_a [A]\n 0 , 1.5 ,2\n0.001, 2.5, 3 \n0.002,3.5 , -4\n", ()),
    "blank lines": (b"t [s],v_ab [V],i_a [A]\n0,1.5,2\n\n0.001,2.5,3\n0.002,3.5,-4\n\n", ()),
    "extra text column": (b"t [s],v_ab [V],i_a [A],state\n0,1.5,2,ok\n0.001,2.5,3,ok\n0.002,3.5,-4,off\n", ()),
    "trailing delimiter": (b"t [s],v_ab [V],i_a [A],\n0,1.5,2,\n0.001,2.5,3,\n0.002,3.5,-4,\n", ()),
    "quoted decimal comma": (
        b'"t [s]","v_ab [V]","i_a [A]"\n"0","1,5","2"\n"0,001","2,5","3"\n"0,002","3,5","-4"\n',
        (),
    ),
}


@pytest.mark.parametrize("name", DIALECTS)
def test_every_dialect_reads_the_same(name: str, tmp_path: Path) -> None:
    content, columns = DIALECTS[name]
    path = tmp_path / "c.csv"
    path.write_bytes(content)
    capture = read_capture(path, columns)
    np.testing.assert_allclose(capture.time, [0, 1e-3, 2e-3], atol=1e-15)
    np.testing.assert_allclose(capture["v_ab"], [1.5, 2.5, 3.5])
    np.testing.assert_allclose(capture["i_a"], [2, 3, -4])
    if name == "notes":
        assert capture.notes == {"temperature_c": "24", "circuit": "a-b"}
        assert capture.note_number("temperature_c") == 24.0


HEAD = "t [s],v_ab [V],i_a [A]\n"
REFUSALS: dict[str, tuple[bytes, str]] = {
    "empty": (b"", "the file is empty"),
    "header only": (HEAD.encode(), "header row but no row of numbers"),
    "binary": (bytes(range(256)) * 8, "binary file"),
    "unknown encoding": ("t [s],v_ab [V]\n0,1 日\n".encode("shift-jis"), "not UTF-8"),
    "short row": ((HEAD + "0,1,2\n1,2\n2,3,4\n").encode(), "line 3 has 2 cells where the header has 3"),
    "long row": ((HEAD + "0,1,2\n1,2,3,4\n").encode(), "line 3 has 4 cells"),
    "cut off": ((HEAD + "0,1,2\n1,2,3\n2,3").encode(), "line 4 has 2 cells"),
    "short row in extra columns": (b"t [s],v_ab [V],x\n0,1,2\n1,2\n", "line 3 has 2 cells"),
    "word": ((HEAD + "0,1,2\n1,over,3\n").encode(), "line 3, column v_ab: “over” instead of a number"),
    "empty cell": ((HEAD + "0,1,2\n1,,3\n").encode(), "line 3, column v_ab: an empty cell"),
    "not a number": ((HEAD + "0,1,2\n\n1,nan,3\n").encode(), "line 4, column v_ab: nan is not a finite number"),
    "infinity": ((HEAD + "0,1,2\n1,inf,3\n").encode(), "line 3, column v_ab: inf is not a finite"),
    "time stands": ((HEAD + "0,1,2\n1,1,3\n1,2,3\n").encode(), "line 4: time goes from 1 s to 1 s"),
    "time falls": ((HEAD + "0,1,2\n2,1,3\n1,2,3\n").encode(), "time must increase"),
    "wrong unit": (b"t [s],v_ab [A]\n0,1\n1,2\n", "a current; a voltage in V is needed"),
    "unknown unit": (b"t [s],v_ab [furlong]\n0,1\n1,2\n", "unit “furlong” of column v_ab is unknown"),
    "no signal": (b"time [s],CH1 [V]\n0,1\n1,2\n", "no column has a signal name known here"),
    "no time": (b"v_ab [V],i_a [A]\n0,1\n1,2\n", "no time column"),
    "not 0 or 1": (b"t [s],hall_1\n0,0\n1,2\n", "a 0/1 signal holds only 0 and 1"),
    "twice": (b"t [s],v_ab [V],v_ab [V]\n0,1,2\n1,2,3\n", "occurs twice"),
    "prose": (b"Dear all,\nthe motor is fine.\n", "no table of numbers"),
    "thousands": (b"t [s];v_ab [V]\n0;1.234,5\n1;2.345,5\n", "both a dot and a comma"),
}  # fmt: skip


@pytest.mark.parametrize("name", REFUSALS)
def test_refusals_name_file_and_place(name: str, tmp_path: Path) -> None:
    content, wording = REFUSALS[name]
    path = tmp_path / "c.csv"
    path.write_bytes(content)
    with pytest.raises(Refusal) as caught:
        read_capture(path)
    assert wording in caught.value.sentence
    assert caught.value.sentence.startswith(str(path))
    assert "\n" not in caught.value.sentence


def test_missing_file_and_bad_mappings(tmp_path: Path) -> None:
    with pytest.raises(Refusal, match="no such file"):
        read_capture(tmp_path / "none.csv")
    path = tmp_path / "c.csv"
    path.write_text(PLAIN)
    for mapping, wording in (
        ("i_a=CH9", "no column “CH9”"),
        ("foo=i_a", "no signal name"),
        ("i_a", "no column mapping"),
        ("i_a=i_a*0", "cannot be meant"),
    ):
        with pytest.raises(Refusal, match=wording):
            read_capture(path, [mapping])
    flipped = read_capture(path, ["i_a=-i_a*0.5"])
    np.testing.assert_allclose(flipped["i_a"], [-1, -1.5, 2])


def test_borders_to_si_and_back(tmp_path: Path) -> None:
    path = tmp_path / "c.csv"
    path.write_text("t [s],speed [rpm],angle [deg]\n0,60,0\n1,120,180\n")
    capture = read_capture(path)
    np.testing.assert_allclose(capture["speed"], [2 * np.pi, 4 * np.pi])
    np.testing.assert_allclose(capture["angle"], [0, np.pi])
    write_capture(tmp_path / "d.csv", capture.time, dict(capture.columns), {"a": "b"})
    again = read_capture(tmp_path / "d.csv")
    np.testing.assert_allclose(again["speed"], capture["speed"], rtol=1e-6)
    assert again.notes == {"a": "b"}


def test_analogue_halls_become_levels_and_missing_units_are_said(tmp_path: Path) -> None:
    path = tmp_path / "c.csv"
    path.write_text("t,hall_1 [V],v_ab\n0,0.1,1\n1,3.2,2\n2,3.3,3\n")
    capture = read_capture(path)
    np.testing.assert_array_equal(capture["hall_1"], [0, 1, 1])
    assert [f.code for f in capture.findings] == ["unit-assumed"]


CELL = st.floats(-99999, 99999, allow_nan=False, allow_infinity=False)


@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(
    st.lists(st.tuples(CELL, CELL), min_size=2, max_size=30),
    st.sampled_from([(",", "."), (";", ","), ("\t", "."), (";", ".")]),
)
def test_any_numbers_survive_any_dialect(
    tmp_path: Path, rows: list[tuple[float, float]], style: tuple[str, str]
) -> None:
    delimiter, mark = style
    lines = [delimiter.join(["t [s]", "v_ab [V]", "i_a [A]"])]
    lines += [delimiter.join(repr(x).replace(".", mark) for x in (float(k), *row)) for k, row in enumerate(rows)]
    path = tmp_path / "c.csv"
    path.write_text("\n".join(lines), encoding="utf-8")
    capture = read_capture(path)
    np.testing.assert_allclose(np.column_stack([capture["v_ab"], capture["i_a"]]), rows, atol=1e-29)


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(
    st.one_of(
        st.binary(max_size=300), st.text(alphabet="t,;v_ab i[]sVA0123456789.\n-e#:", max_size=200).map(str.encode)
    )
)
def test_any_bytes_are_read_or_refused(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "c.csv"
    path.write_bytes(content)
    try:
        assert np.isfinite(read_capture(path).time).all()
    except Refusal as refusal:
        assert refusal.sentence.startswith(str(path))


HOSTILE = {
    "a lone quote": ("t [s],v_ab [V],i_a [A]\n0,1,2\n1,\",2\n2,1,3\n", "line"),
    "beyond any motor": ("t [s],v_ab [V],i_a [A]\n0,1,2\n1,1e168,2\n2,1,3\n", "1e+168 V is not possible"),
    "one endless line": ("t [s],v_ab [V],i_a [A]\n0,1,2\n" + "x" * 3_000_000 + ",1,2\n", "longer than 1024 kB"),
    "an endless header": ("# " + "x" * 400_000 + "\nt [s],v_ab [V]\n0,1\n", "longer than 256 kB"),
    "a thousand columns": ("t [s]," + ",".join(f"c{k} [V]" for k in range(1000)) + "\n" + ",".join(["1"] * 1001) + "\n", "1001 columns"),
    "a text of a thousand letters": ("t [s],v_ab [V],i_a [A]\n0,1,2\n1," + "x" * 1000 + ",2\n2,1,3\n", "…"),
}  # fmt: skip


@pytest.mark.parametrize("name", HOSTILE)
def test_what_made_the_reader_fall_over_is_refused_in_one_sentence(
    tmp_path: Path, name: str, capfd: pytest.CaptureFixture[str]
) -> None:
    content, wording = HOSTILE[name]
    path = tmp_path / "c.csv"
    path.write_text(content)
    with pytest.raises(Refusal) as caught:
        read_capture(path)
    assert wording in caught.value.sentence
    assert len(caught.value.sentence) < 500
    assert capfd.readouterr().err == ""  # the parsing library says nothing either


def test_only_files_are_read(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe.csv")
    os.symlink("/dev/zero", tmp_path / "zero.csv")
    for name in ("pipe.csv", "zero.csv", "."):
        with pytest.raises(Refusal, match="not a file of data|a folder, not a file"):
            read_capture(tmp_path / name)


def test_a_mapping_takes_scale_and_offset_off(tmp_path: Path) -> None:
    path = tmp_path / "c.csv"
    path.write_text("t [s],CH1 [V],CH2 [mV]\n0,1,20\n1,2,120\n2,3,220\n")
    capture = read_capture(path, ["v_ab=CH1", "i_a=-CH2*10@20"])
    np.testing.assert_allclose(capture["i_a"], [0, -1, -2], atol=1e-12)


@pytest.mark.parametrize(("head", "said"), [
    (b"%PDF-1.7\n%\xe2\xe3\xcf", "a PDF document"), (b"\x89PNG\r\n\x1a\n\x00", "a picture"), (b"PK\x03\x04\x14\x00", "a spreadsheet or an archive"),
    (b"<!doctype html><table>", "a web page"), (b'{"format": 5, "name": "x"}', "a bench file"), (b"[1, 2]", "a JSON file"), (b"\x1f\x8b\x08\x00", "a compressed file"),
])  # fmt: skip
def test_foreign_files_are_called_what_they_are(head: bytes, said: str, tmp_path: Path) -> None:
    path = tmp_path / "x.csv"
    path.write_bytes(head + b"\n" * 20)
    with pytest.raises(Refusal, match=f"this is {said}, not a capture"):
        read_capture(path)
    path.write_text("[Data]\nTime [s],v_ab [V]\n" + "\n".join(f"{k * 1e-3:.3f},{k % 7}.5" for k in range(50)))
    assert len(read_capture(path)) == 50
