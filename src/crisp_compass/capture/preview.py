"""A look at a file's channels before anybody has said what they are: a thin curve, the range, and what it looks like."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np

from crisp_compass.capture.dialect import Dialect, detect, number
from crisp_compass.estimates import FloatArray

Look = Literal["logic", "steady", "rising", "wave"]
#: Places of the file that are looked at, and bytes at each.
_PLACES, _BYTES = 24, 24_000
#: Samples in a row that are looked at in each place of a long channel.
_PIECE = 4_000


@dataclass(frozen=True)
class Channel:
    """A column as it stands in the file: ``values`` (n,) in its own unit, thinned, and what it looks like.

    ``logic`` rests on two levels only, ``rising`` grows throughout (a time, a counter), ``steady`` does not move beyond its noise.
    """

    name: str
    unit: str
    values: FloatArray
    look: Look

    @property
    def range_text(self) -> str:
        """The range in words: ``−0.2 … 5.1 V, two levels``."""
        if not len(self.values):
            return "no numbers"
        low, high = (f"{x:.3g}".replace("-", "−") for x in (float(self.values.min()), float(self.values.max())))
        kind = {"logic": ", two levels", "steady": ", steady", "rising": ", rising", "wave": ""}[self.look]
        return f"{low} … {high} {self.unit}{kind}".replace("  ", " ")


def preview(path: Path) -> list[Channel]:
    """Return the channels of a file, from rows taken all over it; raises Refusal or OSError as reading would."""
    dialect = detect(path)
    rows = _some_rows(path, dialect)
    table = np.array(rows, dtype=np.float64).reshape(len(rows), len(dialect.names))
    return [
        Channel(name, unit or "", values, look_of(values))
        for name, unit, values in zip(dialect.names, dialect.units, table.T, strict=True)
    ]


def _some_rows(path: Path, dialect: Dialect) -> list[list[float]]:
    size, found = path.stat().st_size, []
    places = np.linspace(0, max(size - _BYTES, 0), _PLACES).astype(int) if size > _PLACES * _BYTES else [0]
    length = _BYTES if len(places) > 1 else size
    with path.open("rb") as file:
        for place in places:
            file.seek(int(place))
            lines = file.read(length).decode(dialect.encoding, errors="replace").splitlines()
            for line in lines[dialect.first_data_line - 1 :] if place == 0 else lines[1:-1]:
                cells = [number(c.strip()) for c in line.split(dialect.delimiter)]
                if len(cells) == len(dialect.names) and all(c is not None for c in cells):
                    found.append([c for c in cells if c is not None])
    return found[:: max(len(found) // 4000, 1)]


def look_of(values: FloatArray) -> Look:
    """Tell what a channel (n,) looks like: of a long one, pieces from all over it."""
    if len(values) < 4:
        return "steady"
    if len(values) > 4 * _PLACES * _PIECE:
        starts = np.linspace(0, len(values) - _PIECE, _PLACES).astype(int)
        values = np.concatenate([values[k : k + _PIECE] for k in starts])
    low, high = np.percentile(values, (1, 99))
    span = float(high - low)
    steps = np.diff(values)
    if (steps > 0).all():
        return "rising"
    noise = float(np.median(np.abs(steps - np.median(steps)))) * 1.5
    if span <= max(6 * noise, 1e-12 * abs(float(high))):
        two = np.unique(values)
        return "logic" if len(two) == 2 and span > 0 else "steady"
    near = np.minimum(np.abs(values - low), np.abs(values - high)) < 0.12 * span
    crossed = np.abs(np.diff((values > 0.5 * (low + high)).astype(int)))
    return "logic" if near.mean() > 0.97 and crossed.sum() >= 2 else "wave"


def header_of(path: Path) -> str:
    """Return what the header says of the columns, as one line; raises Refusal or OSError as reading would."""
    dialect = detect(path)
    columns = (f"{n} [{u}]" if u else n for n, u in zip(dialect.names, dialect.units, strict=True))
    return ", ".join(columns)
