"""Current loop: gains from settled R, L and PWM; a measured step."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.capture import Capture
from crisp_compass.conversions import FAMILIES
from crisp_compass.course.block import in_blocks
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.open_loop import closes_loops
from crisp_compass.course.values import quantities
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import CurrentDesign, limit_tracking, tune_current
from crisp_compass.loops.step_fit import RunningLoop, StepFit, fit_step
from crisp_compass.motor import family_of, turns_field, winding_of
from crisp_compass.plausible import limits
from crisp_compass.quantities import show

#: A shaft that turns no faster than this is held, rad/s.
_HELD = 0.5


def inputs(bench: Bench) -> tuple[str, ...]:
    """Return what the design rests on."""
    return (*family_of(bench).winding_keys, "pwm.loop_hz", "plate.v_bus")


def design_current(bench: Bench) -> CurrentDesign:
    """Design the current loop from settled R, L and PWM with the page's settings; raises Refusal if one is missing."""
    bench = standing(bench, "current_loop")
    settings = bench.settings.current_loop
    at, loop_hz = winding_of(bench), need(bench, "pwm.loop_hz")
    found = tune_current(
        r=at.r, ld=at.ld, lq=at.lq, loop_hz=loop_hz, v_limit=usable_voltage(bench).command, exact=True, delay_samples=settings.delay_samples,
        bandwidth_hz=None if settings.method == "modulus-optimum" else settings.bandwidth_hz,
        damping=settings.damping if settings.method == "placement" else None,
    )  # fmt: skip
    if any(a.margins.stable and not math.isfinite(a.margins.crossover_hz) for a in (found.d, found.q)):
        raise Refusal(
            "with these gains the open loop crosses 0 dB nowhere in the range that was computed",
            "choose a higher bandwidth",
        )
    return found


def current_values(bench: Bench, design: CurrentDesign) -> dict[str, Quantity]:
    """Return what settling the current loop settles."""
    # the crossover that was asked for and met; nine digits, so that it does not move with what it does not rest on
    crossover = float(f"{design.q.margins.crossover_hz:.9g}")
    values = {
        "kp_d": (design.d.kp, "V/A"), "ki_d": (design.d.ki, "V/(A·s)"), "kp_q": (design.q.kp, "V/A"), "ki_q": (design.q.ki, "V/(A·s)"),
        "bandwidth_hz": (crossover, "Hz"), "phase_margin": (math.radians(design.q.margins.phase_margin_deg), "rad"),
    }  # fmt: skip
    if in_blocks(bench):  # over the two phases that carry the current: twice a phase's
        values |= {"kp_pair": (2 * design.q.kp, "V/A"), "ki_pair": (2 * design.q.ki, "V/(A·s)")}
        values["advance"] = (bench.settings.current_loop.advance, "rad")
    return quantities(values)


def current_tracking(bench: Bench) -> tuple[float, float]:
    """Return what the integrators of d and q do at the voltage limit, of the settled gains and winding."""
    ts, at = 1 / need(bench, "pwm.loop_hz"), winding_of(bench)
    d, q = (
        limit_tracking(need(bench, f"current_loop.kp_{axis}"), need(bench, f"current_loop.ki_{axis}"), ts, at.r, l_axis=inductance)
        for axis, inductance in (("d", at.ld), ("q", at.lq))
    )  # fmt: skip
    return d, q


def gains_that_ran(bench: Bench, notes: Mapping[str, str] | None = None) -> tuple[float, float]:
    """Return Kp [V/A] and Ki [V/(A·s)]: from the capture's notes ``kp`` and ``ki``, the page, settled, else designed."""
    settings = bench.settings.current_loop
    found = []
    for name, typed in (("kp", settings.trial_kp), ("ki", settings.trial_ki)):
        note = (notes or {}).get(name, "")
        settled = settled_value(bench, f"current_loop.{name}_q")
        try:
            found.append(float(note) if note else typed or (settled.value if settled else math.nan))
        except ValueError:
            raise Refusal(f"the note {name} is “{note}”", "write a number in SI units") from None
    if any(math.isnan(x) for x in found):
        design = design_current(bench)
        found = [design.q.kp, design.q.ki]
    if not all(x > 0 and math.isfinite(x) for x in found):
        raise Refusal("the gains that ran are not above zero", "check the notes kp and ki")
    return found[0], found[1]


