"""Start-up: from rest to an estimate that can be trusted, without a sensor."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.records import Settled
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.capture import Capture
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.sensorless import (
    align_current,
    by_injection,
    doubts_of,
    injection_of,
    plant_of,
    shaft_of,
    speed_loop_crossover,
    without_sensor,
)
from crisp_compass.course.values import quantities
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.motor import pole_pairs_of
from crisp_compass.quantities import grouped, show
from crisp_compass.sensorless.design import (
    KINDS,
    Doubts,
    Plant,
    acceleration_lag,
    estimator_for,
    loop_frequency,
    lowest_speed,
    voltage_error,
)
from crisp_compass.sensorless.estimator import Estimator
from crisp_compass.sensorless.injection_design import Injection
from crisp_compass.sensorless.observe import Observed, observe
from crisp_compass.sensorless.start import TURNS_TO_TRUST, Shaft, StartPlan, plan

#: Samples of an electrical turn at top speed: below the first it is doubtful, below the second it does not work.
FEW_SAMPLES, TOO_FEW_SAMPLES = 12.0, 8.0


@dataclass(frozen=True)
class StartDesign:
    """The start and its estimator: ``plan`` of the rows, mechanical ``hand_over`` and ``lowest`` valid speed [rad/s] with the voltage error [V] there, the ``natural`` frequency [rad/s] of the
    loop, its ``lag`` [rad] in the ramp, ``samples`` a turn at top speed, ``reserve`` [V] left at hand-over, and what is to be said."""

    plan: StartPlan
    estimator: Estimator
    doubts: Doubts
    hand_over: float
    lowest: float
    error: float
    natural: float
    lag: float
    samples: float
    reserve: float
    injection: Injection
    findings: tuple[Finding, ...]


def ramp_current(bench: Bench) -> float:
    """Return the current of the ramp, A peak."""
    return bench.settings.start_up.ramp_current or 0.75 * rated_peak(bench.settings.plate)


def design_start(bench: Bench) -> StartDesign:
    """Design start and estimator from settled values with the page's settings; raises Refusal where something is missing or cannot be."""
    bench = standing(bench, "start_up")
    s, motor, shaft, doubts = bench.settings.start_up, plant_of(bench), shaft_of(bench), doubts_of(bench)
    p, ts = motor.pole_pairs, 1 / need(bench, "pwm.loop_hz")
    top, current = bench.settings.plate.top_speed, ramp_current(bench)
    volts = usable_voltage(bench)
    lowest = lowest_speed(motor, doubts, current, 3.0) / p
    hand_over = s.hand_over or max(lowest_speed(motor, doubts, current, s.times) / p, 0.03 * top)
    _inside_voltage(motor, current, hand_over, volts.motor)
    samples = 2 * math.pi / (p * top * ts)
    findings = _speed_findings(motor, doubts, current, hand_over, lowest=lowest, top=top, samples=samples, ts=ts)
    natural = (
        2 * math.pi * s.loop_hz
        if s.loop_hz
        else loop_frequency(motor, doubts, ts, p * hand_over, speed_loop=speed_loop_crossover(bench))
    )
    if natural * ts > 0.5:
        raise Refusal(
            f"a loop of {natural / (2 * math.pi):.4g} Hz is too quick for {1 / ts:.4g} samples a second",
            f"at most {0.5 / ts / (2 * math.pi):.4g} Hz can be followed",
            field="start_up.loop_hz",
        )
    found = _plan(bench, shaft, current, hand_over)
    error = voltage_error(motor, doubts, current)
    estimator = estimator_for(
        motor, ts, kind=KINDS[s.method], natural=natural, floor=max(error, 1e-3 * motor.psi * p * hand_over), hand_over=p * hand_over,
        hold=2 * math.pi * TURNS_TO_TRUST,
    )  # fmt: skip
    steep = bench.settings.speed_loop.ramp if by_injection(bench) else found.acceleration
    lag = acceleration_lag(natural, p * steep)
    if lag > math.radians(10):
        text = f"In the ramp the loop lags {math.degrees(lag):.0f}°: a slower ramp, or {math.sqrt(p * steep / math.radians(5)) / (2 * math.pi):.3g} Hz instead of {natural / (2 * math.pi):.3g} Hz."
        findings.append(Finding("caution", "loop-lags", text))
    reserve = volts.motor - _needed_voltage(motor, current, hand_over)
    judged = injection_of(bench, hand_over)
    if by_injection(bench):
        findings += judged.findings if judged.works else [_no_injection(judged)]
    return StartDesign(
        found, estimator, doubts, hand_over, lowest=lowest, error=error, natural=natural, lag=lag, samples=samples, reserve=reserve, injection=judged, findings=(*findings, *found.findings)
    )  # fmt: skip


