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


@motion.command("stepper")
@command
def stepper(
    r: Annotated[float, typer.Option("--r", parser=number("Ω", "resistance"), help="Resistance of a winding, Ω.")],
    l: Annotated[float, typer.Option("--l", parser=number("H", "inductance"), help="Inductance of a winding, H.")],  # noqa: E741 - the option's own name
    psi: Annotated[float, typer.Option("--psi", parser=number("Wb", "flux_linkage"), help="Flux linkage of a winding, Wb peak.")],
    steps_per_turn: Annotated[float, typer.Option(parser=number(""), help="Full steps of a turn.")],
    current: Annotated[float, typer.Option(parser=number("A", "rated_current"), help="Length of the current vector, A: the peak of a winding.")],
    vbus: Annotated[float, typer.Option(parser=number("V", "v_bus"), help="Supply, V.")],
    speed_rpm: Annotated[float, typer.Option(parser=number(""), help="Speed that is asked about, rpm.")],
    torque: Annotated[float, typer.Option(parser=number("N·m"), help="Torque that is wanted there, N·m.")] = 0.0,
    inertia: Annotated[float | None, typer.Option(parser=number("kg·m²", "inertia"), help="Inertia of rotor and load, kg·m².")] = None,
    output: Annotated[str | None, typer.Option("-o", "--output", help="Torque over speed to write, CSV.")] = None,
    force: Force = False,
    json: Json = False,
) -> None:
    """Torque of a two-phase stepper at a speed, where it falls and ends, and its resonance."""
    import numpy as np

    from crisp_compass.files import write_atomically
    from crisp_compass.motion.step_torque import StepMotor

    if steps_per_turn < 4 or steps_per_turn % 4:
        raise Refusal(f"{steps_per_turn:g} full steps of a turn are no multiple of four", "the steps of a two-phase motor, 200 for 1.8°", where="--steps-per-turn")
    for name, value in (("--current", current), ("--vbus", vbus), ("--speed-rpm", speed_rpm)):
        if not 0 < value < math.inf:
            raise Refusal(f"{value:g} is none", "give a figure above 0", where=name)
    if not 0 <= torque < math.inf:
        raise Refusal(f"{torque:g} N·m cannot be wanted", "give its size", where="--torque")
    try:
        motor = StepMotor(r, l, psi, steps_per_turn / 4)
        swings = None if inertia is None else motor.resonance(current, inertia) / _TURN
    except Refusal as refusal:
        raise refusal.at({"resistance": "--r", "inductance": "--l", "flux_linkage": "--psi", "inertia": "--inertia"}.get(refusal.field or "", "--steps-per-turn")) from None
    there = float(motor.most_torque(current, vbus, np.array([speed_rpm / _RPM]))[0])
    falls, ends = motor.falls_from(current, vbus) * _RPM, motor.ends_at(vbus) * _RPM
    findings = []
    if torque > there:
        findings.append(Finding("stop", "torque-beyond-pull-out", f"{torque:.4g} N·m are wanted at {speed_rpm:.6g} rpm, and supply and current allow {there:.4g} N·m."))
    elif 1.5 * torque > there:
        findings.append(Finding("caution", "pull-out-margin", f"{torque:.4g} N·m of {there:.4g} N·m leave a margin of {there / torque:.3g}; 1.5 to 2 is usual (common practice)."))
    if falls == 0.0:
        findings.append(Finding("caution", "current-not-reached", f"{vbus:.4g} V do not drive {current:.4g} A through {r:.4g} Ω: the current is never reached."))
    at = None if swings is None else 60.0 * swings / steps_per_turn
    if at is not None and 0.7 * at < speed_rpm < 1.4 * at:
        findings.append(Finding("caution", "at-resonance", f"Full steps at {speed_rpm:.6g} rpm come at {speed_rpm * steps_per_turn / 60:.4g} Hz, and the rotor swings at {swings:.4g} Hz: microsteps, damping, or another speed."))
    if output is not None:
        path = new_file(output, force=force)
        axis = np.linspace(0.0, 1.5 * max(speed_rpm, falls), 151)
        rows = zip(axis, axis * steps_per_turn / 60, motor.most_torque(current, vbus, axis / _RPM), strict=True)
        write_atomically(path, "\n".join(["speed [rpm],rate [1/s],torque [N·m]", *(",".join(f"{x:.9g}" for x in row) for row in rows), ""]))
    keys = {
        "holding_torque": motor.holding(current), "pull_out_torque": there, "rate_per_s": speed_rpm * steps_per_turn / 60, "falls_from_rpm": falls,
        "ends_at_rpm": ends if math.isfinite(ends) else None, "resonance_hz": swings, "resonance_rpm": at,
    }  # fmt: skip
    text = [f"{there:.4g} N·m at {speed_rpm:.6g} rpm ({speed_rpm * steps_per_turn / 60:.6g} full steps/s), {motor.holding(current):.4g} N·m held; it falls from {falls:.4g} rpm on" + (f" and ends at {ends:.4g} rpm" if math.isfinite(ends) else "")]
    if swings is not None:
        text.append(f"the rotor swings at {swings:.4g} Hz: full steps at {at:.4g} rpm meet it")
    emit("motion stepper", json, findings=findings, keys=keys, text=text)
