"""``identify``: captures in, motor constants out."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Annotated

import typer

from crisp_compass.cli.output import command, emit, estimate_line, new_file, number, refuse_idle
from crisp_compass.errors import Refusal
from crisp_compass.quantities import show

if TYPE_CHECKING:
    from crisp_compass.capture.model import Capture
    from crisp_compass.estimates import Result

identify = typer.Typer(help="Motor constants from captures.", no_args_is_help=True)

CaptureFile = Annotated[str, typer.Argument(metavar="FILE", help="Capture, CSV.")]
FileOrBatch = Annotated[
    str, typer.Argument(metavar="FILE", help="Capture, CSV; none with --batch.", show_default=False)
]
Batch = Annotated[str | None, typer.Option(metavar="DIR", help="Every capture of a folder instead of one file.")]
Table = Annotated[
    str | None,
    typer.Option("-o", "--output", metavar="TABLE.csv", help="With --batch: a row for each file, refusals too."),
]
Workers = Annotated[int | None, typer.Option(help="Local processes; one a processor if left out.")]
Scheduler = Annotated[
    str | None, typer.Option(metavar="tcp://HOST:PORT", help="A cluster of Dask instead of local processes.")
]
Columns = Annotated[
    list[str] | None,
    typer.Option("--column", metavar="NAME=[-]SOURCE[*FACTOR]", help="Map, flip and scale a channel: i_a=-CH2*10."),
]
Family = Annotated[
    str | None,
    typer.Option(help="Kind of motor: pm, stepper, brushed or induction; else the capture's note, else pm."),
]
Force = Annotated[bool, typer.Option("--force", help="Replace a file that this program did not write.")]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON object.")]


@dataclass(frozen=True)
class Lot:
    """What is said of a folder: which, the table to write, and who works."""

    folder: str | None
    output: str | None
    workers: int | None
    scheduler: str | None
    force: bool


def answer(
    name: str,
    json: bool,
    solve: Callable[[Capture], Result],
    file: str,
    column: Sequence[str] | None,
    lot: Lot,
    *,
    need_time: bool = True,
) -> None:
    """Print what an identification says of one file, or of every capture of a folder."""
    from crisp_compass.capture import read_capture

    if lot.folder is None:
        idle = {"--output": lot.output, "--workers": lot.workers, "--scheduler": lot.scheduler, "--force": lot.force}
        refuse_idle("one file", idle)
        if not file:
            raise Refusal("it is missing", "give a capture, or --batch with a folder", where="FILE")
        found = solve(read_capture(file, column or (), need_time=need_time))
        try:
            emit(f"identify {name}", json, estimates=found.estimates, method=found.method, findings=found.findings)
        except Refusal as refusal:
            raise refusal.at(file) from None
        return
    _lot(name, json, solve, file, column=column, folder=lot.folder, lot=lot, need_time=need_time)


def _lot(
    name: str,
    json: bool,
    solve: Callable[[Capture], Result],
    file: str,
    column: Sequence[str] | None,
    folder: str,
    lot: Lot,
    need_time: bool,
) -> None:
    from crisp_compass.studies.lot import Identification, agreement, files_of, lot_findings, run_lot, write_table

    refuse_idle("--batch", {"FILE": file or None})
    files = files_of(folder)
    target = None if lot.output is None else new_file(lot.output, *files, force=lot.force)
    work = Identification(solve, tuple(column or ()), need_time)
    rows = run_lot(work, files, workers=lot.workers, scheduler=lot.scheduler)
    if target is not None:
        write_table(target, rows)
    lots = agreement(rows)
    refused = sum(bool(row.refusal) for row in rows)
    keys = {"files": len(rows), "refused": refused, "agreement": {found.name: found.as_dict() for found in lots}}
    text = [f"{len(rows)} files, {refused} refused"]
    text += [
        f"{estimate_line(found.name, found.mean)}  between files {show(found.between, found.unit)}, {found.count} files"
        for found in lots
    ]
    emit(f"identify {name}", json, findings=lot_findings(rows, lots), keys=keys, text=text)


@identify.command("resistance")
@command
def resistance(
    file: FileOrBatch = "",
    column: Columns = None,
    temperature: Annotated[
        float | None, typer.Option(parser=number("degC"), help="Winding temperature during the capture, °C.")
    ] = None,
    reference_temperature: Annotated[
        float | None, typer.Option(parser=number("degC"), help="Temperature to bring the result to, °C.")
    ] = None,
    temperature_rule: Annotated[str, typer.Option(help="Copper's rule: iec (235) or ieee (234.5).")] = "iec",
    family: Family = None,
    batch: Batch = None,
    output: Table = None,
    workers: Workers = None,
    scheduler: Scheduler = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Phase resistance from a DC staircase (v_ab and i_a, or v_cmd and i_a; a stepper's v_a and i_a, an armature's v_m and i_m)."""
    from crisp_compass.identify.resistance import fit_resistance

    if temperature_rule == "ieee" and reference_temperature is None:
        raise Refusal(
            "it has no effect without --reference-temperature", "give both or none", where="--temperature-rule"
        )
    if temperature_rule not in ("iec", "ieee"):
        raise Refusal(f"“{temperature_rule}” is no rule", "use iec or ieee", where="--temperature-rule")
    solve = partial(
        fit_resistance,
        family=family,
        temperature_c=temperature,
        reference_c=reference_temperature,
        rule=temperature_rule,
    )
    answer("resistance", json, solve, file, column=column, lot=Lot(batch, output, workers, scheduler, force=force))


