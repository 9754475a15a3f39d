"""The firmware's sources of a bench, flat in one folder, compiled and fed with rows."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np

from crisp_compass.bench import Bench
from crisp_compass.firmware.folder import files_of
from crisp_compass.firmware.plan import plan_of
from crisp_compass.firmware.played import Vectors

FLAGS = [
    "-O2", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wshadow", "-Wdouble-promotion", "-Wfloat-equal", "-Werror",
    "-ffp-contract=off",
]  # fmt: skip
NO_VECTORS = [Vectors("start", "\n", 0.0, 0.1, ())]


def write_sources(bench: Bench, folder: Path) -> None:
    """Write headers and sources of the drive, without vectors, into one folder."""
    for source in files_of(plan_of(bench), NO_VECTORS, "2026-05-12"):
        if source.name.startswith(("include/", "src/")):
            (folder / Path(source.name).name).write_text(source.text, encoding="ascii")


def run_rows(folder: Path, sources: str, main: str, rows: np.ndarray, *, ends: int = 0) -> np.ndarray:
    """Compile sources (names with blanks between) with a main, give it rows of numbers and return those it prints."""
    (folder / "main.c").write_text(main)
    (folder / "in.txt").write_text("\n".join(" ".join(f"{x:.9g}" for x in row) for row in rows) + "\n")
    for name in sources.split():
        subprocess.run(["gcc", "-std=c99", *FLAGS, "-c", name], cwd=folder, check=True, capture_output=True)
    objects = [name.replace(".c", ".o") for name in sources.split()]
    subprocess.run(["gcc", "-std=c99", "-O2", "main.c", *objects, "-o", "main", "-lm"], cwd=folder, check=True)
    done = subprocess.run("./main < in.txt", cwd=folder, shell=True, check=False, capture_output=True, text=True)
    assert done.returncode == ends
    return np.array([[float(x) for x in line.split()] for line in done.stdout.splitlines()])
