"""A sample plug-in: files of a logger that writes ``seconds volts amperes`` in blanks, a list of settings for a spreadsheet, resistance as a plain ratio, and a link to a file of values."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from crisp_compass import Bench, Capture, Estimate, Refusal
from crisp_compass.plugins import Registry
from crisp_compass.record.formats.form import Form


def read_log(path: Path) -> Capture:
    """Read a logger's file."""
    try:
        table = np.loadtxt(path, ndmin=2)
    except ValueError as error:
        raise Refusal(f"this is no log of three columns ({error})", "export seconds, volts and amperes") from None
    if table.shape[1] != 3 or len(table) < 2:
        raise Refusal("this is no log of three columns", "export seconds, volts and amperes")
    return Capture(path.name, table[:, 0], {"v_ab": table[:, 1], "i_a": table[:, 2]})


def as_list(bench: Bench) -> str:
    """Return every settled value as a line."""
    return "".join(f"{topic}.{name}\t{q.value!r}\t{q.unit}\n" for topic, s in bench.settled.items() for name, q in s.values.items())


def plain_ratio(capture: Capture, **_: Any) -> dict[str, Estimate]:
    """Return half of voltage over current: it takes the bridge's loss for resistance, as a comparison is to show."""
    u, i = capture.columns["v_ab"], capture.columns["i_a"]
    flows = np.abs(i) > 0.1 * np.abs(i).max()
    ratio = 0.5 * u[flows] / i[flows]
    return {"resistance": Estimate.from_u(float(np.mean(ratio)), "Ω", float(np.std(ratio) / np.sqrt(len(ratio))))}


class FileLink:
    """A drive that is a file of values: enough for a bench without one."""

    def __init__(self, path: Path) -> None:
        self.values: dict[str, float] = json.loads(path.read_text())

    def read(self, names: list[str]) -> dict[str, float]:
        """Return values by name."""
        return {name: self.values[name] for name in names}


@contextlib.contextmanager
def open_file(rest: str, _: Any) -> Iterator[FileLink]:
    """Open ``values:PATH``."""
    yield FileLink(Path(rest))


def register(registry: Registry) -> None:
    """Add all of it."""
    registry.add_capture_reader(".log", read_log)
    registry.add_format(Form("list", "list", ".txt", "settings", 9, as_list))
    registry.add_estimator("resistance", "plain ratio", plain_ratio)
    registry.add_drive_link("values", open_file)
