"""A folder of captures through one identification: a row each, what the lot agrees on, and which files stand apart."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from crisp_compass.capture import read_capture
from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, Result
from crisp_compass.files import write_atomically
from crisp_compass.plausible import check_estimates
from crisp_compass.quantities import show
from crisp_compass.safe_text import csv_cell, line
from crisp_compass.studies.batch import spread

#: A value this many robust standard deviations off the median stands apart (B. Iglewicz, D. C. Hoaglin, How to Detect and Handle Outliers, ASQC 1993).
APART = 3.5
#: Files of a folder that are looked at.
MOST_FILES = 100_000


@dataclass(frozen=True)
class Identification:
    """One identification as a task: ``solve`` makes a result of a capture; both can be pickled."""

    solve: Callable[[Capture], Result]
    columns: tuple[str, ...] = ()
    need_time: bool = True

    def __call__(self, file: str, _: int) -> Row:
        """Return the row of one file; a refusal is a row too."""
        try:
            found = self.solve(read_capture(file, list(self.columns), need_time=self.need_time))
            check_estimates(found.estimates)
        except Refusal as refusal:
            return Row(Path(file).name, {}, (), refusal.at(file).sentence)
        except MemoryError:
            return Row(Path(file).name, {}, (), f"{file}: there is not enough memory for this capture.")
        except OSError as error:
            return Row(Path(file).name, {}, (), f"{file}: the file cannot be read ({error.strerror}).")
        except Exception as error:
            return Row(Path(file).name, {}, (), f"{file}: the program failed at this file ({type(error).__name__}).")
        return Row(Path(file).name, found.estimates, found.findings, "")


@dataclass(frozen=True)
class Row:
    """What one file gave: its estimates and findings, or the sentence that refused it."""

    file: str
    estimates: dict[str, Estimate]
    findings: tuple[Finding, ...]
    refusal: str


@dataclass(frozen=True)
class Lot:
    """One estimate over all files: how many have it, ``mean`` with its interval, ``median``, standard deviation ``between`` files, typical ``u`` of one, how likely such a
    ``scatter`` is by the error bars alone, and the files that stand ``apart``."""

    name: str
    unit: str
    count: int
    mean: Estimate
    median: float
    between: float
    u: float
    probability: float
    apart: tuple[str, ...]

    def as_dict(self) -> dict[str, Any]:
        """Return the JSON form."""
        return {
            "value": self.mean.value, "unit": self.unit, "u": self.mean.u, "interval95": [self.mean.low, self.mean.high], "count": self.count, "median": self.median,
            "between_files": self.between, "typical_u": self.u, "probability": self.probability, "apart": list(self.apart),
        }  # fmt: skip


def files_of(folder: str) -> list[str]:
    """Return the captures of a folder, by name; raises Refusal where there are none."""
    path = Path(folder)
    if not path.is_dir():
        raise Refusal("this is no folder", "give the folder that holds the captures", where=folder)
    found = sorted(
        str(p) for p in path.iterdir() if p.suffix.lower() in (".csv", ".txt", ".tsv") and not p.name.startswith(".")
    )
    if not found:
        raise Refusal("it holds no captures", "files that end in .csv, .tsv or .txt are read", where=folder)
    if len(found) > MOST_FILES:
        raise Refusal(f"{len(found)} files are too many at once", f"at most {MOST_FILES} are read", where=folder)
    return found


def run_lot(
    work: Identification, files: Sequence[str], *, workers: int | None = None, scheduler: str | None = None, arrived: Callable[[int, Row], None] | None = None
) -> list[Row]:  # fmt: skip
    """Identify every file; the rows are in the order of the files."""
    return spread(work, files, workers=workers, scheduler=scheduler, arrived=arrived)


def agreement(rows: Sequence[Row]) -> list[Lot]:
    """Return what the lot agrees on, estimate by estimate, of those that at least two files have."""
    from scipy import special  # a quarter of a second to load

    names = list(dict.fromkeys(name for row in rows for name in row.estimates))
    found = []
    for name in names:
        have = [row for row in rows if name in row.estimates]
        if len(have) < 2:
            continue
        estimates = [row.estimates[name] for row in have]
        values, u = np.array([e.value for e in estimates]), np.array([e.u for e in estimates])
        unit = estimates[0].unit
        exact = bool(np.all(u > 0))
        weight = 1 / u**2 if exact else np.ones(len(u))
        off = values - float(np.sum(weight * values) / np.sum(weight))
        by_chance = float(special.chdtrc(len(values) - 1, float(np.sum((off / u) ** 2)))) if exact else 1.0
        middle, typical = float(np.median(values)), float(np.median(u))
        robust = 1.4826 * float(np.median(np.abs(values - middle)))
        scale = np.hypot(max(robust, 1e-12 * abs(middle)), u)
        apart = tuple(
            row.file
            for row, off in zip(have, np.abs(values - middle) / np.maximum(scale, 1e-300), strict=True)
            if off > APART
        )
        inside = np.array([row.file not in apart for row in have])
        between = float(np.std(values[inside], ddof=1)) if inside.sum() > 1 else 0.0
        mean = Estimate.from_u(
            float(np.mean(values[inside])),
            unit,
            between / math.sqrt(max(int(inside.sum()), 1)),
            dof=max(int(inside.sum()) - 1, 1),
        )
        found.append(Lot(name, unit, len(have), mean, median=middle, between=between, u=typical, probability=by_chance, apart=apart))
    return found


def lot_findings(rows: Sequence[Row], lots: Sequence[Lot]) -> list[Finding]:
    """Say what stands out of a lot."""
    found = []
    refused = [row for row in rows if row.refusal]
    if refused:
        text = f"{len(refused)} of {len(rows)} files were refused; the first: {refused[0].refusal}"
        found.append(Finding("caution", "files-refused", text))
    for lot in lots:
        if lot.apart:
            names = ", ".join(lot.apart[:5]) + (f" and {len(lot.apart) - 5} more" if len(lot.apart) > 5 else "")
            found.append(
                Finding(
                    "caution",
                    "file-apart",
                    f"{lot.name.replace('_', ' ')}: {names} stand{'s' if len(lot.apart) == 1 else ''} apart from {show(lot.median, lot.unit, 4)}.",
                )
            )
        elif lot.probability < 0.01:
            text = f"{lot.name.replace('_', ' ')}: the files differ by {show(lot.between, lot.unit)}, more than their error bars of {show(lot.u, lot.unit)} explain: the parts differ, or the conditions."
            found.append(Finding("info", "files-differ", text))
    return found


def as_csv(rows: Sequence[Row]) -> str:
    """Return the table: a line a file, each estimate with its standard uncertainty and interval, the findings' codes, the refusal."""
    names = list(dict.fromkeys(name for row in rows for name in row.estimates))
    units = {name: next(row.estimates[name].unit for row in rows if name in row.estimates) for name in names}
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    header = ["file"]
    for name in names:
        unit = f" [{units[name]}]" if units[name] else ""
        header += [f"{name}{unit}", f"{name}_u{unit}", f"{name}_low{unit}", f"{name}_high{unit}"]
    writer.writerow([*header, "findings", "refusal"])
    for row in rows:
        cells = [csv_cell(line(row.file))]
        for name in names:
            e = row.estimates.get(name)
            cells += ["", "", "", ""] if e is None else [f"{x:.9g}" for x in (e.value, e.u, e.low, e.high)]
        codes = " ".join(f"{f.level}:{f.code}" for f in row.findings)
        writer.writerow([*cells, codes, csv_cell(line(row.refusal))])
    return out.getvalue()


def write_table(path: Path, rows: Sequence[Row]) -> None:
    """Write the table."""
    write_atomically(path, as_csv(rows))
