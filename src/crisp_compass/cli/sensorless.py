"""Running without a sensor: ``observe``."""

from __future__ import annotations

import math
from typing import Annotated

import typer

from crisp_compass.cli.identify import CaptureFile, Columns, Family, Force, Json
from crisp_compass.cli.output import command, emit, new_file, number
from crisp_compass.conversions import RPM_PER_RAD_S


@command
def observe(
    file: CaptureFile,
    r: Annotated[float, typer.Option("--r", parser=number("Ω", "resistance"), help="Phase resistance, Ω.")],
    ld: Annotated[float, typer.Option(parser=number("H", "ld"), help="d inductance, H.")],
    lq: Annotated[float, typer.Option(parser=number("H", "lq"), help="q inductance, H.")],
    psi: Annotated[float, typer.Option(parser=number("Wb", "flux_linkage"), help="Flux linkage, Wb (phase peak).")],
    pole_pairs: Annotated[int, typer.Option(help="Pole pairs.")],
    method: Annotated[str, typer.Option(help="back-emf or flux.")] = "back-emf",
    loop_hz: Annotated[
        float | None,
        typer.Option(
            parser=number("Hz"),
            help="Natural frequency of the phase-locked loop, Hz; from the capture's noise if left out.",
        ),
    ] = None,
    correction: Annotated[
        float | None, typer.Option(parser=number(""), help="Correction rate of the flux observer, 1/s.")
    ] = None,
    column: Columns = None,
    family: Family = None,
    output: Annotated[
        str | None, typer.Option("-o", "--output", metavar="OUT.csv", help="Rows of the estimate.")
    ] = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Angle and speed that a sensorless estimator finds in a capture of currents and voltages (i_a i_b, v_ab v_bc or v_a v_b v_c)."""
    from crisp_compass.capture import read_capture
    from crisp_compass.errors import Refusal
    from crisp_compass.sensorless.observe import observe as look
    from crisp_compass.sensorless.observe import write_rows

    if correction is not None and method != "flux":
        raise Refusal("it has no effect beside --method back-emf", "leave it out", where="--correction")
    target = None if output is None else new_file(output, file, force=force)
    found = look(
        read_capture(file, column or ()), r=r, ld=ld, lq=lq, psi=psi, pole_pairs=pole_pairs, method=method, family=family,
        loop_hz=loop_hz, correction=correction,
    )  # fmt: skip
    if target is not None:
        write_rows(target, found)
    keys: dict[str, object] = {"valid_from_s": found.valid_from}
    text = [
        f"Valid from {found.valid_from:.4g} s, {found.valid.mean() * 100:.1f} % of the rows"
        if found.valid_from is not None
        else "Valid nowhere"
    ]
    if found.error is not None:
        mean, rms, most = (math.degrees(x) for x in (found.error.mean, found.error.rms, found.error.most))
        keys["angle_error_deg"] = {"mean": mean, "rms": rms, "max": most}
        text.append(f"Error of the electrical angle: mean {mean:.2f}°, rms {rms:.2f}°, at most {most:.2f}°")
    elif found.deviation is not None:
        keys["angle_error_deg"] = {"mean": None, "rms": None, "max": None}
    # scripts read the speed in rpm; people are shown it so anyway
    estimates = {k: e.scaled(RPM_PER_RAD_S, "rpm") for k, e in found.estimates.items()} if json else found.estimates
    emit("observe", json, estimates=estimates, method=found.method, findings=found.findings, keys=keys, text=text)
