"""The whole command tree: the commands of the core, and those that open the window themselves."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from crisp_compass.cli.main import app, run
from crisp_compass.cli.output import command

__all__ = ["run"]


@command
def tour(
    out: Annotated[str, typer.Option("--out", help="folder for the pictures")],
    size: Annotated[str, typer.Option("--size", help="of the window, like 1280x800")] = "1280x800",
    brief: Annotated[bool, typer.Option("--brief", help="only a few views")] = False,
) -> None:
    """Write a picture of every main view."""
    from crisp_compass.app.tour import write_tour  # Qt is loaded by nobody else

    for path in write_tour(Path(out), size, brief=brief):
        print(path)


@command
def benchmark(as_json: Annotated[bool, typer.Option("--json", help="as one JSON object")] = False) -> None:
    """Measure what this machine does with the program."""
    from crisp_compass.benchmark import machine, measure

    figures = measure()
    if as_json:
        print(json.dumps({"command": "benchmark", **figures, "machine": machine(), "findings": []}))
        return
    print(f"realtime factor      {figures['realtime_factor']:.0f} simulated seconds per second")
    print(f"start-up             {figures['startup_s']:.2f} s to a painted window")
    print(f"capture reading      {figures['capture_rows_per_s'] / 1e6:.2f} million rows per second")
    print("machine              " + ", ".join(str(v) for v in machine().values()))


for function in (tour, benchmark):
    app.command()(function)