@identify.command("inductance")
@command
def inductance(
    file: FileOrBatch = "",
    column: Columns = None,
    family: Family = None,
    batch: Batch = None,
    output: Table = None,
    workers: Workers = None,
    scheduler: Scheduler = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Phase inductance and resistance from voltage steps or an injected sine, rotor held; channels as for the resistance."""
    from crisp_compass.identify.inductance import fit_inductance

    answer(
        "inductance", json, partial(fit_inductance, family=family), file, column=column, lot=Lot(batch, output, workers, scheduler, force=force)
    )


@identify.command("flux")
@command
def flux(
    file: FileOrBatch = "",
    column: Columns = None,
    pole_pairs: Annotated[int | None, typer.Option(help="Pole pairs, if known.")] = None,
    turns: Annotated[
        float | None, typer.Option(parser=number(""), help="Turns of the shaft counted by hand, for the pole pairs.")
    ] = None,
    r: Annotated[
        float | None,
        typer.Option(
            parser=number("Ω", "resistance"), help="Phase resistance in Ω, for a running motor whose current follows its speed."
        ),
    ] = None,
    family: Family = None,
    batch: Batch = None,
    output: Table = None,
    workers: Workers = None,
    scheduler: Scheduler = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Flux linkage from open-circuit voltages of a turning or coasting motor, or from v_q, i_q and speed of a running one; of a
    brushed motor Ke from v_m and speed."""
    from crisp_compass.identify.any_flux import fit_any_flux

    solve = partial(fit_any_flux, pole_pairs=pole_pairs, turns=turns, r=r, family=family)
    answer("flux", json, solve, file, column=column, lot=Lot(batch, output, workers, scheduler, force=force))


@identify.command("induction")
@command
def induction(
    no_load: Annotated[str | None, typer.Option(metavar="FILE", help="Shaft free: v_ab v_bc i_a i_b.")] = None,
    locked: Annotated[str | None, typer.Option(metavar="FILE", help="Shaft locked: v_ab v_bc i_a i_b.")] = None,
    decay: Annotated[
        str | None, typer.Option(metavar="FILE", help="Open line voltages after cut-off, rotor turning.")
    ] = None,
    pole_pairs: Annotated[int | None, typer.Option(help="Pole pairs.")] = None,
    stator_resistance: Annotated[
        float | None, typer.Option(parser=number("Ω", "resistance"), help="Resistance of one phase of the star, Ω.")
    ] = None,
    dc: Annotated[
        str | None, typer.Option(metavar="FILE", help="DC levels between A and B (v_ab, i_a) for that resistance.")
    ] = None,
    column: Columns = None,
    json: Json = False,
) -> None:
    """Circuit of an induction motor from a no-load and a locked test, or its rotor time constant from the decay after cut-off."""
    from crisp_compass.capture import read_capture
    from crisp_compass.estimates import Estimate
    from crisp_compass.identify.decay import fit_decay
    from crisp_compass.identify.induction import check_pole_pairs, fit_induction
    from crisp_compass.identify.resistance import fit_resistance

    check_pole_pairs(pole_pairs)
    if decay is not None:
        refuse_idle(
            "--decay",
            {"--no-load": no_load, "--locked": locked, "--stator-resistance": stator_resistance, "--dc": dc},
        )
        faded = fit_decay(read_capture(decay, column or ()))
        emit("identify induction", json, estimates=faded.estimates, method=faded.method, findings=faded.findings)
        return
    for file, option in ((no_load, "--no-load"), (locked, "--locked")):
        if file is None:
            raise Refusal("its capture is missing", "give both tests, or --decay alone", where=option)
    if (stator_resistance is None) == (dc is None):
        raise Refusal(
            "the stator's resistance is needed once", "give --stator-resistance or --dc", where="--stator-resistance"
        )
    assert no_load is not None
    assert locked is not None
    findings = []
    if dc is not None:
        levels = fit_resistance(read_capture(dc, column or ()), family="induction")
        stator, findings = levels.estimates["resistance"], list(levels.findings)
    else:
        assert stator_resistance is not None
        if not stator_resistance > 0:
            raise Refusal("it must be above zero", where="--stator-resistance")
        stator = Estimate.from_u(stator_resistance, "Ω", 0.0)
    found = fit_induction(read_capture(no_load, column or ()), read_capture(locked, column or ()), stator=stator)
    emit(
        "identify induction",
        json,
        estimates=found.estimates,
        method=found.method,
        findings=[*findings, *found.findings],
    )


@identify.command("saturation")
@command
def saturation(
    file: FileOrBatch = "",
    column: Columns = None,
    batch: Batch = None,
    output: Table = None,
    workers: Workers = None,
    scheduler: Scheduler = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Inductance against current from voltage steps that reach different currents, rotor held (v_ab and i_a)."""
    from crisp_compass.identify.saturation import fit_saturation

    answer("saturation", json, fit_saturation, file, column=column, lot=Lot(batch, output, workers, scheduler, force=force))


@identify.command("saliency")
@command
def saliency(
    file: FileOrBatch = "",
    column: Columns = None,
    pole_pairs: Annotated[int | None, typer.Option(help="Pole pairs, if not noted in the file.")] = None,
    batch: Batch = None,
    output: Table = None,
    workers: Workers = None,
    scheduler: Scheduler = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Ld and Lq from inductance read at many rotor angles (angle and l_ab); no time column needed."""
    from crisp_compass.identify.saliency import fit_saliency

    solve = partial(fit_saliency, pole_pairs=pole_pairs)
    answer("saliency", json, solve, file, column=column, lot=Lot(batch, output, workers, scheduler, force=force), need_time=False)


@identify.command("mechanics")
@command
def mechanics(
    file: FileOrBatch = "",
    column: Columns = None,
    kt: Annotated[
        float | None, typer.Option(parser=number("N·m/A", "kt"), help="Torque constant, N·m per A of phase peak.")
    ] = None,
    inertia: Annotated[
        float | None, typer.Option(parser=number("kg·m²", "inertia"), help="Known inertia, kg·m²: friction from a coast alone.")
    ] = None,
    batch: Batch = None,
    output: Table = None,
    workers: Workers = None,
    scheduler: Scheduler = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Inertia and friction from a run-up and a coast (speed and i_q), or friction from a coast alone."""
    from crisp_compass.identify.mechanics import fit_mechanics

    if inertia is not None:
        refuse_idle("--inertia", {"--kt": kt})
    answer(
        "mechanics",
        json,
        partial(fit_mechanics, kt=kt, inertia=inertia),
        file,
        column=column,
        lot=Lot(batch, output, workers, scheduler, force=force),
    )


@identify.command("resonance")
@command
def resonance(
    file: CaptureFile,
    kt: Annotated[float | None, typer.Option(parser=number("N·m/A", "kt"), help="Torque constant, N·m per A of i_q; without it no inertia is told.")] = None,
    column: Columns = None,
    json: Json = False,
) -> None:
    """Resonance, antiresonance and damping of a shaft that twists, and the part of the inertia behind it, from a noise or a sweep (speed, i_q, speed_ref)."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.resonance import fit_resonance

    found = fit_resonance(read_capture(file, column or ()), kt=kt)
    emit("identify resonance", json, estimates=found.estimates, method=found.method, findings=found.findings, keys={"reach_hz": found.reach})


@identify.command("heating")
@command
def heating(
    file: CaptureFile,
    temperature: Annotated[float | None, typer.Option(parser=number("degC"), help="Temperature of the cold motor at the start, where its resistance tells the temperature.")] = None,
    loss: Annotated[float | None, typer.Option(parser=number("W"), help="Loss in W that had warmed the motor through before the capture began.")] = None,
    lead: Annotated[float, typer.Option(parser=number("Ω"), help="Leads in series with the winding, Ω.")] = 0.0,
    family: Family = None,
    column: Columns = None,
    json: Json = False,
) -> None:
    """Thermal resistances and time constants of a motor that is warmed or cools (voltage and current, or temp)."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.heating import fit_heating

    found = fit_heating(read_capture(file, column or ()), start=temperature, loss=loss, lead=lead, family=family)
    emit("identify heating", json, estimates=found.estimates, method=found.method, findings=found.findings)


@identify.command("speed-response")
@command
def speed_response(
    file: CaptureFile,
    kt: Annotated[float, typer.Option(parser=number("N·m/A", "kt"), help="Torque constant, N·m per A of i_q.")],
    column: Columns = None,
    json: Json = False,
) -> None:
    """Inertia, friction and the speed measurement's delay from steps of reference or load (speed_ref, speed and i_q)."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.speed_response import fit_speed_response

    found = fit_speed_response(read_capture(file, column or ()), kt=kt)
    keys = {
        "overshoot_pct": found.overshoot_pct,
        "rise_time_s": found.rise_time,
        "settling_time_s": found.settling_time,
    }
    text = [
        f"Step: overshoot {found.overshoot_pct:.1f} %, rise {found.rise_time:.4g} s, within ±2 % after {found.settling_time:.4g} s"
    ]
    emit(
        "identify speed-response",
        json,
        estimates=found.estimates,
        method=found.method,
        findings=found.findings,
        keys=keys,
        text=text,
    )
