"""``commutation``: halls, encoders and the rotor's zero from captures and tables."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import TYPE_CHECKING, Annotated

import typer

from crisp_compass.cli.identify import CaptureFile, Columns, Json
from crisp_compass.cli.output import command, emit, number
from crisp_compass.errors import Refusal
from crisp_compass.quantities import counted

if TYPE_CHECKING:
    from crisp_compass.capture import Capture

commutation = typer.Typer(help="Angle sensors and the rotor's zero from captures.", no_args_is_help=True)


@commutation.command("halls")
@command
def halls(file: CaptureFile, column: Columns = None, json: Json = False) -> None:
    """Hall table from halls and at least two line voltages of a turned shaft."""
    from crisp_compass.capture import read_capture
    from crisp_compass.commutation.halls import read_halls
    from crisp_compass.commutation.lead_fix import lead_fixes

    table = read_halls(read_capture(file, column or ()))
    ways = lead_fixes({code: state.drive for code, state in table.states.items()})
    keys = {
        "spacing_deg": table.spacing_deg,
        "direction": table.direction,
        "states": {code: asdict(state) for code, state in table.states.items()},
        "edge_errors_deg": list(table.edge_errors_deg),
        "edge_u_deg": list(table.edge_u_deg),
        "offset_deg": table.offset_deg,
        "mend": ways[0].text if ways else "",
    }
    text = [f"{table.spacing_deg}° spacing, captured turning {'forward' if table.direction > 0 else 'backward'}"]
    text += [
        f"code {c}: {s.from_deg:6.1f}° to {s.to_deg:6.1f}°, centre {s.center_deg:6.1f}°, drive {s.drive}"
        for c, s in table.states.items()
    ]
    text.append(f"best even grid of edges from {table.offset_deg:.1f}°")
    text.append("edge errors " + ", ".join(f"{e:+.1f}°" for e in table.edge_errors_deg))
    text.append(f"for the common 120° table: {ways[0].text if ways else 'no change of leads fits'}")
    emit("commutation halls", json, method=table.method, findings=table.findings, keys=keys, text=text)


@commutation.command("status")
@command
def status(
    file: CaptureFile,
    column: Columns = None,
    turns: Annotated[
        float | None, typer.Option(parser=number(""), help="Turns of the shaft counted by hand, for the pole pairs.")
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
        text.append(counted(found.pole_pairs, "pole pair"))
    method = "three halls alone, changes of code counted with their sense"
    emit("commutation status", json, method=method, findings=found.findings, keys=keys, text=text)


@commutation.command("encoder")
@command
def encoder(
    file: CaptureFile,
    column: Columns = None,
    revolutions: Annotated[
        float | None, typer.Option(parser=number(""), help="Turns of the shaft over the capture.")
    ] = None,
    pole_pairs: Annotated[int | None, typer.Option(help="Pole pairs, if not noted in the file.")] = None,
    json: Json = False,
) -> None:
    """Resolution, direction and electrical zero of an encoder: enc_a, enc_b, perhaps enc_z; or the word position."""
    from crisp_compass.capture import read_capture
    from crisp_compass.commutation.encoder import read_encoder

    capture = read_capture(file, column or ())
    if "position" in capture and "enc_a" not in capture:
        _absolute(capture, revolutions, pole_pairs, json)
        return
    found = read_encoder(capture, revolutions=revolutions, pole_pairs=pole_pairs)
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


def _absolute(capture: Capture, revolutions: float | None, pole_pairs: int | None, json: bool) -> None:
    from crisp_compass.commutation.absolute import read_absolute

    found = read_absolute(capture, revolutions=revolutions, pole_pairs=pole_pairs)
    keys = {
        "counts_per_rev": found.counts_per_rev,
        "bits": found.bits,
        "turn_bits": found.turn_bits,
        "direction": found.direction,
        "zero_offset_deg": found.zero_offset_deg,
        "zero_u_deg": found.zero_u_deg,
        "offset_counts": found.offset_counts,
        "pole_pairs": found.pole_pairs,
        "jumps": found.jumps,
    }
    text = []
    if found.counts_per_rev is not None:
        bits = f", {found.bits} bits" if found.bits is not None else ""
        more = f" and {found.turn_bits} bits of turns" if found.turn_bits else ""
        text.append(f"{found.counts_per_rev} counts a turn{bits}{more}")
    if found.direction is not None:
        text.append(f"the word {'rises' if found.direction > 0 else 'falls'} when the motor turns A → B → C")
    if found.zero_offset_deg is not None and found.offset_counts is not None:
        text.append(f"θe at word 0 {found.zero_offset_deg:.2f}°; θe is 0 at word {found.offset_counts:.1f}")
    emit("commutation encoder", json, method=found.method, findings=found.findings, keys=keys, text=text)


@commutation.command("align")
@command
def align(
    file: CaptureFile,
    column: Columns = None,
    pole_pairs: Annotated[int | None, typer.Option(help="Pole pairs, if not noted in the file.")] = None,
    counts: Annotated[
        int | None, typer.Option(help="Encoder counts a turn (×4), to give the offset in counts.")
    ] = None,
    json: Json = False,
) -> None:
    """Electrical zero from a table of field_angle (electrical, held by a DC current) and angle (by the encoder), at rest."""
    from crisp_compass.capture import read_capture
    from crisp_compass.commutation.alignment import read_alignment

    capture = read_capture(file, column or (), need_time=False)
    p = pole_pairs if pole_pairs is not None else capture.note_number("pole_pairs")
    if p is None or p < 1 or p != int(p):
        raise Refusal("the pole pairs are needed", "give a whole number from 1 up", where="--pole-pairs")
    if counts is not None and counts < 4:
        raise Refusal(f"{counts} counts a turn are not possible", "give the counts at ×4", where="--counts")
    found = read_alignment(capture, pole_pairs=int(p))
    estimates = {"zero_offset": found.zero}
    if found.hysteresis is not None:
        estimates["friction_lag"] = found.hysteresis
    offset = found.offset_counts(counts) if counts is not None else None
    zero = math.degrees(found.zero.value)
    text = [
        f"encoder angle {'rises' if found.direction > 0 else 'falls'} when the motor turns A → B → C; zero at {zero:.2f}° electrical"
    ]
    if offset is not None:
        text.append(f"θe is 0 at count {offset:.1f}")
    keys = {"zero_offset_deg": zero, "direction": found.direction, "offset_counts": offset}
    emit(
        "commutation align",
        json,
        estimates=estimates,
        method=found.method,
        findings=found.findings,
        keys=keys,
        text=text,
    )


@commutation.command("poles")
@command
def poles(
    file: CaptureFile,
    column: Columns = None,
    larger: Annotated[
        str, typer.Option(help="Axis with the larger inductance: lq (magnets inside the rotor) or ld.")
    ] = "lq",
    json: Json = False,
) -> None:
    """Rotor position at standstill from a table of pulses: field_angle (electrical), i_peak (along the pulse), perhaps i_rest (before it)."""
    from crisp_compass.capture import read_capture
    from crisp_compass.commutation.pole_search import search_pole

    if larger not in ("lq", "ld"):
        raise Refusal(f"“{larger}” is no axis", "use lq or ld", where="--larger")
    found = search_pole(read_capture(file, column or (), need_time=False), larger=larger)  # type: ignore[arg-type]
    keys = {
        "axis_deg": None if found.axis is None else math.degrees(found.axis),
        "axis_u_deg": None if found.axis is None else math.degrees(found.u),
        "theta_deg": None if found.theta is None else math.degrees(found.theta),
        "polarity_chance": found.chance,
        "saliency": found.saliency,
        "saturation": found.saturation,
    }
    text = []
    if found.axis is not None:
        text.append(
            f"axis at {math.degrees(found.axis):.1f}° ±{2 * math.degrees(found.u):.1f}°, saliency {100 * found.saliency:.1f} %"
        )
    if found.theta is not None:
        text.append(
            f"the rotor's flux lies at {math.degrees(found.theta):.1f}° (polarity right with {100 * found.chance:.2f} %)"
        )
    emit("commutation poles", json, method=found.method, findings=found.findings, keys=keys, text=text)
