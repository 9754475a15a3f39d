"""Saving the record as the file's name asks: one place for the window and the commands."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from crisp_compass.bench.models import Bench
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically


def get_ready() -> None:
    """Load what a record takes, by writing an empty one nowhere."""
    from crisp_compass.record.pdf import write_pdf

    write_pdf(Bench(), Path(), "")


def save_record(path: Path, bench: Bench, base: Path, when: str, picked: Collection[str] = ()) -> str:
    """Write the record as HTML or PDF and return the file's name; the other arguments as for ``record.report.write_report``.

    Raises Refusal where the name ends in neither, or the file cannot be written.
    """
    kind = path.suffix.lower()
    if kind == ".pdf":
        from crisp_compass.record.pdf import write_pdf

        write_atomically(path, write_pdf(bench, base, when, picked))
    elif kind in (".html", ".htm"):
        from crisp_compass.record.report import write_report

        write_atomically(path, write_report(bench, base, when, picked))
    else:
        raise Refusal(
            f"a record cannot be written as “{path.suffix}”", "end the name in .html or .pdf", where=str(path)
        )
    return path.name
