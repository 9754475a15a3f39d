"""Writing a capture in the contract's format."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from crisp_compass.capture.signals import SIGNALS
from crisp_compass.estimates import FloatArray
from crisp_compass.files import write_atomically
from crisp_compass.quantities import UNITS
from crisp_compass.safe_text import line


def write_capture(path: Path, time: FloatArray, columns: Mapping[str, FloatArray], notes: Mapping[str, str]) -> None:
    """Write ``time`` (n,) [s] (empty for a table that is no time series) and channels (n,) [SI] as CSV with units in the header and notes above it."""
    import polars as pl  # a third of a second to load, for whoever reads a file

    data: dict[str, FloatArray | np.ndarray] = {"t [s]": np.round(time, 9)} if len(time) else {}
    for name, values in columns.items():
        unit = SIGNALS[name]
        if unit == "logic":
            data[name] = values.astype(np.int64)
        else:
            data[f"{name} [{unit}]"] = np.array([float(f"{v:.7g}") for v in values / UNITS[unit].factor])
    text = "".join(f"# {line(key).replace(':', ' ')}: {line(value)}\n" for key, value in notes.items())
    write_atomically(path, text + pl.DataFrame(data).write_csv())
