"""The fast path for numbers: the file is parsed batch by batch, so that a large capture shows progress, can be
cancelled, and never needs much more memory than the arrays it becomes."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from crisp_compass.capture.dialect import Dialect
from crisp_compass.estimates import FloatArray
from crisp_compass.files import open_regular

if TYPE_CHECKING:
    import polars as pl

#: Told what part of the file is read, 0 to 1; stops the reading by raising :class:`CancelledError`.
Progress = Callable[[float], None]
_ROWS = 500_000


class CancelledError(Exception):
    """The reading was stopped by who asked for it."""


class NotPlainError(Exception):
    """A piece holds something else than plain numbers; the slow path must look at the file."""


def as_name(file: Path) -> Path:
    """Return a path that the parsing library takes as it is: it would expand a tilde at its beginning."""
    return Path(os.path.abspath(file))


def speakable(file: Path) -> bool:
    """Tell whether the parsing library can be told the file's name: it takes text alone, and a name may be any bytes."""
    try:
        os.path.abspath(file).encode()
    except UnicodeEncodeError:
        return False
    return True


def panicked(error: BaseException) -> bool:
    """Tell whether the parsing library fell over: its panics are no exceptions that anybody expects."""
    return type(error).__name__ == "PanicException"


def read_plain(
    file: Path, dialect: Dialect, indices: list[int], progress: Progress | None = None
) -> dict[int, FloatArray]:
    """Return the wanted columns, each (rows,), as written (not yet in SI).

    Raises
    ------
    NotPlainError
        Blank cells, text, ragged rows, an encoding that is not UTF-8.
    CancelledError
        From ``progress``.
    """
    import polars as pl  # a third of a second to load, for whoever reads a file

    if not speakable(file) or dialect.encoding not in ("utf-8", "utf-8-sig") or (dialect.decimal_comma and dialect.delimiter == ","):
        raise NotPlainError
    parts: dict[int, list[FloatArray]] = {i: [] for i in indices}
    size = max(file.stat().st_size, 1)
    done, row_bytes = 0, _row_bytes(file, dialect)
    try:
        for frame in _scan(file, dialect, indices).collect_batches(maintain_order=True, chunk_size=_ROWS):
            for index, series in _columns(frame, indices):
                # chunk by chunk, because joining them here would copy once more
                parts[index] += [c.to_numpy() for c in series.get_chunks()]
            done += frame.height
            if progress is not None:
                progress(min(done * row_bytes / size, 1.0))
    except pl.exceptions.PolarsError:
        raise NotPlainError from None
    except BaseException as error:
        if not panicked(error):
            raise
        raise NotPlainError from None
    if not any(len(p) for p in parts[indices[0]]):
        raise NotPlainError
    return {index: _joined(parts.pop(index)) for index in indices}


def _scan(file: Path, dialect: Dialect, indices: list[int]) -> pl.LazyFrame:
    """Return the plan; comment lines are left to the slow path, looking for them costs a quarter of the speed."""
    import polars as pl  # a third of a second to load, for whoever reads a file

    width = len(dialect.names)
    schema: dict[str, type[pl.DataType]] = {f"c{i}": pl.Float64 if i in indices else pl.String for i in range(width)}
    taken = [f"c{i}" for i in sorted({*indices, width - 1})]  # a short row always misses its last cell
    plan = pl.scan_csv(
        as_name(file),
        glob=False,
        separator=dialect.delimiter,
        has_header=False,
        schema=schema,
        skip_lines=dialect.first_data_line - 1,
        decimal_comma=dialect.decimal_comma,
        ignore_errors=False,
        raise_if_empty=False,
        quote_char=None,  # a lone quote among numbers makes the library fall over; quoted cells go the slow way
    )
    return plan.select(taken)


def _columns(frame: pl.DataFrame, indices: list[int]) -> list[tuple[int, pl.Series]]:
    import polars as pl  # a third of a second to load, for whoever reads a file

    if frame.null_count().sum_horizontal()[0]:
        frame = frame.filter(~pl.all_horizontal(pl.all().is_null()))  # blank lines
        if frame.null_count().sum_horizontal()[0]:
            raise NotPlainError
    return [(i, frame[f"c{i}"]) for i in indices]


def _row_bytes(file: Path, dialect: Dialect) -> float:
    """Return how long a row is on average near the head."""
    with open_regular(file) as stream:
        for _ in range(dialect.first_data_line - 1):
            stream.readline()
        piece = stream.read(65536)
    return len(piece) / max(piece.count(b"\n"), 1)


def _joined(parts: list[FloatArray]) -> FloatArray:
    """Join the pieces, letting each go as soon as it is copied."""
    out = np.empty(sum(len(p) for p in parts))
    at = 0
    while parts:
        part = parts.pop(0)
        out[at : at + len(part)] = part
        at += len(part)
    return out
