"""``identify`` and ``commutation``: captures in, constants out."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

import typer

from crisp_compass.cli.output import command, emit
from crisp_compass.errors import Refusal

identify = typer.Typer(help="Motor constants from captures.", no_args_is_help=True)
commutation = typer.Typer(help="Angle sensors from captures.", no_args_is_help=True)

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
    temperature: Annotated[float | None, typer.Option(help="Winding temperature during the capture, °C.")] = None,
    reference_temperature: Annotated[
        float | None, typer.Option(help="Temperature to bring the result to, °C.")
    ] = None,
    temperature_rule: Annotated[str, typer.Option(help="Copper's rule: iec (235) or ieee (234.5).")] = "iec",
    json: Json = False,
) -> None:
    """Phase resistance from a DC staircase (v_ab and i_a, or v_cmd and i_a)."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.resistance import fit_resistance

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
        float | None, typer.Option(help="Turns of the shaft counted by hand, for the pole pairs.")
    ] = None,
    r: Annotated[
        float | None, typer.Option(help="Phase resistance in Ω, for a running motor whose current follows its speed.")
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
    kt: Annotated[float | None, typer.Option(help="Torque constant, N·m per A of phase peak.")] = None,
    inertia: Annotated[float | None, typer.Option(help="Known inertia, kg·m²: friction from a coast alone.")] = None,
    json: Json = False,
) -> None:
    """Inertia and friction from a run-up and a coast (speed and i_q), or friction from a coast alone."""
    from crisp_compass.capture import read_capture
    from crisp_compass.identify.mechanics import fit_mechanics

    result = fit_mechanics(read_capture(file, column or ()), kt=kt, inertia=inertia)
    emit("identify mechanics", json, estimates=result.estimates, method=result.method, findings=result.findings)


@commutation.command("halls")
@command
def halls(file: CaptureFile, column: Columns = None, json: Json = False) -> None:
    """Hall table from halls and at least two line voltages of a turned shaft."""
    from crisp_compass.capture import read_capture
    from crisp_compass.commutation.halls import read_halls
    from crisp_compass.commutation.mend import mends

    table = read_halls(read_capture(file, column or ()))
    ways = mends({code: state.drive for code, state in table.states.items()})
    keys = {
        "spacing_deg": table.spacing_deg,
        "direction": table.direction,
        "states": {code: asdict(state) for code, state in table.states.items()},
        "edge_errors_deg": list(table.edge_errors_deg),
        "edge_u_deg": list(table.edge_u_deg),
        "mend": ways[0].text if ways else "",
    }
    text = [f"{table.spacing_deg}° spacing, captured turning {'forward' if table.direction > 0 else 'backward'}"]
    text += [
        f"code {c}: {s.from_deg:6.1f}° to {s.to_deg:6.1f}°, centre {s.center_deg:6.1f}°, drive {s.drive}"
        for c, s in table.states.items()
    ]
    text.append("edge errors " + ", ".join(f"{e:+.1f}°" for e in table.edge_errors_deg))
    text.append(f"for the common 120° table: {ways[0].text if ways else 'no change of leads fits'}")
    emit("commutation halls", json, method=table.method, findings=table.findings, keys=keys, text=text)


@commutation.command("status")
@command
def status(
    file: CaptureFile,
    column: Columns = None,
    turns: Annotated[
        float | None, typer.Option(help="Turns of the shaft counted by hand, for the pole pairs.")
    ] = None,
    json: Json = False,
) -> None:
    """Sequence, spacing and pole pairs from the halls alone, as a drive's status shows them while turning."""
    from crisp_compass.capture import read_capture
    from crisp_compass.commutation.status import read_status

    found = read_status(read_capture(file, column or ()), turns=turns)
    keys = {
        "sequence": list(found.sequence),
        "spacing_deg": found.spacing_deg,
        "cycles": found.cycles,
        "pole_pairs": found.pole_pairs,
    }
    text = [
        f"codes {' '.join(str(c) for c in found.sequence)}, {found.spacing_deg}° spacing, {found.cycles:.1f} electrical turns"
    ]
    if found.pole_pairs is not None:
        text.append(f"{found.pole_pairs} pole pairs")
    method = "three halls alone, changes of code counted with their sense"
    emit("commutation status", json, method=method, findings=found.findings, keys=keys, text=text)


@commutation.command("encoder")
@command
def encoder(
    file: CaptureFile,
    column: Columns = None,
    revolutions: Annotated[float | None, typer.Option(help="Turns of the shaft over the capture.")] = None,
    pole_pairs: Annotated[int | None, typer.Option(help="Pole pairs, if not noted in the file.")] = None,
    json: Json = False,
) -> None:
    """Resolution, direction, index and electrical zero of an incremental encoder (enc_a, enc_b, perhaps enc_z)."""
    from crisp_compass.capture import read_capture
    from crisp_compass.commutation.encoder import read_encoder

    found = read_encoder(read_capture(file, column or ()), revolutions=revolutions, pole_pairs=pole_pairs)
    keys = {
        "counts_per_rev": found.counts_per_rev,
        "lines_per_rev": found.lines_per_rev,
        "direction": found.direction,
        "zero_offset_deg": found.zero_offset_deg,
        "zero_u_deg": found.zero_u_deg,
        "index_pulses": found.index_pulses,
        "pole_pairs": found.pole_pairs,
        "phase_deg": found.phase_deg,
        "missed_counts": found.missed,
        "candidates": [{"lines": lines, "weight": weight} for lines, weight in found.candidates],
    }
    text = []
    if found.counts_per_rev is not None:
        text.append(f"{found.lines_per_rev} lines, {found.counts_per_rev} counts a turn (×4)")
    if found.direction is not None:
        text.append(f"counts {'rise' if found.direction > 0 else 'fall'} when the motor turns A → B → C")
    if found.zero_offset_deg is not None:
        text.append(
            f"θe in the middle of the index {found.zero_offset_deg:.2f}° ±{2 * (found.zero_u_deg or 0.0):.2f}°"
        )
    if found.phase_deg is not None:
        text.append(f"B follows A by {found.phase_deg:.0f}°")
    emit("commutation encoder", json, method=found.method, findings=found.findings, keys=keys, text=text)
