"""Commands that take a bench file: ``simulate``, ``check``, ``export``, ``report``."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crisp_compass.cli.identify import Force, Json
from crisp_compass.cli.output import command, emit, new_file, new_files
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding

if TYPE_CHECKING:
    from crisp_compass.bench import Bench

BenchFile = Annotated[str, typer.Argument(metavar="BENCH", help="Bench file, NAME.bench.json.")]


@command
def simulate(
    bench: BenchFile,
    output: Annotated[str, typer.Option("-o", "--output", help="Capture to write, CSV.")],
    scenario: Annotated[str, typer.Option(help="speed-step, load-step, reversal or current-step.")] = "speed-step",
    seed: Annotated[int, typer.Option(help="Seed of the measurement noise.")] = 1,
    force: Force = False,
    json: Json = False,
) -> None:
    """Run the simulated drive through a scenario and write a capture."""
    from crisp_compass.bench import load_bench
    from crisp_compass.capture import write_capture
    from crisp_compass.studies.scenarios import capture_columns, run_scenario

    loaded = load_bench(bench)
    path = new_file(output, bench, force=force)
    try:
        trace, fault = run_scenario(loaded, scenario, seed=seed)
    except Refusal as refusal:
        raise refusal.at(bench) from None
    notes = {"bench": loaded.name, "scenario": scenario, "origin": "simulated"}
    write_capture(path, trace["t"], capture_columns(trace), notes)
    findings = (
        [Finding("caution", f"fault-{fault}", f"The drive tripped during the scenario: {fault}.")] if fault else []
    )
    emit(
        "simulate",
        json,
        findings=findings,
        keys={"scenario": scenario, "output": output, "rows": len(trace["t"])},
        text=[f"{len(trace['t'])} rows written to {output}"],
    )


@command
def check(bench: BenchFile, json: Json = False) -> None:
    """Say what is settled, what is stale and what blocks the next step."""
    from crisp_compass.bench import load_bench
    from crisp_compass.course.open_points import check_bench

    emit("check", json, findings=check_bench(load_bench(bench)))


@command
def export(
    bench: BenchFile,
    output: Annotated[str, typer.Option("-o", "--output", help="File to write; a folder for firmware.")],
    format: Annotated[str, typer.Option(help="One of c-header, json, csv, c-step-table, firmware.")] = "c-header",
    force: Force = False,
    json: Json = False,
) -> None:
    """Write the settled settings, or the whole firmware as a folder of C that compiles as it is."""
    from crisp_compass.bench import load_bench
    from crisp_compass.course.open_points import check_bench
    from crisp_compass.files import write_atomically
    from crisp_compass.record.formats import export_settings

    loaded = load_bench(bench)
    findings = []
    if format == "firmware":
        text = _firmware(loaded, bench, output, force=force)
        findings += [Finding("caution", "left-out", sentence) for sentence in text[1:]]
    else:
        path = new_file(output, bench, force=force)
        try:
            written = export_settings(loaded, format)
        except Refusal as refusal:
            raise refusal.at(bench) from None
        write_atomically(path, written)
        text = [f"Written to {output}"]
    findings += [f for f in check_bench(loaded) if f.level != "info"]
    emit("export", json, findings=findings, keys={"format": format, "output": output}, text=text[:1])


def _firmware(loaded: Bench, bench: str, output: str, *, force: bool) -> list[str]:
    """Write the folder of firmware; return what was done, then why anything was left out."""
    from crisp_compass.firmware.save import make_firmware, write_files

    folder = Path(output)
    if folder.exists() and not folder.is_dir():
        raise Refusal("this is no folder", "name a folder; several files go into it", where=output)
    try:
        made = make_firmware(loaded, datetime.now().isoformat(" ", "minutes"))
    except Refusal as refusal:
        raise refusal.at(bench) from None
    fresh, kept = made.fresh(folder), made.kept(folder)
    new_files(folder, [s.name for s in fresh], force=force)
    write_files(folder, fresh)
    told = f"{len(fresh)} files written to {output}" + (f"; {', '.join(kept)} left as it is" if kept else "")
    return [told, *made.left_out]


@command
def report(
    bench: BenchFile,
    output: Annotated[str, typer.Option("-o", "--output", help="FILE.html or FILE.pdf")],
    force: Force = False,
    json: Json = False,
) -> None:
    """Write the record of the bench as one HTML or PDF file."""
    from crisp_compass.bench import load_bench
    from crisp_compass.course.open_points import check_bench
    from crisp_compass.record.save import save_record

    loaded = load_bench(bench)
    save_record(new_file(output, bench, force=force), loaded, Path(bench).parent, datetime.now().isoformat(" ", "minutes"))
    findings = [f for f in check_bench(loaded) if f.level != "info"]
    emit("report", json, findings=findings, keys={"output": output}, text=[f"Written to {output}"])