def _plan(bench: Bench, shaft: Shaft, current: float, hand_over: float) -> StartPlan:
    """Return the rows; where injection starts the motor they are not run, and no load is too heavy for them."""
    s = bench.settings.start_up
    if by_injection(bench):
        free = Shaft(shaft.kt, shaft.pole_pairs, shaft.inertia, 0.01 * shaft.kt * min(align_current(bench), current))
        made = plan(free, align_current=align_current(bench), ramp_current=current, hand_over=hand_over)
        return replace(made, findings=())
    return plan(
        shaft, align_current=align_current(bench), ramp_current=current, hand_over=hand_over, load_angle=s.load_angle, align_time=s.align_time,
        acceleration=s.acceleration,
    )  # fmt: skip


def _no_injection(judged: Injection) -> Finding:
    return Finding("stop", "injection-impossible", f"Start by injection: {judged.reason}. Choose the forced angle.")


def _needed_voltage(motor: Plant, current: float, speed: float) -> float:
    """Return the longest phase vector [V] that a current at a mechanical speed [rad/s] can need."""
    w = motor.pole_pairs * speed
    return math.hypot(motor.r * current + w * motor.psi, w * motor.lq * current)


def _inside_voltage(motor: Plant, current: float, hand_over: float, volts: float) -> None:
    """Refuse a hand-over that the voltage does not reach, saying the speed that it would."""
    if _needed_voltage(motor, current, hand_over) <= volts:
        return
    low, high = 0.0, hand_over
    for _ in range(60):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if _needed_voltage(motor, current, middle) <= volts else (low, middle)
    raise Refusal(
        f"hand-over at {grouped(hand_over * 30 / math.pi)} rpm needs more than the {volts:.3g} V there are",
        f"at most {grouped(low * 30 / math.pi)} rpm can be reached with {show(current, 'A')}, or less doubt of R and dead time",
        field="start_up.hand_over",
    )


def _speed_findings(
    motor: Plant, doubts: Doubts, current: float, hand_over: float, lowest: float, top: float, samples: float, ts: float
) -> list[Finding]:  # fmt: skip
    rpm = 30 / math.pi
    found = []
    if samples < FEW_SAMPLES:
        needed = FEW_SAMPLES * motor.pole_pairs * top / (2 * math.pi)
        text = f"At top speed there are only {samples:.1f} samples to an electrical turn; {needed / 1e3:.3g} kHz instead of {1e-3 / ts:.3g} kHz would give {FEW_SAMPLES:.0f}."
        found.append(Finding("stop" if samples < TOO_FEW_SAMPLES else "caution", "few-samples-per-turn", text))
    if hand_over < lowest:
        text = f"At {grouped(hand_over * rpm)} rpm the back-EMF is less than 3 times the voltage error of {show(voltage_error(motor, doubts, current), 'V')}; from {grouped(lowest * rpm)} rpm it is more."
        found.append(Finding("caution", "hand-over-early", text))
    share = hand_over / top
    if share > 0.5:
        text = f"Hand-over is at {share * 100:.0f} % of top speed; 5 to 15 % is usual. Less doubt of R and dead time lowers it."
        found.append(Finding("stop" if share > 1 else "caution", "hand-over-late", text))
    return found


def inputs(bench: Bench) -> tuple[str, ...]:
    """Return what the design rests on."""
    dead: tuple[str, ...] = (
        ("pwm.dead_time_voltage",) if settled_value(bench, "pwm.dead_time_voltage") is not None else ()
    )
    if by_injection(bench):
        dead = (*dead, "inductance.ld")
    return (
        *dead,
        "resistance.resistance", "inductance.lq", "flux.flux_linkage", "plate.pole_pairs", "mechanics.inertia", "mechanics.coulomb_friction", "pwm.loop_hz",
        "current_loop.bandwidth_hz",
    )  # fmt: skip


def start_values(bench: Bench, design: StartDesign) -> dict[str, Quantity]:
    """Return what settling the start settles."""
    rows = design.plan.rows
    j = design.injection.firmware
    injected = {
        "inject_volts": (j.volts, "V"), "track_hz": (j.natural / (2 * math.pi), "Hz"), "pole_current": (j.pole_current, "A"), "pole_time": (j.pole_time, "s"),
    }  # fmt: skip
    return quantities({
        **(injected if by_injection(bench) else {}),
        "align_current": (align_current(bench), "A"), "align_time": (rows[0].duration, "s"), "ramp_current": (ramp_current(bench), "A"),
        "acceleration": (design.plan.acceleration, "rad/s²"), "hand_over": (design.hand_over, "rad/s"), "hold": (rows[-1].duration, "s"),
        "loop_hz": (design.natural / (2 * math.pi), "Hz"), "floor": (design.estimator.floor, "V"),
    })  # fmt: skip


