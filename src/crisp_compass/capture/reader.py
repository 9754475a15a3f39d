"""Reading a capture file: CSV in many dialects → :class:`Capture` in SI.

Numbers are parsed by Polars (:mod:`crisp_compass.capture.bulk`). Where that meets a cell it cannot read, the file is
read again as text so that blanks and quoted decimal commas are taken, and the first bad cell can be named by line and column.
"""

from __future__ import annotations

import io
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from crisp_compass.capture.bulk import NotPlainError, Progress, as_name, panicked, read_plain, speakable
from crisp_compass.capture.dialect import Dialect, detect
from crisp_compass.capture.mapping import ColumnMapping, find_source
from crisp_compass.capture.model import Capture
from crisp_compass.capture.signals import SIGNALS, TIME_NAMES, describe
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.files import open_regular, shortened
from crisp_compass.plugins import registry
from crisp_compass.quantities import BOUNDS, UNITS, article, find_unit

if TYPE_CHECKING:
    import polars as pl

_LONGEST_LINE = 1 << 20
#: Below this a figure is no reading of any instrument, only trouble for arithmetic.
_LEAST = 1e-30


@dataclass(frozen=True)
class _Wanted:
    """A column to take: target name, source index, factor from the cell's number to SI."""

    name: str
    index: int
    factor: float
    assumed: str | None
    analogue: bool = False
    offset: float = 0.0  # in the cell's own unit


def read_capture(
    path: Path | str,
    columns: Sequence[ColumnMapping | str] = (),
    *,
    need_time: bool = True,
    progress: Progress | None = None,
) -> Capture:
    """Read a capture file.

    Parameters
    ----------
    path
        CSV file in any of the accepted dialects.
    columns
        Mappings ``NAME=[-]SOURCE[*FACTOR]`` for channels that have other names in the file.
    need_time
        False for tables that are no time series.
    progress
        Told now and then what part of the file is read, 0 to 1.

    Returns
    -------
    Capture
        Time (n,) in s and channels (n,) in SI.

    Raises
    ------
    Refusal
        Empty, binary, ragged, non-numeric, not finite, time not increasing; names file and line.
    """
    file = Path(path)
    if (own := registry().readers.get(file.suffix.lower())) is not None:
        return _by_plugin(own, file, columns)
    try:
        dialect = detect(file)
        mappings = [ColumnMapping.parse(c) if isinstance(c, str) else c for c in columns]
        wanted = _wanted(dialect, mappings, need_time)
        indices = sorted({w.index for w in wanted})
        try:
            numbers = read_plain(file, dialect, indices, progress)
        except NotPlainError:
            _check_lines(file)
            frame = _numbers(file, dialect, indices)
            numbers = {i: frame[f"c{i}"].to_numpy(writable=True) for i in indices}
        return _assemble(file, dialect, wanted, numbers)
    except Refusal as refusal:
        raise refusal.at(str(path) or "FILE") from None
    except OSError as error:
        raise Refusal(f"the file cannot be read ({error.strerror})", where=str(path)) from None


def _by_plugin(read: Callable[[Path], Capture], file: Path, columns: Sequence[ColumnMapping | str]) -> Capture:
    """Read a file of somebody's own kind, whose reader names the channels itself."""
    if columns:
        raise Refusal(f"channels of {file.suffix} files are named by their reader", "leave the mapping out", where=str(file))
    try:
        return read(file)
    except Refusal as refusal:
        raise refusal.at(str(file)) from None
    except OSError as error:
        raise Refusal(f"the file cannot be read ({error.strerror})", where=str(file)) from None


