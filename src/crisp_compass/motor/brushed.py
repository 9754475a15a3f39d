"""Brushed motors."""

from __future__ import annotations

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import BrushedPlate
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.identify.plate import brushed_plate, idle_current_check, power_check
from crisp_compass.motor.family import NONE, Best, Constants, Family, PlateOutlook, waiting
from crisp_compass.plant.parameters import AnyMachine, Brushed
from crisp_compass.quantities import grouped, show


def outlook(bench: Bench, _: Best) -> PlateOutlook:
    """Return what the plate implies."""
    plate = bench.settings.plate
    assert isinstance(plate, BrushedPlate)
    axes = (("torque", "N·m"), ("speed", "rpm"))
    points = (plate.v1, plate.v2, plate.i1, plate.i2, plate.n1, plate.n2)
    if any(p is None for p in points):
        return _by_constants(bench, axes)
    v1, v2, i1, i2, n1, n2 = (float(p) for p in points if p is not None)
    try:
        m = brushed_plate((v1, v2), (i1, i2), (n1, n2), plate.no_load_current)
    except Refusal as refusal:
        return waiting("Brushed motor", refusal.sentence, axes)
    stall = plate.v_bus / m.r
    rows = [
        ("Ke = Kt", show(m.ke, "N·m/A", 4)), ("Kv", show(RPM_PER_RAD_S / m.ke, "rpm/V", 4)), ("R with brushes", show(m.r, "Ω")),
        ("stalled", f"{show(stall, 'A')}, {show(stall * m.ke, 'N·m')}"), ("free at the supply", f"{grouped(plate.v_bus / m.ke * RPM_PER_RAD_S)} rpm"),
    ]  # fmt: skip
    if m.friction is not None:
        rows.append(("friction torque", show(m.friction, "N·m")))
    findings = [*m.findings, *power_check(plate.rated_power, plate.rated_torque, plate.rated_speed)]
    findings += idle_current_check(plate.no_load_current, plate.rated_current)
    torque = np.linspace(0.0, stall * m.ke, 100)
    speed = (plate.v_bus - torque / m.ke * m.r) / m.ke * RPM_PER_RAD_S
    return PlateOutlook(
        show(m.ke, "N·m/A"), f"Ke and Kt; R {show(m.r, 'Ω')} between the brushes", "Two working points, V = R·I + Ke·ω solved for both.",
        "What the points imply", tuple(rows), *axes, torque, speed, NONE, None, (f"speed over torque at {show(plate.v_bus, 'V')}", "", ""), tuple(findings),
    )  # fmt: skip


def _by_constants(bench: Bench, axes: tuple[tuple[str, str], tuple[str, str]]) -> PlateOutlook:
    """Return the outlook of a data sheet with R and Ke (or the no-load speed) instead of working points."""
    plate = bench.settings.plate
    assert isinstance(plate, BrushedPlate)
    fluxes, r = [x for _, x in stated(plate, "flux_linkage", None)], plate.r
    if not fluxes or r is None:
        return waiting(
            "Brushed motor",
            "Enter R with Ke or the no-load speed, or voltage, current and speed at two working points (one running free, one braked or held).",
            axes,
        )
    ke, stall = fluxes[0], plate.v_bus / r
    rows = [
        ("Ke = Kt", show(ke, "N·m/A", 4)), ("Kv", show(RPM_PER_RAD_S / ke, "rpm/V", 4)), ("R between the terminals", show(r, "Ω")),
        ("stalled", f"{show(stall, 'A')}, {show(stall * ke, 'N·m')}"), ("free at the supply", f"{grouped(plate.v_bus / ke * RPM_PER_RAD_S)} rpm"),
    ]  # fmt: skip
    findings = list(power_check(plate.rated_power, plate.rated_torque, plate.rated_speed))
    findings += idle_current_check(plate.no_load_current, plate.rated_current)
    if len(fluxes) > 1 and abs(fluxes[1] / fluxes[0] - 1) > 0.1:
        text = f"Ke is {show(fluxes[0], 'V·s/rad')}, the no-load speed says {show(fluxes[1], 'V·s/rad')}: check the voltage and the speed."
        findings.append(Finding("caution", "plate-ke-no-load", text))
    torque = np.linspace(0.0, stall * ke, 100)
    speed = (plate.v_bus - torque / ke * r) / ke * RPM_PER_RAD_S
    return PlateOutlook(
        show(ke, "N·m/A"), f"Ke and Kt; R {show(r, 'Ω')}", "As the data sheet says.",
        "What the constants imply", tuple(rows), *axes, torque, speed, NONE, None, (f"speed over torque at {show(plate.v_bus, 'V')}", "", ""), tuple(findings),
    )  # fmt: skip