def expected_step(bench: Bench, notes: Mapping[str, str]) -> RunningLoop:
    """Return what the design rests on, with the gains that ran; raises Refusal naming what is not settled."""
    kp, ki = gains_that_ran(bench, notes)
    return RunningLoop(
        kp, ki, need(bench, "pwm.loop_hz"), winding_of(bench).r, inductance=winding_of(bench).lq,
        delay_samples=bench.settings.current_loop.delay_samples, v_limit=usable_voltage(bench).command,
    )  # fmt: skip


def propose(bench: Bench) -> Proposal:
    """Return what settling the current loop would settle; raises Refusal where something is missing."""
    design = design_current(bench)
    what = f"Kp {show(design.q.kp, 'V/A')}, Ki {show(design.q.ki, 'V/(A·s)')}"
    margin = f"{design.q.margins.phase_margin_deg:.0f}° margin is enough here"
    return Proposal(current_values(bench, design), what, margin, design.method, rests_on=inputs(bench))


def _read(bench: Bench, capture: Capture) -> StepFit:
    return fit_step(capture, expected_step(bench, capture.notes))


def _claims(capture: Capture, _: str) -> bool:
    names = set(capture.columns)
    return {"i_q_ref", "i_q"} <= names and ("speed" not in names or float(np.ptp(capture["speed"])) < _HELD)


def step_values(found: StepFit) -> dict[str, Quantity]:
    """Return what a measured step tells as quantities."""
    figures = found.figures
    values = {
        "resistance": to_quantity(found.r),
        "inductance": to_quantity(found.inductance),
        "delay": to_quantity(found.delay),
    }
    if found.lost is not None:
        values["voltage_lost"] = to_quantity(found.lost)
    for name, value, unit in (
        ("rise", figures.rise, "s"), ("overshoot", figures.overshoot / 100, ""), ("settling", figures.settling, "s"),
        ("ringing", figures.ringing, "Hz"), ("first", figures.delay, "s"),
    ):  # fmt: skip
        if math.isfinite(value):
            values[name] = Quantity(value=value, unit=unit)
    return values


def _headline(evidence: Evidence) -> str:
    found = evidence.estimates
    return f"step: L {show(found['inductance'].value, 'H')}, delay {show(found['delay'].value, 's')}"


STEP = CaptureKind(
    "current_step",
    "current_loop",
    _read,
    _headline,
    title=", measured step",
    section="Measured step",
    signals=("i_q_ref", "i_q", "v_q"),
    rank=30,
    claims=_claims,
    quantities=lambda _, __, result: step_values(result),
    needs=((), ("resistance", "inductance", "delay", "overshoot", "ringing")),
    sketch="encoder",
    families=FAMILIES,
    view="current_step",
)
WAYPOINT = Waypoint(
    "current_loop",
    80,
    "Current loop",
    "What gains hold the current, with this delay?",
    first_step="Choose the current loop's bandwidth and settle its gains.",
    settles=limits(kp_d="kp_current", ki_d="ki_current", kp_q="kp_current", ki_q="ki_current", bandwidth_hz="crossover_hz"),
    needs=("plate", "resistance", "inductance", "circuit", "pwm"),
    applies=closes_loops,
    headline=lambda settled: show(settled.values["bandwidth_hz"].value, "Hz"),
    propose=propose,
    captures=(STEP,),
    sections=(
        *(Section(n) for n in ("Design", "Measured step", "Trials", "Number format")),
        Section(
            "Torque and speed", lambda bench: turns_field(bench) and not family_of(bench).own_circuit
        ),
        Section("Six-step", lambda bench: family_of(bench).blocks),
        Section("Open-loop stepping", lambda bench: family_of(bench).open_loop),
    ),
)
