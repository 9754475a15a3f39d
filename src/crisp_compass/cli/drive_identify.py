"""``drive identify``: every capture taken through the drive, constants and gains settled on a bench, written back."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from crisp_compass.cli.bench import BenchFile
from crisp_compass.cli.drive import drive
from crisp_compass.cli.identify import Force, Json
from crisp_compass.cli.output import command, emit, new_file, new_files
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding


@drive.command("identify")
@command
def identify(
    bench: BenchFile,
    output: Annotated[str, typer.Option("-o", "--output", metavar="NEW.bench.json", help="The bench with all that was found; captures land beside it.")],
    link: Annotated[str | None, typer.Option("--link", help="tcp:HOST:PORT, pty:DEVICE or serial:DEVICE.")] = None,
    description: Annotated[str | None, typer.Option("--description", metavar="D.json", help="What the drive is: its registers by name.")] = None,
    arm: Annotated[bool, typer.Option("--arm", help="Motor clamped, load off, people clear: arm the drive and turn the shaft.")] = False,
    rehearse: Annotated[bool, typer.Option("--rehearse", help="Only on a simulated drive in this program: what would flow, how fast it would turn.")] = False,
    force: Force = False,
    json: Json = False,
) -> None:
    """Identify a drive end to end: R, L, flux, sensor, mechanics and gains, each by a capture that the program takes itself."""
    from crisp_compass.bench import load_bench

    loaded = load_bench(bench)
    if rehearse:
        _rehearse(loaded, bench, json)
        return
    if link is None or description is None:
        raise Refusal("no drive is named", "add --description too, or --rehearse", where="--link")
    if not arm:
        raise Refusal("this arms the drive and turns the shaft", "clamp the motor, take its load off, keep people clear, then add --arm", where="--arm")
    import time
    from datetime import datetime

    from crisp_compass.bench.store import save_bench
    from crisp_compass.drive.description import load_description
    from crisp_compass.drive.hand import Hand
    from crisp_compass.drive.identification import CAPTURES, Identification
    from crisp_compass.drive.identification_plan import Progress, bare
    from crisp_compass.drive.link import Link, open_link

    described = load_description(description)
    target = new_file(output, bench, description, force=force)
    prefix = target.name.removesuffix(".json").removesuffix(".bench")
    new_files(target.parent, [f"{prefix}-{name}.csv" for name in CAPTURES], force=force)
    steps: list[dict[str, Any]] = []

    def tell(progress: Progress) -> None:
        if progress.state != "runs":
            steps.append({"key": progress.step.key, "name": progress.step.name, "state": progress.state, "text": progress.text, "seconds": round(progress.took, 2)})

    with open_link(link, described) as line:
        if not isinstance(line, Link):
            raise Refusal("captures are read over Modbus", "name a link of that kind", where="--link")
        try:
            run = Identification(bare(loaded), Hand(line, described, time.sleep), target.parent, tell=tell, now=lambda: datetime.now().isoformat(timespec="seconds"), prefix=prefix)
        except Refusal as refusal:
            raise refusal.at(bench) from None
        refused = None
        try:
            run.run()
        except Refusal as refusal:
            refused = refusal
    save_bench(run.bench, target)
    findings = [*run.findings]
    if refused is not None:
        findings.append(Finding("stop", "identification-broke-off", f"{refused.sentence} What was found until then is in {target.name}."))
    settled = {
        f"{topic}.{name}": {"value": q.value, "unit": q.unit, "u": q.u, "interval95": q.interval95}
        for topic, found in run.bench.settled.items() if topic != "plate" for name, q in found.values.items()
    }  # fmt: skip
    text = [f"{s['name']:52}{s['seconds']:6.1f} s  {s['text']}" for s in steps]
    emit("drive identify", json, findings=findings, keys={"steps": steps, "settled": settled, "output": output}, text=text)


def _rehearse(loaded: Any, bench: str, json: bool) -> None:
    from crisp_compass.drive.rehearsal import rehearse as run

    try:
        found = run(loaded)
    except Refusal as refusal:
        raise refusal.at(bench) from None
    keys = {"largest_current": found.current, "largest_speed_rad_s": found.speed, "seconds": found.seconds, "presumed": list(found.presumed)}
    text = [f"at most {found.current:.3g} A and {found.speed:.4g} rad/s, {found.seconds:.0f} s on the drive"]
    if found.presumed:
        text.append(f"presumed, as nobody said: {', '.join(found.presumed)}")
    emit("drive identify", json, findings=[], keys=keys, text=text)
