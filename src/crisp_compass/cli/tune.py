"""``tune``: loop gains with margins of the sampled loop."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from crisp_compass.cli.identify import Json
from crisp_compass.cli.output import command, emit, number, refuse_idle
from crisp_compass.errors import Refusal
from crisp_compass.quantities import show

if TYPE_CHECKING:
    from crisp_compass.loops.current import AxisLoop

tune = typer.Typer(help="Loop gains with margins and step figures of the sampled loop.", no_args_is_help=True)


def _axis(axis: AxisLoop) -> dict[str, Any]:
    m = axis.margins
    return {
        "kp": axis.kp, "ki": axis.ki, "crossover_hz": m.crossover_hz, "phase_margin_deg": m.phase_margin_deg,
        "gain_margin_db": m.gain_margin_db, "bandwidth_hz": m.bandwidth_hz, "overshoot_pct": axis.overshoot_pct,
        "rise_time_s": axis.rise_time_s, "sensitivity_peak": axis.sensitivity,
    }  # fmt: skip


@tune.command("current")
@command
def current(
    r: Annotated[float, typer.Option("--r", parser=number("Ω", "resistance"), help="Phase resistance, Ω.")],
    loop_hz: Annotated[float, typer.Option(parser=number("Hz", "loop_hz"), help="Sampling rate, Hz.")],
    ld: Annotated[float, typer.Option(parser=number("H", "ld"), help="d inductance, H.")],
    lq: Annotated[float, typer.Option(parser=number("H", "lq"), help="q inductance, H.")],
    crossover_hz: Annotated[
        float | None,
        typer.Option(
            parser=number("Hz", "crossover_hz"),
            help="Crossover, Hz: gain 1 of the sampled open loop, met exactly; for placement the poles' frequency.",
        ),
    ] = None,
    bandwidth_hz: Annotated[
        float | None,
        typer.Option(
            parser=number("Hz", "crossover_hz"),
            help="Crossover too, Hz, by the plain formula Kp = 2πf·L, Ki = 2πf·R; not the −3 dB bandwidth that is printed.",
        ),
    ] = None,
    method: Annotated[
        str, typer.Option(help="bandwidth (a crossover is given), modulus-optimum or placement.")
    ] = "bandwidth",
    damping: Annotated[
        float | None, typer.Option(parser=number(""), help="Of the placed pole pair, 0.8 if left out.")
    ] = None,
    delay_samples: Annotated[float, typer.Option(parser=number(""), help="Whole delay in periods.")] = 1.5,
    vbus: Annotated[float | None, typer.Option(parser=number("V", "v_bus"), help="DC link, V.")] = None,
    family: Annotated[
        str,
        typer.Option(
            help="Kind of motor: pm, stepper (R and L of a winding), brushed (of the armature), induction (Rs + RR and the leakage)."
        ),
    ] = "pm",
    json: Json = False,
) -> None:
    """Current loop gains of both axes."""
    from crisp_compass.conversions import FAMILIES
    from crisp_compass.loops.current import check_positive, tune_current
    from crisp_compass.modulation.pwm import family_limit

    if family not in FAMILIES:
        raise Refusal(f"“{family}” is no family of motors", f"use {', '.join(FAMILIES)}", where="--family")
    if ld != lq and {"brushed": True}.get(family, False):
        raise Refusal("an armature has one inductance", "give --ld and --lq alike", where="--ld")

    if vbus is not None:
        check_positive("vbus", vbus)

    if method not in ("bandwidth", "modulus-optimum", "placement"):
        raise Refusal(f"“{method}” is no method", "use bandwidth, modulus-optimum or placement", where="--method")
    if crossover_hz is not None and bandwidth_hz is not None:
        raise Refusal("the crossover is given twice", "leave out --bandwidth-hz", where="--crossover-hz")
    wanted, name = (crossover_hz, "--crossover-hz") if crossover_hz is not None else (bandwidth_hz, "--bandwidth-hz")
    if method == "modulus-optimum":
        refuse_idle("--method modulus-optimum", {name: wanted, "--damping": damping})
    elif wanted is None:
        raise Refusal(
            "a crossover is missing", "give --crossover-hz or --method modulus-optimum", where="--crossover-hz"
        )
    if method == "bandwidth":
        refuse_idle("--method bandwidth", {"--damping": damping})
    design = tune_current(
        r=r, ld=ld, lq=lq, loop_hz=loop_hz, delay_samples=delay_samples, exact=crossover_hz is not None, bandwidth_hz=wanted,
        v_limit=None if vbus is None else family_limit(vbus, family), damping=(damping or 0.8) if method == "placement" else None,
    )  # fmt: skip
    text = []
    for name, axis in (("d", design.d), ("q", design.q)):
        m = axis.margins
        text.append(
            f"{name}: Kp {show(axis.kp, 'V/A', 4)}, Ki {show(axis.ki, 'V/(A·s)', 4)}; {m.phase_margin_deg:.1f}° and {m.gain_margin_db:.1f} dB margin, "
            f"crossover {show(m.crossover_hz, 'Hz')} (for tune speed: --current-crossover-hz), −3 dB {show(m.bandwidth_hz, 'Hz')}, overshoot {axis.overshoot_pct:.1f} %, rise {show(axis.rise_time_s, 's')}"
        )
    emit(
        "tune current",
        json,
        method=design.method,
        findings=design.findings,
        keys={"axes": {"d": _axis(design.d), "q": _axis(design.q)}},
        text=text,
    )


def _one(name: str, value: float | None, alias: str, other: float | None) -> float | None:
    """Return what was given under a name or its older one."""
    if value is not None and other is not None:
        raise Refusal(f"{name} and {alias} are one and the same", f"leave out {alias}", where=alias)
    return other if value is None else value


@tune.command("speed")
@command
def speed(
    inertia: Annotated[float, typer.Option(parser=number("kg·m²", "inertia"), help="kg·m².")],
    kt: Annotated[float, typer.Option(parser=number("N·m/A", "kt"), help="N·m per A of phase peak.")],
    loop_hz: Annotated[float, typer.Option(parser=number("Hz", "crossover_hz"), help="Rate of the speed loop, Hz.")],
    current_crossover_hz: Annotated[
        float | None,
        typer.Option(
            parser=number("Hz", "crossover_hz"),
            help="Crossover of the current loop, Hz, as tune current prints it: the corner of the lag that stands for it.",
        ),
    ] = None,
    current_bandwidth_hz: Annotated[
        float | None,
        typer.Option(parser=number("Hz", "crossover_hz"), help="Older name of --current-crossover-hz; not the −3 dB bandwidth."),
    ] = None,
    viscous: Annotated[float, typer.Option(parser=number("N·m·s/rad", "viscous_friction"), help="N·m·s/rad.")] = 0.0,
    filter_hz: Annotated[
        float | None, typer.Option(parser=number("Hz", "crossover_hz"), help="Speed filter, Hz; none if left out.")
    ] = None,
    method: Annotated[str, typer.Option(help="symmetric-optimum or bandwidth.")] = "symmetric-optimum",
    a: Annotated[
        float | None, typer.Option(parser=number(""), help="Factor a of the symmetrical optimum, 2 if left out.")
    ] = None,
    crossover_hz: Annotated[
        float | None, typer.Option(parser=number("Hz", "crossover_hz"), help="Crossover of the speed loop, Hz, met exactly.")
    ] = None,
    bandwidth_hz: Annotated[
        float | None, typer.Option(parser=number("Hz", "crossover_hz"), help="Older name of --crossover-hz.")
    ] = None,
    sensor_delay: Annotated[
        float,
        typer.Option(
            parser=number("s"),
            help="How late the speed is measured, s: with halls one edge's interval at the lowest speed.",
        ),
    ] = 0.0,
    json: Json = False,
) -> None:
    """Speed loop gains."""
    from crisp_compass.loops.speed import tune_speed

    if method not in ("bandwidth", "symmetric-optimum"):
        raise Refusal(f"“{method}” is no method", "use symmetric-optimum or bandwidth", where="--method")
    wanted = _one("--crossover-hz", crossover_hz, "--bandwidth-hz", bandwidth_hz)
    lag = _one("--current-crossover-hz", current_crossover_hz, "--current-bandwidth-hz", current_bandwidth_hz)
    if lag is None:
        raise Refusal(
            "the current loop's crossover is missing", "give --current-crossover-hz", where="--current-crossover-hz"
        )
    if method == "bandwidth" and wanted is None:
        raise Refusal("a crossover is missing", "give --crossover-hz", where="--crossover-hz")
    if wanted is not None:
        refuse_idle("--crossover-hz", {"--a": a})
    design = tune_speed(
        inertia=inertia, kt=kt, loop_hz=loop_hz, current_bandwidth_hz=lag, viscous=viscous, filter_hz=filter_hz,
        a=2.0 if a is None else a, bandwidth_hz=wanted, sensor_delay=sensor_delay,
    )  # fmt: skip
    m = design.margins
    keys = {
        "kp": design.kp, "ki": design.ki, "crossover_hz": m.crossover_hz, "phase_margin_deg": m.phase_margin_deg,
        "gain_margin_db": m.gain_margin_db, "bandwidth_hz": m.bandwidth_hz, "overshoot_pct": design.overshoot_pct,
        "overshoot_filtered_pct": design.overshoot_filtered_pct, "rise_time_s": design.rise_time_s, "t_sigma_s": design.t_sigma,
    }  # fmt: skip
    text = [
        f"Kp {show(design.kp, 'A/(rad/s)', 4)}, Ki {show(design.ki, 'A/rad', 4)}",
        f"{m.phase_margin_deg:.1f}° and {m.gain_margin_db:.1f} dB margin, crossover {show(m.crossover_hz, 'Hz')}, "
        f"overshoot {design.overshoot_pct:.1f} %, with set-point filter {design.overshoot_filtered_pct:.1f} %",
    ]
    emit("tune speed", json, method=design.method, findings=design.findings, keys=keys, text=text)
