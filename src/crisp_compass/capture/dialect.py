"""Finding out how a CSV file is written: encoding, delimiter, decimal mark, header, units row."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass
from pathlib import Path

from crisp_compass.capture.signals import SIGNALS, TIME_NAMES
from crisp_compass.errors import Refusal
from crisp_compass.files import foreign, open_regular
from crisp_compass.quantities import find_unit

_HEAD_BYTES = 256 * 1024
_HEAD_LINES = 400
_MOST_COLUMNS = 512
_CONTROL = bytes(byte for byte in range(32) if byte < 9 or byte > 13)
_LATIN_SIGNS = frozenset(b"\xb5\xb0\xb2\xb3\xb7\xd7\xb1")
_BRACKETED = re.compile(r"^(.*?)\s*[\[(]\s*([^\])]*?)\s*[\])]\s*$")


@dataclass(frozen=True)
class Dialect:
    """How the file is written.

    ``header_line`` and ``first_data_line`` are 1-based line numbers; ``names`` and ``units`` have one entry a
    column (``units`` holds None where the file gives none).
    """

    encoding: str
    delimiter: str
    decimal_comma: bool
    header_line: int
    first_data_line: int
    names: tuple[str, ...]
    units: tuple[str | None, ...]
    notes: dict[str, str]


def detect_encoding(head: bytes) -> str:
    """Return the text encoding of the file's first bytes; refuse what is binary or cannot be told."""
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return "utf-16"
    if b"\x00" in head:
        raise Refusal("this is a binary file", "export the capture as CSV text")
    try:
        head.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        if error.start >= len(head) - 4 and error.reason == "unexpected end of data":
            return "utf-8-sig"  # the head was cut inside a character
        high = {byte for byte in head if byte >= 0x80}
        if high <= _LATIN_SIGNS:
            return "cp1252"
        raise Refusal("the text encoding is not UTF-8", "save the file as UTF-8 text") from None
    control = len(head) - len(head.translate(None, _CONTROL))
    if control > len(head) // 100:
        raise Refusal("this is a binary file", "export the capture as CSV text")
    return "utf-8-sig"


def detect(path: Path) -> Dialect:
    """Read the head of ``path`` and return its dialect.

    Raises Refusal for empty, binary and header-only files and where no table can be found.
    """
    with open_regular(path) as stream:
        head = stream.read(_HEAD_BYTES)
    if not head.strip(b"\xef\xbb\xbf \t\r\n"):
        raise Refusal("the file is empty", "a header row and samples are needed")
    kind = foreign(head)
    if kind:
        remedy = "open it with File, Open bench" if kind == "a bench file" else "export the capture as CSV text"
        raise Refusal(f"this is {kind}, not a capture", remedy)
    encoding = detect_encoding(head)
    text = head.decode(encoding, errors="ignore")
    if len(head) == _HEAD_BYTES and text.count("\n") < 2:
        raise Refusal(f"a line is longer than {_HEAD_BYTES // 1024} kB", "one row of the table a line is needed")
    # a line ends where the parsing library ends one; a form feed or a line separator of Unicode is a character like any other
    lines = [line.removesuffix("\r") for line in text.removesuffix("\n").split("\n")[:_HEAD_LINES]]
    if len(head) == _HEAD_BYTES and len(lines) < _HEAD_LINES and len(lines) > 1:
        lines = lines[:-1]  # the last line may be cut
    notes = _notes(lines)
    best: Dialect | None = None
    for delimiter in (",", ";", "\t"):
        found = _table(lines, delimiter, encoding, notes)
        if found is not None and (best is None or _rank(found) > _rank(best)):
            best = found
    if best is None:
        best_header = any(_known(cell) for line in lines for cell in re.split(r"[,;\t]", line))
        if best_header:
            raise Refusal("there is a header row but no row of numbers below it", "samples are needed")
        raise Refusal("no table of numbers was found", "a header row and rows of numbers are needed")
    return best


def _rank(dialect: Dialect) -> tuple[int, int]:
    return sum(_known(name) for name in dialect.names), len(dialect.names)


