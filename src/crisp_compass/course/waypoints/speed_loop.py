"""Speed loop: gains from settled mechanics, flux and current loop."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.open_loop import closes_loops, steps_open
from crisp_compass.course.resonance import claims_resonance, read_resonance, resonance_headline, resonance_quantities
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.course.speed_design import armature_sensor, armature_tells, design_speed, filter_of
from crisp_compass.course.torque_mode import holds_torque
from crisp_compass.course.values import quantities
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.identify.resonance import broadband
from crisp_compass.loops.speed import SpeedDesign
from crisp_compass.motor import family_of, turns_field
from crisp_compass.plausible import limits
from crisp_compass.quantities import show

if TYPE_CHECKING:
    from crisp_compass.course.speed_measured import MeasuredSpeed

def inputs(bench: Bench) -> tuple[str, ...]:
    """Return what the design rests on."""
    return (
        "mechanics.inertia", "mechanics.viscous_friction", "plate.pole_pairs", *family_of(bench).flux_keys, "current_loop.bandwidth_hz", "pwm.loop_hz",
        *(("resistance.resistance", "inductance.lq") if armature_sensor(bench) else ()),
        *(("start_up.loop_hz",) if without_sensor(bench) and "start_up" in bench.settled else ()),
    )  # fmt: skip


def speed_values(bench: Bench, design: SpeedDesign) -> dict[str, Quantity]:
    """Return what settling the speed loop settles."""
    settings = bench.settings.speed_loop
    values = {
        "kp": (design.kp, "A/(rad/s)"), "ki": (design.ki, "A/rad"), "loop_hz": (1 / design.loop.ts, "Hz"),
        "filter_hz": (filter_of(bench), "Hz"), "ramp": (settings.ramp, "rad/s²"),
    }  # fmt: skip
    return quantities(values)


def propose(bench: Bench) -> Proposal:
    """Return what settling the speed loop would settle; raises Refusal where something is missing."""
    design = design_speed(bench)
    what = f"Kp {show(design.kp, 'A/(rad/s)')}, Ki {show(design.ki, 'A/rad')}"
    margin = f"{design.method}, {design.margins.phase_margin_deg:.0f}° margin"
    return Proposal(speed_values(bench, design), what, margin, design.method, rests_on=inputs(bench))


def _read_response(bench: Bench, capture: Capture) -> MeasuredSpeed:
    from crisp_compass.course.speed_measured import read_speed_response  # it needs this waypoint's design

    return read_speed_response(bench, capture)


def _claims_response(capture: Capture, _: str) -> bool:
    if not ({"speed_ref", "speed"} <= set(capture.columns) and {"i_q", "i_m"} & set(capture.columns)):
        return False
    reference = capture["speed_ref"]
    return bool(len(reference)) and float(np.ptp(reference)) > 0.0  # a shaft that is held is the current loop's


def _response_quantities(_: Bench, __: Capture, found: MeasuredSpeed) -> dict[str, Quantity]:
    """Return what a measured response tells: the plant, the figures of its first step, the gains as they act."""
    values = {k: to_quantity(e) for k, e in found.estimates.items()}
    for name, value, unit in (
        ("overshoot", found.figures.overshoot / 100, ""), ("rise", found.figures.rise, "s"), ("settling", found.figures.settling, "s"), ("expected_overshoot", found.expected.overshoot / 100, ""),
        ("expected_rise", found.expected.rise, "s"), ("kp", found.kp, "A/(rad/s)"), ("ki", found.ki, "A/rad"), ("limited", found.limited, ""),
    ):  # fmt: skip
        if value is not None and math.isfinite(value):
            values[name] = Quantity(value=value, unit=unit)
    return values


def _response_headline(evidence: Evidence) -> str:
    over = evidence.estimates.get("overshoot")
    return f"response: overshoot {100 * over.value:.0f} %" if over is not None else "response of the speed"


RESPONSE = CaptureKind(
    "speed_response",
    "speed_loop",
    _read_response,
    _response_headline,
    title=", measured response",
    section="Measured response",
    signals=("speed_ref", "speed", "i_q"),
    rank=28,
    claims=_claims_response,
    quantities=_response_quantities,
    needs=((), ("limited",)),
    sketch="encoder",
    families=("pm", "stepper", "induction"),
    view="speed_response",
)
ARMATURE_RESPONSE = replace(RESPONSE, key="armature_response", signals=("speed_ref", "speed", "i_m"), families=("brushed",))
RESONANCE = CaptureKind(
    "resonance",
    "speed_loop",
    read_resonance,
    resonance_headline,
    title=", resonance",
    section="Resonance",
    signals=("speed_ref", "speed", "i_q"),
    rank=27,
    claims=claims_resonance,
    fits=broadband,
    quantities=resonance_quantities,
    needs=((), ("reach",)),
    sketch="encoder",
    families=("pm", "stepper", "induction"),
    view="resonance",
)
ARMATURE_RESONANCE = replace(RESONANCE, key="armature_resonance", signals=("speed_ref", "speed", "i_m"), families=("brushed",))
WAYPOINT = Waypoint(
    "speed_loop",
    100,
    "Speed loop",
    "What gains hold the speed?",
    first_step="Choose the speed loop's gains and settle them.",
    settles={
        **limits(kp="kp_speed", ki="ki_speed", filter_hz="filter_hz"),
        "loop_hz": ("Hz", 1e-3, 1e6),
        "ramp": ("rad/s²", 1e-6, 1e9),
    },
    needs=("plate", "flux", "circuit", "pwm", "current_loop"),
    applies=lambda bench: closes_loops(bench) and not steps_open(bench),
    headline=lambda settled: show(settled.values["kp"].value, "A/(rad/s)"),
    propose=propose,
    captures=(RESONANCE, ARMATURE_RESONANCE, RESPONSE, ARMATURE_RESPONSE),
    sections=(Section("Design"), Section("Reference"), Section("Measured response", lambda bench: not without_sensor(bench)), Section("Trials", lambda bench: not armature_tells(bench)), Section("Resonance", lambda bench: not armature_tells(bench)), Section("Number format"), Section("Torque mode", lambda bench: turns_field(bench) and holds_torque(bench)), Section("Outer loop", lambda bench: not turns_field(bench))),
)
