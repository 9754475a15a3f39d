"""``identify``: captures in, motor constants out."""

from __future__ import annotations

from typing import Annotated

import typer

from crisp_compass.cli.output import command, emit, number, refuse_idle
from crisp_compass.errors import Refusal

identify = typer.Typer(help="Motor constants from captures.", no_args_is_help=True)

CaptureFile = Annotated[str, typer.Argument(metavar="FILE", help="Capture, CSV.")]
Columns = Annotated[
    list[str] | None,
    typer.Option("--column", metavar="NAME=[-]SOURCE[*FACTOR]", help="Map, flip and scale a channel: i_a=-CH2*10."),
]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON object.")]


@identify.command("resistance")
@command
def resistance(
    file: CaptureFile,
    column: Columns = None,
    temperature: Annotated[
        float | None, typer.Option(parser=number("degC"), help="Winding temperature during the capture, °C.")
    ] = None,
    reference_temperature: Annotated[
        float | None, typer.Option(parser=number("degC"), help="Temperature to bring the result to, °C.")
    ] = None,
    temperature_rule: Annotated[str, typer.Option(help="Copper's rule: iec (235) or ieee (234.5).")] = "iec",
    json: Json = False,
) -> None:
    """Phase resistance from a DC staircase (v_ab and i_a, or v_cmd and i_a)."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.resistance import fit_resistance

    if temperature_rule == "ieee" and reference_temperature is None:
        raise Refusal(
            "it has no effect without --reference-temperature", "give both or none", where="--temperature-rule"
        )
    if temperature_rule not in ("iec", "ieee"):
        raise Refusal(f"“{temperature_rule}” is no rule", "use iec or ieee", where="--temperature-rule")
    capture = read_capture(file, column or ())
    result = fit_resistance(
        capture, temperature_c=temperature, reference_c=reference_temperature, rule=temperature_rule
    )
    emit("identify resistance", json, estimates=result.estimates, method=result.method, findings=result.findings)


@identify.command("inductance")
@command
def inductance(file: CaptureFile, column: Columns = None, json: Json = False) -> None:
    """Phase inductance and resistance from voltage steps or an injected sine (v_ab and i_a), rotor held."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.inductance import fit_inductance

    result = fit_inductance(read_capture(file, column or ()))
    emit("identify inductance", json, estimates=result.estimates, method=result.method, findings=result.findings)


@identify.command("flux")
@command
def flux(
    file: CaptureFile,
    column: Columns = None,
    pole_pairs: Annotated[int | None, typer.Option(help="Pole pairs, if known.")] = None,
    turns: Annotated[
        float | None, typer.Option(parser=number(""), help="Turns of the shaft counted by hand, for the pole pairs.")
    ] = None,
    r: Annotated[
        float | None,
        typer.Option(
            parser=number("Ω"), help="Phase resistance in Ω, for a running motor whose current follows its speed."
        ),
    ] = None,
    json: Json = False,
) -> None:
    """Flux linkage from open-circuit voltages of a turning or coasting motor, or from v_q, i_q and speed of a running one."""
    from crisp_compass.capture import read_capture
    from crisp_compass.estimates import Result
    from crisp_compass.identify.emf import GEOMETRY
    from crisp_compass.identify.flux import fit_flux
    from crisp_compass.identify.running import fit_running

    capture = read_capture(file, column or ())
    running = "v_q" in capture and not any(name in capture for name in GEOMETRY)
    refuse_idle(
        "a running motor (v_q)" if running else "open-circuit voltages", {"--turns": turns} if running else {"--r": r}
    )
    result: Result = (
        fit_running(capture, pole_pairs=pole_pairs, r=r)
        if running
        else fit_flux(capture, pole_pairs=pole_pairs, turns=turns)
    )
    emit("identify flux", json, estimates=result.estimates, method=result.method, findings=result.findings)


@identify.command("saturation")
@command
def saturation(file: CaptureFile, column: Columns = None, json: Json = False) -> None:
    """Inductance against current from voltage steps that reach different currents, rotor held (v_ab and i_a)."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.saturation import fit_saturation

    result = fit_saturation(read_capture(file, column or ()))
    emit("identify saturation", json, estimates=result.estimates, method=result.method, findings=result.findings)


@identify.command("saliency")
@command
def saliency(
    file: CaptureFile,
    column: Columns = None,
    pole_pairs: Annotated[int | None, typer.Option(help="Pole pairs, if not noted in the file.")] = None,
    json: Json = False,
) -> None:
    """Ld and Lq from inductance read at many rotor angles (angle and l_ab); no time column needed."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.saliency import fit_saliency

    result = fit_saliency(read_capture(file, column or (), need_time=False), pole_pairs=pole_pairs)
    emit("identify saliency", json, estimates=result.estimates, method=result.method, findings=result.findings)


@identify.command("mechanics")
@command
def mechanics(
    file: CaptureFile,
    column: Columns = None,
    kt: Annotated[
        float | None, typer.Option(parser=number("N·m/A"), help="Torque constant, N·m per A of phase peak.")
    ] = None,
    inertia: Annotated[
        float | None, typer.Option(parser=number("kg·m²"), help="Known inertia, kg·m²: friction from a coast alone.")
    ] = None,
    json: Json = False,
) -> None:
    """Inertia and friction from a run-up and a coast (speed and i_q), or friction from a coast alone."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.mechanics import fit_mechanics

    if inertia is not None:
        refuse_idle("--inertia", {"--kt": kt})
    result = fit_mechanics(read_capture(file, column or ()), kt=kt, inertia=inertia)
    emit("identify mechanics", json, estimates=result.estimates, method=result.method, findings=result.findings)