def _notes(lines: list[str]) -> dict[str, str]:
    notes = {}
    for line in lines:
        if line.startswith("#") and ":" in line:
            key, _, value = line[1:].partition(":")
            notes[key.strip().lower()] = value.strip().rstrip(",;\t ")
    return notes


def _cells(line: str, delimiter: str) -> list[str]:
    try:
        return [cell.strip() for cell in next(csv.reader([line], delimiter=delimiter))]
    except (csv.Error, StopIteration):
        return []


def number(text: str) -> float | None:
    """Read one cell with decimal dot or comma; None if it is no number."""
    try:
        return float(text.strip().replace(",", "."))
    except ValueError:
        return None


def _is_data(cells: list[str]) -> bool:
    return len(cells) >= 2 and sum(number(cell) is not None for cell in cells) >= 2


def _known(cell: str) -> bool:
    name = split_header(cell)[0].lower()
    return name in SIGNALS or name in TIME_NAMES


def split_header(cell: str) -> tuple[str, str | None]:
    """Split ``name [unit]`` into name and unit (None where no unit is written)."""
    match = _BRACKETED.match(cell.strip())
    if match and match.group(1):
        return match.group(1).strip(), match.group(2)
    return cell.strip(), None


def _unit_cell(cell: str) -> str | None:
    """Return the unit if the cell of a second header row is one (or blank), else None."""
    text = cell.strip().strip("[]()").strip()
    if text in ("", "-", "–", "1"):
        return ""
    return text if find_unit(text) is not None else None


def _table(lines: list[str], delimiter: str, encoding: str, notes: dict[str, str]) -> Dialect | None:
    rows = [
        (i, [] if line.startswith("#") or not line.strip() else _cells(line, delimiter))
        for i, line in enumerate(lines)
    ]
    rows = [(i, cells) for i, cells in rows if cells]
    header = _find_header(rows)
    if header is None:
        return None
    line_no, cells = rows[header]
    if len(cells) > _MOST_COLUMNS:
        raise Refusal(f"line {line_no + 1} has {len(cells)} columns", f"at most {_MOST_COLUMNS} are read")
    split = [split_header(cell) for cell in cells]
    names = [name for name, _ in split]
    units = [unit for _, unit in split]
    first = header + 1
    if first < len(rows) and len(rows[first][1]) == len(cells):
        second = [_unit_cell(cell) for cell in rows[first][1]]
        if all(unit is not None for unit in second) and any(second):
            units = [new or old for new, old in zip(second, units, strict=True)]
            first += 1
    if first >= len(rows):
        return None
    commas = _decimal_commas([row for _, row in rows[first:]], delimiter)
    return Dialect(encoding, delimiter, commas, line_no + 1, first_data_line=rows[first][0] + 1, names=tuple(names), units=tuple(units), notes=notes)


def _find_header(rows: list[tuple[int, list[str]]]) -> int | None:
    """Return the row that names the columns: the first with known names, else the one above the numbers."""
    for index, (_, cells) in enumerate(rows):
        if len(cells) >= 2 and sum(_known(cell) for cell in cells) >= 2:
            return index if index + 1 < len(rows) else None
    for index, (_, cells) in enumerate(rows):
        if not _is_data(cells):
            continue
        following = [len(row) for _, row in rows[index : index + 3]]
        if len(set(following)) > 1:
            continue
        above = index - 1
        while above >= 0 and len(rows[above][1]) == len(cells) and above > index - 3:
            units = [_unit_cell(cell) for cell in rows[above][1]]
            if not (all(unit is not None for unit in units) and any(units)):
                return above
            above -= 1
        return None if index == 0 else (index - 1 if len(rows[index - 1][1]) == len(cells) else None)
    return None


def _decimal_commas(rows: list[list[str]], delimiter: str) -> bool:
    cells = [cell for row in rows for cell in row if cell]
    both = next(
        (cell for cell in cells if re.fullmatch(r"[-+]?[\d.,]*\d[.,]\d+", cell) and "," in cell and "." in cell), None
    )
    if both is not None and delimiter != ",":
        raise Refusal(f"the number “{both}” has both a dot and a comma", "export without thousands separators")
    return any(re.fullmatch(r"[-+]?\d*,\d+(?:[eE][-+]?\d+)?", cell) for cell in cells)