def _wanted(dialect: Dialect, mappings: Sequence[ColumnMapping], need_time: bool) -> list[_Wanted]:
    wanted: dict[str, _Wanted] = {}
    for index, (name, unit) in enumerate(zip(dialect.names, dialect.units, strict=True)):
        key = "t" if name.lower() in TIME_NAMES else name.lower()
        if key == "t" or key in SIGNALS:
            if key in wanted:
                raise Refusal(f"the column {name} occurs twice", "give the columns different names")
            wanted[key] = _take(key, index, unit)
    for mapping in mappings:
        index = find_source(mapping.source, dialect.names)
        taken = _take(mapping.name, index, dialect.units[index], mapping.factor)
        wanted[mapping.name] = replace(taken, offset=mapping.offset)
    if "t" not in wanted and dialect.units[0] is not None:
        unit0 = find_unit(dialect.units[0] or "")
        if unit0 is not None and unit0[0].dimension == "time":
            wanted["t"] = _take("t", 0, dialect.units[0])
    if "t" not in wanted and need_time:
        raise Refusal(
            f"there is no time column (found: {shortened(', '.join(dialect.names), 200)})",
            "name it t [s] or map it: t=SOURCE",
            code="channels",
        )
    if not set(wanted) - {"t"}:
        raise Refusal(
            f"no column has a signal name known here (found: {shortened(', '.join(dialect.names), 200)})",
            "name them like v_ab [V] or map them: v_ab=CH1",
            code="channels",
        )
    return list(wanted.values())


def _take(name: str, index: int, unit_text: str | None, mapped: float | None = None) -> _Wanted:
    """Decide the factor to SI. A mapped channel may change dimension (a probe's volts that mean amperes)."""
    file_unit = "s" if name == "t" else SIGNALS[name]
    logic = file_unit == "logic"
    target = UNITS["" if logic else file_unit]
    if not unit_text:
        return _Wanted(name, index, target.factor * (mapped or 1.0), None if logic else target.name)
    found = find_unit(unit_text)
    if found is None:
        if logic and mapped is None:
            return _Wanted(name, index, 1.0, None)
        raise Refusal(
            f"the unit “{shortened(unit_text)}” of column {shortened(name)} is unknown",
            f"write {target.name or '0 and 1 without a unit'}",
        )
    source, factor = found
    if logic:
        return _Wanted(name, index, factor * (mapped or 1.0), None, analogue=source.dimension == "voltage")
    if source.dimension == target.dimension:
        return _Wanted(name, index, factor * (mapped or 1.0), None)
    if mapped is not None and name != "t":
        return _Wanted(name, index, factor * mapped * target.factor, None)
    raise Refusal(
        f"the column {name} is in “{unit_text}”, {article(source.dimension)}",
        f"{article(target.dimension)} in {target.name} is needed",
    )


def _check_lines(file: Path) -> None:
    """Refuse a line of endless length before anything tries to hold it; a part of the file is in memory at a time."""
    since, number = 0, 1
    with open_regular(file) as stream:
        while part := stream.read(1 << 20):
            first, last = part.find(b"\n"), part.rfind(b"\n")
            since += len(part) if first < 0 else first
            if since > _LONGEST_LINE:
                raise Refusal(
                    f"line {number} is longer than {_LONGEST_LINE // 1024} kB",
                    "one row of the table a line is needed",
                )
            if first >= 0:
                number += part.count(b"\n")
                since = len(part) - 1 - last


