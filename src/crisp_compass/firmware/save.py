"""Making the folder's files and putting them where they belong: one place for the window and the command."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from crisp_compass.bench.models import Bench
from crisp_compass.files import write_atomically
from crisp_compass.firmware.folder import files_of, left_out
from crisp_compass.firmware.plan import plan_of
from crisp_compass.firmware.render import SourceFile
from crisp_compass.firmware.vectors import all_vectors
from crisp_compass.outputs import remember


@dataclass(frozen=True)
class Made:
    """The files of a folder, and why any was left out, a sentence each."""

    files: tuple[SourceFile, ...]
    left_out: tuple[str, ...]

    def fresh(self, folder: Path) -> list[SourceFile]:
        """Return the files that would be written there: what people fill in is left alone once it exists."""
        return [f for f in self.files if not (f.own and (folder / f.name).exists())]

    def kept(self, folder: Path) -> list[str]:
        """Return the names of the files that are left alone."""
        return [f.name for f in self.files if f.own and (folder / f.name).exists()]


def make_firmware(bench: Bench, when: str) -> Made:
    """Return all files for a bench; plays the simulated drive for the vectors. Raises Refusal naming what the bench lacks."""
    plan = plan_of(bench)
    return Made(tuple(files_of(plan, all_vectors(plan), when)), tuple(left_out(plan)))


def write_files(folder: Path, files: Sequence[SourceFile]) -> None:
    """Write files into a folder, which is made where it is missing; raises Refusal where one cannot be written."""
    for source in files:
        path = folder / source.name
        path.parent.mkdir(parents=True, exist_ok=True)
        write_atomically(path, source.text)
    remember(folder / source.name for source in files)
