"""Two-phase steppers."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import StepperPlate, rated_peak
from crisp_compass.errors import Refusal
from crisp_compass.identify.plate import microstep_torque, stepper_plate
from crisp_compass.motor.family import NONE, Best, Constants, Family, PlateOutlook, Rows, synchronous, waiting
from crisp_compass.plant.parameters import AnyMachine
from crisp_compass.quantities import grouped, show


def outlook(bench: Bench, _: Best) -> PlateOutlook:
    """Return what the plate implies."""
    plate = bench.settings.plate
    assert isinstance(plate, StepperPlate)
    amps = rated_peak(plate) / math.sqrt(2)  # of each winding, both on
    axes = (("step rate", "1/s"), ("current that one step reaches", "A"))
    try:
        m = stepper_plate(
            steps=plate.steps_per_turn, volts=plate.rated_voltage, amps=amps, r=plate.r, inductance=plate.inductance,
            holding=plate.holding_torque, supply=plate.v_bus,
        )  # fmt: skip
    except Refusal as refusal:
        return waiting("Stepper", refusal.sentence, axes)
    rows = [("full step", f"{m.step_deg:.3g}°"), ("pole pairs", f"{m.pole_pairs}")]
    if m.time_constant:
        rows.append(("L/R", show(m.time_constant, "s")))
    if m.flux:
        rows.append(("flux by holding torque", show(m.flux, "Wb")))
    if m.corner_steps:
        rows.append(("step rate at full current", f"{grouped(m.corner_steps)} /s"))
        rows.append(("that is", f"{grouped(60 * m.corner_steps / plate.steps_per_turn)} rpm"))
    rows += [(f"torque of 1/{n} step", f"{100 * microstep_torque(n):.1f} %") for n in (4, 8, 16, 32)]
    x = y = limit = NONE
    mark = None
    if m.time_constant and plate.r and m.corner_steps:
        x = np.linspace(0.1, 3.0, 200) * m.corner_steps
        y = np.minimum(plate.v_bus / plate.r * (1 - np.exp(-1 / (x * m.time_constant))), amps)
        limit, mark = np.full(len(x), amps), m.corner_steps
    answer = f"{grouped(m.corner_steps)} steps/s" if m.corner_steps else f"{m.step_deg:.3g}° a step"
    doubt = (
        f"is where {show(plate.v_bus, 'V')} no longer drives {show(amps, 'A')} into one full step (back-EMF aside)"
        if m.corner_steps
        else "Enter R, L and the current of one phase to see how fast the current follows."
    )
    reason = f"{plate.steps_per_turn} steps a turn are {m.pole_pairs} pole pairs of a two-phase machine; both phases on hold {show(plate.holding_torque, 'N·m')}."
    return PlateOutlook(
        answer, doubt, reason, "What the plate implies", tuple(rows), *axes, x, y, limit, mark,
        ("current at the end of a step", "rated current", "where they part"), m.findings,
    )  # fmt: skip


def encoder_rows(plate: StepperPlate, counts: float) -> Rows:
    """Return what an encoder's counts a turn leave of a full step."""
    per_step = counts / plate.steps_per_turn
    return (("counts a step", f"{per_step:.3g}"), ("finest error band", f"1/{per_step:.3g} step"))


def stated(plate: StepperPlate, constant: str, resistance: float | None) -> list[tuple[str, float]]:
    """Return what the plate says of a winding: R, L, and the flux by the holding torque of both windings at rated current."""
    del resistance
    winding = {"resistance": plate.r, "ld": plate.inductance, "lq": plate.inductance}.get(constant)
    if winding:
        return [("plate", winding)]
    if constant == "flux_linkage" and plate.holding_torque:
        return [("holding torque", plate.holding_torque / (plate.pole_pairs * rated_peak(plate)))]
    return []


def _machine(bench: Bench, of: Constants | None) -> AnyMachine:
    plate = bench.settings.plate
    assert of is not None
    assert isinstance(plate, StepperPlate)
    return synchronous(plate, of, plate.detent_torque)


FAMILY = Family(
    {"stepper": "stepper, two-phase"},
    2,
    (
        (
            "family",
            "steps_per_turn",
            "rated_voltage",
            "rated_current",
            "r",
            "inductance",
            "holding_torque",
        ),
        ("sensor.kind", "sensor.counts_per_rev", "stepping.encoder", "top_speed", "current_base", "detent_torque"),
    ),
    outlook,
    pole_pairs=lambda plate: int(plate.pole_pairs),
    stated=stated,
    encoder_rows=encoder_rows,
    machine=_machine,
    captures="stepper",
    star=False,
    open_loop=True,
    leads=tuple((n, n) for n in ("A+", "A−", "B+", "B−")),
    voltage="Voltage, phase",
    phase="one winding",
    first_steps={
        "resistance": "Hold the shaft, take DC levels of one winding (v_a, i_a) and drop the capture on the window.",
        "inductance": "Hold the shaft, take voltage steps on one winding (v_a, i_a) and drop the capture on the window.",
        "flux": "Leave the leads open, turn the shaft by hand or let it coast (v_a, v_b) and drop the capture on the window.",
    },
    hints={
        "resistance": "Drop DC levels of one winding here (v_a and i_a, or v_b and i_b), the shaft held.",
        "inductance": "Drop a voltage-step or injected-sine capture of one winding here (v_a and i_a, or v_b and i_b), the shaft held.",
        "flux": "Drop a capture of one or both open windings here (v_a, v_b), the shaft coasting or turned by hand.",
    },
)