def _numbers(file: Path, dialect: Dialect, indices: list[int]) -> pl.DataFrame:
    """Parse the wanted columns to floats, shape (rows, len(indices))."""
    import polars as pl  # a third of a second to load, for whoever reads a file

    source: Path | io.BytesIO = as_name(file)
    if dialect.encoding == "cp1252":
        source = io.BytesIO(file.read_bytes().decode("cp1252").encode())
    elif not speakable(file) and dialect.encoding != "utf-16":
        source = io.BytesIO(file.read_bytes())
    elif dialect.encoding == "utf-16":
        try:
            source = io.BytesIO(file.read_bytes().decode("utf-16").encode())
        except UnicodeDecodeError:
            raise Refusal("the text is damaged", "save the file as UTF-8 text") from None
    width = len(dialect.names)
    names = [f"c{i}" for i in range(width)]
    kept = {names[i] for i in indices}
    taken = sorted({*indices, width - 1})  # a short row always misses its last cell

    def read(as_text: bool) -> pl.DataFrame:
        if isinstance(source, io.BytesIO):
            source.seek(0)
        schema = {n: (pl.Float64 if n in kept and not as_text else pl.String) for n in names}
        return pl.read_csv(
            source, glob=False, separator=dialect.delimiter, has_header=False, schema=schema,
            columns=taken, skip_lines=dialect.first_data_line - 1, comment_prefix="#",
            decimal_comma=dialect.decimal_comma and not as_text and dialect.delimiter != ",",
            ignore_errors=False, raise_if_empty=False,
            quote_char='"' if as_text else None,  # a lone quote among numbers makes the library fall over
        )  # fmt: skip

    try:
        frame = read(as_text=False)
        if frame.null_count().sum_horizontal()[0]:
            frame = _without_blank_lines(frame)
        _check_short_rows(file, dialect, frame[names[-1]])
        if sum(frame.select(sorted(kept)).null_count().row(0)) == 0 and frame.height:
            return frame
    except pl.exceptions.PolarsError:
        pass
    except BaseException as error:
        if not panicked(error):
            raise
    try:
        texts = _without_blank_lines(read(as_text=True))
    except pl.exceptions.PolarsError:
        raise _ragged(file, dialect, width) from None
    except BaseException as error:
        if not panicked(error):
            raise
        raise Refusal("the table cannot be read", "export it again as plain CSV text") from None
    _check_short_rows(file, dialect, texts[names[-1]])
    return _from_texts(file, dialect, texts, indices)


def _without_blank_lines(frame: pl.DataFrame) -> pl.DataFrame:
    import polars as pl  # a third of a second to load, for whoever reads a file

    return frame.filter(~pl.all_horizontal(pl.all().is_null()))


def _from_texts(file: Path, dialect: Dialect, texts: pl.DataFrame, indices: list[int]) -> pl.DataFrame:
    import polars as pl  # a third of a second to load, for whoever reads a file

    columns = {}
    for index in indices:
        name = f"c{index}"
        stripped = texts[name].str.strip_chars()
        if dialect.decimal_comma:
            stripped = stripped.str.replace(",", ".", literal=True)
        values = stripped.cast(pl.Float64, strict=False)
        bad = values.is_null().arg_max() if values.null_count() else None
        if bad is not None:
            raise _bad_cell(file, dialect, bad, index, text=texts[name][bad])
        columns[name] = values
    frame = pl.DataFrame(columns)
    if not frame.height:
        raise Refusal("there is a header row but no row of numbers below it", "samples are needed")
    return frame


def _check_short_rows(file: Path, dialect: Dialect, last: pl.Series) -> None:
    """Refuse rows that end early; a column that is empty throughout is only a trailing delimiter."""
    if last.null_count() and not (last.null_count() == len(last) and not dialect.names[-1]):
        refusal = _ragged(file, dialect, len(dialect.names))
        if refusal.code == "ragged":
            raise refusal


def _line_of(file: Path, dialect: Dialect, row: int) -> int:
    """Return the 1-based file line of a data row, blank and comment lines counted."""
    seen = -1
    with file.open(encoding=dialect.encoding, errors="replace", newline="\n") as stream:
        for number, line in enumerate(stream, 1):
            if number >= dialect.first_data_line and line.strip() and not line.startswith("#"):
                seen += 1
                if seen == row:
                    return number
    return dialect.first_data_line + row


def _bad_cell(file: Path, dialect: Dialect, row: int, index: int, text: object) -> Refusal:
    line = _line_of(file, dialect, row)
    ragged = _ragged(file, dialect, len(dialect.names), last=line)
    if ragged.code == "ragged":
        return ragged
    found = f"“{shortened(text)}”" if text is not None and str(text).strip() else "an empty cell"
    return Refusal(
        f"line {line}, column {dialect.names[index]}: {found} instead of a number", "correct or remove that row"
    )


