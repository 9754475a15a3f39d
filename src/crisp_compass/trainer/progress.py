"""What somebody has done of the drills, kept in the person's own data folder, and exported."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from pathlib import Path

import platformdirs
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically
from crisp_compass.safe_text import csv_cell

#: Results that are kept.
MOST = 5000


class Result(BaseModel):
    """One drill done: which, on which seed, when, and how it went."""

    model_config = ConfigDict(frozen=True)

    drill: str = Field(max_length=60)
    seed: int
    when: str = Field(max_length=40)
    points: float
    passed: bool
    minutes: float
    hints: int


def default_file() -> Path:
    """Return where the results are kept."""
    return Path(platformdirs.user_data_dir("crisp-compass")) / "drills.json"


def load_results(path: Path) -> list[Result]:
    """Return what was done; a file that is not there, or not whole, is none."""
    try:
        return [Result.model_validate(r) for r in json.loads(path.read_text(encoding="utf-8"))][-MOST:]
    except (OSError, ValueError, ValidationError, TypeError):
        return []


def keep_result(path: Path, result: Result) -> list[Result]:
    """Add a result and return all; raises Refusal where it cannot be written."""
    results = [*load_results(path), result][-MOST:]
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise Refusal(f"the result could not be kept: {error.strerror or error}", f"make room or rights for {path.parent}") from None
    write_atomically(path, json.dumps([r.model_dump() for r in results], indent=1))
    return results


def best(results: Sequence[Result], drill: str) -> Result | None:
    """Return the best result of a drill."""
    own = [r for r in results if r.drill == drill]
    return max(own, key=lambda r: (r.passed, r.points)) if own else None


def as_csv(results: Sequence[Result]) -> str:
    """Return the results as a table."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["drill", "seed", "when", "points", "passed", "minutes", "hints"])
    for r in results:
        writer.writerow([csv_cell(r.drill), r.seed, csv_cell(r.when), f"{r.points:.0f}", "yes" if r.passed else "no", f"{r.minutes:.0f}", r.hints])
    return out.getvalue()
