"""Induction motors."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import InductionPlate
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.identify import plate as by_plate
from crisp_compass.identify.plate import induction_plate, power_check
from crisp_compass.motor.family import NONE, Best, Constants, Family, PlateOutlook, Winding, waiting
from crisp_compass.plant.parameters import AnyMachine, Induction
from crisp_compass.quantities import grouped, show

#: Part of the voltage that the flux may take before it is weakened; the rest is for torque.
FLUX_SHARE = 0.95


def outlook(bench: Bench, _: Best) -> PlateOutlook:
    """Return what the plate implies."""
    plate = bench.settings.plate
    assert isinstance(plate, InductionPlate)
    axes = (("speed", "rpm"), ("torque", "N·m"))
    if not plate.rated_speed:
        return waiting("Induction motor", "Enter frequency and rated speed: poles and slip follow.", axes)
    try:
        m = induction_plate(
            frequency=plate.mains_hz, speed=plate.rated_speed, volts=plate.rated_voltage, amps=_rms(plate),
            power=plate.rated_power, power_factor=plate.power_factor, efficiency=plate.efficiency,
        )  # fmt: skip
    except Refusal as refusal:
        return waiting("Induction motor", refusal.sentence, axes)
    findings = [*m.findings, *power_check(plate.rated_power, plate.rated_torque, plate.rated_speed)]
    rows = [
        ("synchronous speed", f"{grouped(m.sync_speed * RPM_PER_RAD_S)} rpm"),
        ("slip", f"{100 * m.slip:.2f} %, {m.slip_hz:.2f} Hz"),
    ]
    rows += _connection_rows(plate)
    findings += connection_findings(plate, plate.v_bus / math.sqrt(2))
    if m.torque:
        rows.append(("rated torque", show(m.torque, "N·m")))
    if m.pf_times_eff:
        rows.append(("power factor × efficiency", f"{m.pf_times_eff:.3f}"))
    if m.magnetising and m.magnetising_inductance and m.leakage and m.rotor_resistance:
        low, middle, high = m.magnetising
        rows += [
            ("no-load current, 95 %", f"{show(middle, 'A')} rms ({low:.3g} to {high:.3g})"),
            ("its inductance, phase", show(m.magnetising_inductance, "H")),
            ("leakage, phase", show(m.leakage, "H")),
            ("rotor, stator resistance", f"{show(m.rotor_resistance, 'Ω')}, {show(m.stator_resistance, 'Ω')}"),
        ]
    x, y = _kloss(m)
    doubt = f"{m.poles} poles at {plate.mains_hz:g} Hz, slip {100 * m.slip:.2f} %"
    reason = f"The field turns at {grouped(m.sync_speed * RPM_PER_RAD_S)} rpm; at rated load the rotor lags it by {m.slip_hz:.2f} Hz."
    torque = show(m.torque, "N·m") if m.torque else f"{m.poles} poles"
    return PlateOutlook(
        torque, f"rated torque; {doubt}" if m.torque else doubt, reason, "What the plate implies", tuple(rows), *axes,
        x, y, np.full(len(x), m.torque) if m.torque else NONE, plate.rated_speed * RPM_PER_RAD_S,
        ("torque with a pull-out of 2.5 times rated", "rated torque", "rated speed"), tuple(findings),
    )  # fmt: skip


def coil_voltage(plate: InductionPlate) -> float | None:
    """Return the voltage that one coil is wound for, V rms: the lower figure of a dual-voltage plate."""
    if plate.rated_voltage is None:
        return None
    return plate.rated_voltage if plate.connection == "delta" else plate.rated_voltage / math.sqrt(3)


def _connection_rows(plate: InductionPlate) -> list[tuple[str, str]]:
    coil = coil_voltage(plate)
    return [] if coil is None else [("delta | star", f"{coil:.0f} V | {math.sqrt(3) * coil:.0f} V line")]


def connection_findings(plate: InductionPlate, line: float) -> list[Finding]:
    """Judge star or delta for a source that gives ``line`` [V rms] between two leads."""
    coil = coil_voltage(plate)
    if coil is None:
        return []
    assert plate.rated_voltage
    ratio, other = line / plate.rated_voltage, "star" if plate.connection == "delta" else "delta"
    higher, lower = math.sqrt(3) * coil, coil
    if plate.connection == "delta" and ratio > 1.45:
        text = f"The link can give {line:.0f} V line, and in delta the coils take {lower:.0f} V: at rated frequency and full voltage the flux would be {ratio:.1f} times rated and the no-load current far above rated. Connect in star ({higher:.0f} V), or limit the voltage over frequency."
        return [Finding("caution", "delta-on-the-higher", text)]
    if ratio < 0.85:
        reach = ratio * plate.mains_hz
        text = f"The link gives at most {line:.0f} V line, the winding in {plate.connection} wants {plate.rated_voltage:.0f} V: full flux ends at {reach:.0f} Hz and above it torque falls."
        if plate.connection == "star" and line > 0.85 * lower:
            text += f" In delta it is wound for {lower:.0f} V: connect it so."
        elif other == "star":
            text += f" Star would be worse ({higher:.0f} V)."
        return [Finding("caution", "star-on-the-lower", text)]
    return []


def _rms(plate: InductionPlate) -> float:
    return plate.rated_current / math.sqrt(2) if plate.current_base == "peak" else plate.rated_current


def _kloss(m: by_plate.InductionPlate) -> tuple[FloatArray, FloatArray]:
    """Torque over speed by Kloss's formula (from memory): T/Tk = 2/(s/sk + sk/s), pull-out 2.5 times rated."""
    if not m.torque or m.slip <= 0:
        return NONE, NONE
    ratio = 2.5
    pull_out = m.slip * (ratio + math.sqrt(ratio**2 - 1))
    slip = np.linspace(1.0, 1e-4, 300)
    return (1 - slip) * m.sync_speed * RPM_PER_RAD_S, ratio * m.torque * 2 / (slip / pull_out + pull_out / slip)


