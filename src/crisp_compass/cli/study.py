"""``study``: questions answered by running the plant many times, on all processors or on a cluster."""

from __future__ import annotations

import csv
import io
from typing import Annotated, Any

import numpy as np
import typer

from crisp_compass.cli.bench import BenchFile
from crisp_compass.cli.identify import Force, Json, Scheduler, Workers
from crisp_compass.cli.output import command, emit, new_file, refuse_idle
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding

study = typer.Typer(help="Questions answered by running the plant many times.", no_args_is_help=True)


@study.command("start-map")
@command
def start_map(
    bench: BenchFile,
    across: Annotated[
        str,
        typer.Option(
            help="Lever across: load, ramp, current, hand_over, r_error, psi_error, inertia, align or saliency."
        ),
    ] = "load",
    up: Annotated[str, typer.Option(help="Lever up.")] = "ramp",
    size: Annotated[str, typer.Option(metavar="NxM", help="Cells across and up; 0x0 for the rate alone.")] = "20x20",
    draws: Annotated[int, typer.Option(help="Starts in each cell.")] = 5,
    tries: Annotated[int, typer.Option(help="Starts with everything unknown at once.")] = 400,
    seed: Annotated[int, typer.Option(help="The same seed gives the same answers on any number of workers.")] = 1,
    workers: Workers = None,
    scheduler: Scheduler = None,
    output: Annotated[
        str | None, typer.Option("-o", "--output", metavar="MAP.csv", help="A row for each cell.")
    ] = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Try the start without a sensor over two levers, and with everything unknown at once."""
    from crisp_compass.bench import load_bench
    from crisp_compass.files import write_atomically
    from crisp_compass.studies.start import OUTCOMES, require_start
    from crisp_compass.studies.start_map import check_levers, margin_text, margins, study_of, success_rate
    from crisp_compass.studies.start_map import start_map as make

    columns, rows = _size(size)
    if not 1 <= draws <= 1000 or not 1 <= tries <= 1_000_000:
        raise Refusal(
            f"{draws} draws and {tries} tries are not possible",
            "draws from 1 to 1,000, tries from 1 to 1,000,000",
            where="--draws",
        )
    if seed < 0:
        raise Refusal(f"{seed} is no seed", "use a whole number from 0", where="--seed")
    if columns and rows:
        check_levers(across, up)
    else:
        refuse_idle("--size 0x0", {"--output": output})
    loaded = load_bench(bench)
    target = None if output is None else new_file(output, bench, force=force)
    try:
        require_start(loaded)
        asked = study_of(loaded)
        if columns and rows:
            check_levers(across, up, asked.drive)
    except Refusal as refusal:
        raise refusal.at(bench) from None
    rate = success_rate(asked, tries=tries, seed=seed, workers=workers, scheduler=scheduler)
    keys: dict[str, Any] = {
        "success": {
            "rate": rate.share,
            "interval95": [rate.low, rate.high],
            "tries": rate.tries,
            "outcomes": rate.outcomes,
        },
        "levers": [across, up],
    }
    text = [
        f"{rate.share * 100:.1f} % of {rate.tries} starts succeed ({rate.low * 100:.1f} to {rate.high * 100:.1f} %)"
    ]
    if columns and rows:
        found = make(
            asked,
            across,
            up,
            columns=columns,
            rows=rows,
            draws=draws,
            seed=seed,
            workers=workers,
            scheduler=scheduler,
        )
        keys["margins"] = {name: [float(x) for x in pair] for name, pair in margins(found).items()}
        keys["cells"] = columns * rows
        keys["started"] = float(np.nanmean(found.rate))
        if target is not None:
            out = io.StringIO()
            writer = csv.writer(out, lineterminator="\n")
            writer.writerow([across, up, *(name.replace(" ", "_") for name in OUTCOMES)])
            for i, x in enumerate(found.x_shown):
                for j, y in enumerate(found.y_shown):
                    writer.writerow(
                        [
                            f"{x:.6g}",
                            f"{y:.6g}",
                            *(int((found.outcomes[i, j] == k).sum()) for k in range(len(OUTCOMES))),
                        ]
                    )
            write_atomically(target, out.getvalue())
        text += [margin_text(name, *pair, asked.drive) for name, pair in margins(found).items()]
    findings = []
    if rate.low < 0.9:
        failed = {name: count for name, count in rate.outcomes.items() if name != "started" and count}
        said = (
            f"{rate.share * 100:.0f} % of the starts succeed, perhaps only {rate.low * 100:.0f} %; most of the others {max(failed, key=lambda n: failed[n])}."
            if failed
            else (
                f"All {rate.tries} starts succeed, which are too few to tell: the rate may be {rate.low * 100:.0f} %. Use more --tries."
            )
        )
        findings.append(Finding("caution", "start-unsure", said))
    emit("study start-map", json, findings=findings, keys=keys, text=text)


def _size(text: str) -> tuple[int, int]:
    """Return the cells across and up of ``NxM``."""
    parts = text.lower().split("x")
    if len(parts) != 2 or not all(p.isascii() and p.isdigit() for p in parts):
        raise Refusal(f"“{text[:20]}” is no size", "write columns x rows, like 40x40", where="--size")
    columns, rows = int(parts[0]), int(parts[1])
    if max(columns, rows) > 400:
        raise Refusal(f"{text} cells are too many", "at most 400x400", where="--size")
    return columns, rows