def propose(bench: Bench) -> Proposal:
    """Return what settling the start would settle; raises Refusal where it cannot work."""
    design = design_start(bench)
    stop = next((f for f in design.findings if f.level == "stop"), None)
    if stop is not None:
        raise Refusal(stop.text.rstrip("."))
    share = design.hand_over / bench.settings.plate.top_speed
    what = f"hand-over at {grouped(design.hand_over * 30 / math.pi)} rpm"
    if by_injection(bench):
        what = f"by injection of {show(design.injection.firmware.volts, 'V')}, back-EMF from {grouped(design.hand_over * 30 / math.pi)} rpm"
    reason = f"back-EMF {design.hand_over * design.estimator.psi * pole_pairs_of(bench.settings.plate) / design.error:.1f} times its error, {share * 100:.0f} % of top speed"
    return Proposal(
        start_values(bench, design), what, reason, f"{bench.settings.start_up.method} observer", rests_on=inputs(bench)
    )


def _read(bench: Bench, capture: Capture) -> Observed:
    """Run the estimator that the page has chosen over a capture; a run in which it was valid nowhere is refused with the reason."""
    motor = plant_of(bench)
    found = observe(
        capture,
        r=motor.r,
        ld=motor.ld,
        lq=motor.lq,
        psi=motor.psi,
        pole_pairs=round(motor.pole_pairs),
        method=bench.settings.start_up.method,
    )
    if found.valid_from is None:
        text = next(
            (f.text for f in found.findings if f.code in ("never-valid", "amplitude")),
            "the estimate was valid nowhere",
        )
        raise Refusal(
            text[:1].lower() + text[1:].rstrip("."),
            "capture a longer or faster run, or check the constants",
            where=capture.source,
        )
    return found


def _observed_values(_: Bench, __: Capture, found: Observed) -> dict[str, Quantity]:
    """Return what a measured run tells: its mean speed, and speed and torque current at its end."""
    last = np.flatnonzero(found.valid)[-max(int(0.05 * found.valid.sum()), 1) :]
    values = {
        "speed": to_quantity(found.estimates["speed"]),
        "end_speed": Quantity(value=float(np.mean(np.abs(found.speed[last]))), unit="rad/s"),
        "end_current": Quantity(value=float(abs(np.mean(found.current[last]))), unit="A"),
        "valid_from": Quantity(value=found.valid_from or 0.0, unit="s"),
        "valid_share": Quantity(value=float(found.valid.mean()), unit=""),
    }
    if found.error is not None:
        values["angle_error"] = Quantity(value=found.error.rms, unit="rad")
    return values


def _claims_run(capture: Capture, _: str) -> bool:
    return {"v_ab", "v_bc", "i_a", "i_b"} <= set(capture.columns)


OBSERVED = CaptureKind(
    "observed_run",
    "start_up",
    _read,
    lambda evidence: f"valid up to {grouped(evidence.estimates['end_speed'].value * 30 / math.pi)} rpm",
    title=", measured run",
    section="Measured run",
    signals=("v_ab", "v_bc", "i_a", "i_b", "angle"),
    rank=15,
    claims=_claims_run,
    quantities=_observed_values,
    needs=(("speed",), ("end_speed", "end_current", "valid_from", "valid_share")),
    sketch="encoder",
    view="observed",
)


def _headline(settled: Settled) -> str:
    return f"from {grouped(settled.values['hand_over'].value * 30 / math.pi)} rpm"


WAYPOINT = Waypoint(
    "start_up",
    90,
    "Start-up",
    "How does it start without a sensor?",
    first_step="Design the start and settle it.",
    settles={
        "align_current": ("A", 1e-5, 1e6), "align_time": ("s", 1e-5, 120), "ramp_current": ("A", 1e-5, 1e6), "acceleration": ("rad/s²", 1e-6, 1e10),
        "hand_over": ("rad/s", 1e-6, 1e6), "hold": ("s", 1e-6, 1e5), "loop_hz": ("Hz", 1e-4, 1e6), "floor": ("V", 1e-12, 1e5),
    },
    needs=("plate", "resistance", "inductance", "flux", "pwm", "current_loop"),
    applies=without_sensor,
    headline=_headline,
    propose=propose,
    sections=tuple(Section(n) for n in ("Sequence", "Estimator", "Injection", "Success map", "Failed start", "Climb", "Low speed", "Measured run")),
    captures=(OBSERVED,),
)  # fmt: skip