def pole_pairs(plate: InductionPlate) -> int:
    """Return the pole pairs by speed and frequency; raises Refusal for a speed that fits none."""
    if not plate.rated_speed:
        raise Refusal("the rated speed is missing", "enter frequency and rated speed: the poles follow")
    return induction_plate(frequency=plate.mains_hz, speed=plate.rated_speed).poles // 2


def _winding(bench: Bench) -> Winding:
    """Return the way of the current into the rotor's circuit: Rs + RR and the leakage."""
    keys = ("resistance.resistance", "circuit.rotor_resistance", "circuit.leakage_inductance")
    rs, rr, leakage = (need(bench, k) for k in keys)
    bars = [q.u or 0.0 for k in keys if (q := settled_value(bench, k)) is not None]
    return Winding(rs + rr, leakage, leakage, math.hypot(bars[0], bars[1]), l_u=bars[2])


def _flux(bench: Bench) -> float:
    """Return the rotor flux that the magnetizing current makes."""
    return need(bench, "circuit.magnetizing_inductance") * need(bench, "circuit.magnetizing_current")


def _machine(bench: Bench, _: Constants | None) -> AnyMachine:
    """Return the plant's machine from the settled circuit; raises Refusal where it is not settled."""
    lm, rr, leakage = (
        need(bench, f"circuit.{k}") for k in ("magnetizing_inductance", "rotor_resistance", "leakage_inductance")
    )
    r, plate = need(bench, "resistance.resistance"), bench.settings.plate
    assert isinstance(plate, InductionPlate)
    return Induction(r, leakage, leakage, _flux(bench), pole_pairs=float(pole_pairs(plate)), lm=lm, rr=rr)


def _believed(bench: Bench) -> dict[str, float]:
    """Return what the firmware believes of the rotor, and the stator's own resistance: the loops see both in series."""
    lm, rr, current, r = (
        need(bench, k)
        for k in ("circuit.magnetizing_inductance", "circuit.rotor_resistance", "circuit.magnetizing_current", "resistance.resistance")
    )
    return {"lm": lm, "rotor_rate": rr / lm, "i_flux": current, "flux_share": FLUX_SHARE, "r": r}


_HINT = "Drop a no-load test (shaft free, rated voltage and frequency) and a locked test (rated current, a quarter of rated frequency) here: v_ab, v_bc, i_a, i_b."

FAMILY = Family(
    {"induction": "induction"},
    3,
    (
        ("family", "rated_voltage", "mains_hz", "rated_current", "current_base", "connection"),
        ("rated_power", "rated_speed", "rated_torque", "power_factor", "efficiency"),
        ("sensor.kind", "sensor.counts_per_rev", "top_speed"),
    ),
    outlook,
    pole_pairs=pole_pairs,
    stated=lambda plate, constant, resistance: [],
    captures="induction",
    machine=_machine,
    own_circuit=True,
    voltage="Voltage, line rms",
    speed_by="voltage, frequency and rated speed",
    believed=_believed,
    hints={
        "resistance": "Drop DC levels between A and B here (v_ab and i_a, C open), or take the three pairs with a meter.",
        "circuit": _HINT,
    },
    winding=_winding,
    winding_keys=("resistance.resistance", "circuit.rotor_resistance", "circuit.leakage_inductance"),
    flux=_flux,
    flux_keys=("circuit.magnetizing_inductance", "circuit.magnetizing_current"),
)
