"""``motion``: moves from rest to rest, and what a cycle asks of a motor."""

from __future__ import annotations

import math
from typing import Annotated

import typer

from crisp_compass.cli.identify import Force, Json
from crisp_compass.cli.output import command, emit, new_file, number
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding

motion = typer.Typer(help="Moves from rest to rest, and what a cycle asks of a motor.", no_args_is_help=True)
_RPM = 30 / math.pi
_TURN = 2 * math.pi


@motion.command("profile")
@command
def profile(
    distance_turns: Annotated[float, typer.Option(parser=number(""), help="Turns to go, with a sign.")],
    speed_rpm: Annotated[float, typer.Option(parser=number(""), help="Highest speed, rpm.")],
    accel: Annotated[float, typer.Option(parser=number("rad/s²"), help="Highest acceleration, rad/s².")],
    jerk: Annotated[
        float | None, typer.Option(parser=number(""), help="Highest jerk, rad/s³; none if left out.")
    ] = None,
    output: Annotated[str | None, typer.Option("-o", "--output", help="Course of the move to write, CSV.")] = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Shortest move from rest to rest."""
    from crisp_compass.files import write_atomically
    from crisp_compass.motion.profile import shortest, table

    found = shortest(_TURN * distance_turns, speed_rpm / _RPM, accel, jerk)
    if output is not None:
        path = new_file(output, force=force)
        time, position, speed, acceleration = table(found)
        lines = ["t [s],position [turns],speed [rpm],acceleration [rad/s²]"]
        rows = zip(time, position / _TURN, speed * _RPM, acceleration, strict=True)
        lines += [",".join(f"{x:.12g}" for x in row) for row in rows]
        write_atomically(path, "\n".join([*lines, ""]))
    findings = [Finding("info", "no-distance", "A distance of nothing takes no time.")] if distance_turns == 0 else []
    if found.distance and found.peak_speed * _RPM < speed_rpm * (1 - 1e-12):
        findings.append(
            Finding("info", "speed-not-reached", "The distance ends before the highest speed is reached.")
        )
    keys = {
        "move_time_s": found.duration, "peak_speed_rpm": found.peak_speed * _RPM, "peak_accel": found.peak_accel, "phases_s": list(found.phases),
    }  # fmt: skip
    phases = ", ".join(f"{p:.6g}" for p in found.phases)
    text = [
        f"{found.duration:.6g} s, at most {found.peak_speed * _RPM:.6g} rpm and {found.peak_accel:.6g} rad/s²; phases {phases} s"
    ]
    emit("motion profile", json, findings=findings, keys=keys, text=text)


@motion.command("duty")
@command
def duty(
    file: Annotated[str, typer.Argument(metavar="CYCLE", help="One cycle as CSV: t, torque, speed.")],
    continuous_torque: Annotated[
        float, typer.Option(parser=number("N·m"), help="What the motor gives for ever, N·m.")
    ],
    peak_torque: Annotated[float, typer.Option(parser=number("N·m"), help="What it gives for a moment, N·m.")],
    column: Annotated[
        list[str] | None, typer.Option(help="NAME=[-]SOURCE[*FACTOR]: map a channel, flip its sign, scale it.")
    ] = None,
    json: Json = False,
) -> None:
    """Torque, heat and braking energy of a cycle against the motor's torques."""
    from pathlib import Path

    from crisp_compass.capture import read_capture
    from crisp_compass.motion.duty import duty as judged

    capture = read_capture(Path(file), tuple(column or ()))
    for name in ("torque", "speed"):
        if name not in capture.columns:
            raise Refusal(f"there is no column {name}", f"name it so, or map it: --column {name}=SOURCE", where=file)
    try:
        found = judged(
            capture.time,
            capture.columns["torque"],
            capture.columns["speed"],
            continuous=continuous_torque,
            peak=peak_torque,
        )
    except Refusal as refusal:
        raise refusal if refusal.where else refusal.at(file) from None
    keys = {
        "rms_torque": found.rms_torque, "peak_torque": found.peak_torque, "rms_speed_rpm": found.rms_speed * _RPM,
        "braking_energy_j": found.braking_energy,
    }  # fmt: skip
    text = [
        f"rms torque {found.rms_torque:.6g} N·m, largest {found.peak_torque:.6g} N·m, rms speed {found.rms_speed * _RPM:.6g} rpm, "
        f"{found.braking_energy:.6g} J come back in a cycle of {found.span:.6g} s"
    ]
    emit("motion duty", json, findings=found.findings, keys=keys, text=text)