def _ragged(file: Path, dialect: Dialect, width: int, last: int | None = None) -> Refusal:
    """Name the first line whose number of cells differs from the header's."""
    import csv

    with file.open(encoding=dialect.encoding, errors="replace", newline="\n") as stream:
        for number, line in enumerate(stream, 1):
            if last is not None and number > last:
                break
            if number < dialect.first_data_line or not line.strip() or line.startswith("#"):
                continue
            try:
                count = len(next(csv.reader([line], delimiter=dialect.delimiter)))
            except (csv.Error, StopIteration):
                count = 0
            if count != width:
                return Refusal(
                    f"line {number} has {count} cells where the header has {width}",
                    "correct or remove that row",
                    code="ragged",
                )
    return Refusal("the table cannot be read", "every row needs as many cells as the header")


def _assemble(file: Path, dialect: Dialect, wanted: list[_Wanted], numbers: dict[int, FloatArray]) -> Capture:
    columns: dict[str, FloatArray] = {}
    findings = []
    for item in wanted:
        raw = numbers[item.index]
        finite = np.isfinite(raw)
        if not finite.all():
            bad = np.flatnonzero(~finite)
            line = _line_of(file, dialect, int(bad[0]))
            raise Refusal(
                f"line {line}, column {dialect.names[item.index]}: {raw[bad[0]]} is not a finite number",
                "correct or remove that row",
            )
        # a column that several names take must stay as it is; else no second copy is made
        shared = sum(w.index == item.index for w in wanted) > 1
        if item.offset:
            raw = raw - item.offset
        values: FloatArray = raw * item.factor if shared else np.multiply(raw, item.factor, out=raw)
        _check_size(file, dialect, item, values)
        if SIGNALS.get(item.name) == "logic":
            values = _logic(values, item, dialect, file)
        columns[item.name] = values
    assumed = [f"{w.name} in {w.assumed}" for w in wanted if w.assumed]
    if assumed:
        findings.append(
            Finding("info", "unit-assumed", f"No unit is written for some columns; taken as {', '.join(assumed)}.")
        )
    time = columns.pop("t", np.empty(0))
    if len(time):
        rising = time[1:] > time[:-1]
        if not rising.all():
            row = int(np.argmin(rising)) + 1
            line = _line_of(file, dialect, row)
            raise Refusal(
                f"line {line}: time goes from {time[row - 1]:.9g} s to {time[row]:.9g} s",
                "time must increase from row to row; export more digits or sort the rows",
            )
    return Capture(str(file), time, columns, dialect.notes, findings=tuple(findings))


def _check_size(file: Path, dialect: Dialect, item: _Wanted, values: FloatArray) -> None:
    """Refuse what no channel of a motor bench can hold; what is below all resolution becomes zero in place."""
    unit = "s" if item.name == "t" else SIGNALS[item.name]
    known = UNITS["" if unit == "logic" else unit]
    most = BOUNDS.get(known.dimension, (0.0, 1e12))[1]
    size = np.abs(values)
    if len(size) and float(size.max()) > most:
        row = int(np.argmax(size))
        found = f"{values[row] / known.factor:.3g} {known.name}".rstrip()
        raise Refusal(
            f"line {_line_of(file, dialect, row)}, column {dialect.names[item.index]}: {found} is not possible",
            "check the unit and the factor of the channel",
        )
    values[size < _LEAST] = 0.0


def _logic(values: FloatArray, item: _Wanted, dialect: Dialect, file: Path) -> FloatArray:
    """Turn an analogue 0/1 channel into exact zeros and ones; refuse anything that is neither."""
    if item.analogue and np.ptp(values) > 0.5:
        low, high = np.percentile(values, (1, 99))
        levels: FloatArray = (values > (low + high) / 2).astype(np.float64)
        return levels
    wrong = np.flatnonzero((values != 0) & (values != 1))
    if len(wrong):
        line = _line_of(file, dialect, int(wrong[0]))
        raise Refusal(
            f"line {line}, column {describe(item.name)}: {values[wrong[0]]:g} found",
            "a 0/1 signal holds only 0 and 1",
        )
    return values


def sampling_interval(time: FloatArray) -> float:
    """Return the median sampling interval [s] of ``time`` (n,)."""
    return float(np.median(np.diff(time))) if len(time) > 1 else math.nan