def stated(plate: BrushedPlate, constant: str, resistance: float | None) -> list[tuple[str, float]]:
    """Return what the data sheet says of the armature: R, L and Ke (the flux linkage of one pole pair), by itself, by no load and by two working points."""
    found = [("plate", x) for x in (_direct(plate, constant),) if x]
    if constant == "flux_linkage" and plate.no_load_speed:
        volts = (plate.rated_voltage or plate.v_bus) - (plate.r or resistance or 0.0) * (plate.no_load_current or 0.0)
        if volts > 0:
            found.append(("no-load speed", volts / plate.no_load_speed))
    return found + _two_points(plate, constant)


def _direct(plate: BrushedPlate, constant: str) -> float | None:
    return {"resistance": plate.r, "ld": plate.inductance, "lq": plate.inductance, "flux_linkage": plate.ke}.get(constant)


def _two_points(plate: BrushedPlate, constant: str) -> list[tuple[str, float]]:
    """Return R with the brushes in it, or Ke, by two working points."""
    points = (plate.v1, plate.v2, plate.i1, plate.i2, plate.n1, plate.n2)
    if constant not in ("resistance", "flux_linkage") or any(p is None for p in points):
        return []
    v1, v2, i1, i2, n1, n2 = (float(p) for p in points if p is not None)
    try:
        m = brushed_plate((v1, v2), (i1, i2), (n1, n2), plate.no_load_current)
    except Refusal:
        return []
    return [("plate, two points", m.r if constant == "resistance" else m.ke)]


def brush_drop(bench: Bench) -> float:
    """Return the drop of the brushes [V] that the newest levels of an armature tell; 0 where none do."""
    told = [
        e.estimates["voltage_offset"] for e in bench.evidence.get("resistance", ()) if "voltage_offset" in e.estimates
    ]
    return max(told[-1].value, 0.0) if told else 0.0


def _machine(bench: Bench, of: Constants | None) -> AnyMachine:
    assert of is not None
    return Brushed(of.r, of.ld, of.lq, of.psi, drop=brush_drop(bench))


FAMILY = Family(
    {"brushed": "brushed"},
    4,
    (
        ("family", "v1", "i1", "n1", "v2", "i2", "n2"),
        ("r", "inductance", "ke", "no_load_speed", "no_load_current", "rated_voltage", "rated_current"),
        ("rated_power", "rated_speed", "rated_torque", "sensor.kind", "sensor.counts_per_rev", "top_speed"),
    ),
    outlook,
    pole_pairs=lambda plate: int(plate.pole_pairs),
    stated=stated,
    captures="brushed",
    star=False,
    turns_field=False,
    leads=(("M+", "M+"), ("M−", "M−")),
    machine=_machine,
    phase="the armature",
    first_steps={
        "resistance": "Hold the shaft, take DC levels of the armature in both directions (v_m, i_m) and drop the capture on the window.",
        "inductance": "Hold the shaft, take voltage steps on the armature (v_m, i_m) and drop the capture on the window.",
        "flux": "Run the motor at several speeds and loads (v_m, i_m, speed), or let it coast with open terminals, and drop the capture on the window.",
        "mechanics": "Run the shaft up and let it coast, capture speed and i_m and drop the capture on the window.",
    },
    hints={
        "resistance": "Drop DC levels of the armature here (v_m and i_m), the shaft held; best of both signs and at several shaft positions.",
        "inductance": "Drop a voltage-step or injected-sine capture of the armature here (v_m and i_m), the shaft held.",
        "mechanics": "Drop a run-up followed by a coast here (speed and i_m), load off, supply switched off at speed.",
        "flux": "Drop v_m and speed of an open, coasting armature here, or v_m, i_m and speed running at several speeds and loads.",
    },
)
