"""Three-phase permanent-magnet machines, sinusoidal and trapezoidal."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import MagnetPlate, rated_peak
from crisp_compass.bench.rules import settled_value
from crisp_compass.conversions import RPM_PER_RAD_S, flux_from_kt, flux_from_kv, star_flux, star_impedance
from crisp_compass.estimates import Finding
from crisp_compass.identify.plate import (
    convention_rows,
    idle_current_check,
    likeliest_slip,
    magnet_plate,
    power_check,
    supply_checks,
)
from crisp_compass.identify.running import flux_from_no_load
from crisp_compass.modulation.pwm import linear_limit
from crisp_compass.motor.family import NONE, Best, Family, PlateOutlook, Rows
from crisp_compass.quantities import counted, grouped, show


def conventions(flux: float, pole_pairs: int) -> Rows:
    """Return the constant in every convention as printed: name and figure."""
    return tuple((name, show(value, unit, 4)) for name, (value, unit) in convention_rows(flux, pole_pairs).items())


def outlook(bench: Bench, best: Best) -> PlateOutlook:
    """Return what the plate implies: how fast the supply can turn the motor, and the constant in every convention."""
    plate = bench.settings.plate
    assert isinstance(plate, MagnetPlate)
    limit = linear_limit(plate.v_bus, bench.settings.pwm.scheme)
    typed = magnet_plate(
        pole_pairs=plate.pole_pairs,
        kv=plate.kv,
        kv_convention=plate.kv_convention,
        kt=plate.kt,
        kt_convention=plate.kt_convention,
    )
    settled = settled_value(bench, "flux.flux_linkage")
    known, resistance = best("flux_linkage"), best("resistance")
    flux = known[0] if known else None
    names = {"settled": "measured flux", "plate, Kv": "flux by the plate's Kv", "plate, Kt": "flux by the plate's Kt"}
    source = names.get(known[2], known[2]) if known else ""
    findings = list(typed.findings) + power_check(plate.rated_power, plate.rated_torque, plate.rated_speed)
    findings += supply_checks(
        flux=flux, pole_pairs=plate.pole_pairs, r_phase=resistance[0] if resistance else None, volts=plate.rated_voltage or plate.v_bus,
        no_load_speed=plate.no_load_speed, stall_current=plate.stall_current,
    )  # fmt: skip
    findings += idle_current_check(plate.no_load_current, rated_peak(plate))
    if settled and typed.flux_by_kv:
        findings += _kv_against_flux(settled.value, typed.flux_by_kv)
    reach = limit / (flux * plate.pole_pairs) if flux else None
    top_rpm = plate.top_speed * RPM_PER_RAD_S
    if reach and reach < plate.top_speed:
        text = f"Back-EMF reaches the modulator's limit at {grouped(reach * RPM_PER_RAD_S)} rpm, below the top speed of {grouped(top_rpm)} rpm."
        findings.append(Finding("caution", "top-speed-beyond-supply", text))
    findings += synchronous(plate)
    if flux and plate.rated_torque:
        findings += _rated_torque(flux, plate, rated_peak(plate))
    if plate.connection == "delta":
        text = f"The winding is in delta: captures at the terminals already give the star equivalent; data-sheet values per winding divide by 3 (R, L) or √3 (flux: {show(star_flux(1.0, 'delta'), '', 3)} of it)."
        findings.append(Finding("info", "delta", text))
    speed = np.linspace(0.0, 1.25 * plate.top_speed, 100)
    field = show(plate.top_speed * plate.pole_pairs / (2 * math.pi), "Hz")
    title = f"{plate.motor}: " if plate.motor else ""
    reason = f"{title}at top speed the field turns at {field}; the modulator gives {show(limit, 'V')} phase peak."
    shape = (
        ""
        if plate.family == "sinusoidal"
        else " Its back-EMF is trapezoidal: the conventions hold for the fundamental."
    )
    if reach:
        answer = f"{grouped(reach * RPM_PER_RAD_S)} rpm"
        doubt = f"maximum speed at {show(plate.v_bus, 'V')}: back-EMF alone reaches the modulator's limit ({source} {show(flux, 'Wb')})"
    else:
        answer = f"{show(plate.v_bus, 'V')}, {counted(plate.pole_pairs, 'pole pair')}"
        doubt = "Enter the data sheet's Kv or Kt to see how fast this supply can turn the motor."
    return PlateOutlook(
        answer, doubt, reason + shape, "The same constant in every convention", rows=conventions(flux, plate.pole_pairs) if flux else (),
        x_axis=("speed", "rpm"), y_axis=("phase voltage, peak", "V"), x=speed * RPM_PER_RAD_S,
        predicted=speed * plate.pole_pairs * flux if flux else NONE, limit=np.full(len(speed), limit), mark=top_rpm,
        legend=("back-EMF", "modulator's limit", "top speed"), findings=tuple(findings),
    )  # fmt: skip


def synchronous(plate: MagnetPlate) -> list[Finding]:
    """Judge frequency and rated speed of a plate: a magnet rotor turns with the field, so p = 60·f/n is whole (IEC 60034-1)."""
    if not (plate.rated_hz and plate.rated_speed):
        return []
    pairs = 2 * math.pi * plate.rated_hz / plate.rated_speed
    whole = max(round(pairs), 1)
    rpm = plate.rated_speed * RPM_PER_RAD_S
    if abs(pairs / whole - 1) > 0.004:
        text = f"{plate.rated_hz:g} Hz at {grouped(rpm)} rpm would be {pairs:.3g} pole pairs, which is not whole: a magnet motor turns with its field. A speed a few per cent low means slip: is it an induction motor?"
        return [Finding("stop", "pole-pairs-not-whole", text)]
    if whole != plate.pole_pairs:
        text = f"{plate.rated_hz:g} Hz at {grouped(rpm)} rpm are {counted(whole, 'pole pair')}, the plate's field says {plate.pole_pairs}: poles were counted, or one of the figures is another motor's."
        return [Finding("caution", "pole-pairs-differ", text)]
    return []


def _kv_against_flux(flux: float, typed: float) -> list[Finding]:
    """Compare the plate's Kv with the measured flux and name the likeliest slip of base."""
    ratio = typed / flux
    if abs(ratio - 1) < 0.07:
        return []
    slip = likeliest_slip(ratio, 0.06)
    guess = f" That is about {slip}." if slip else ""
    text = (
        f"The plate's Kv gives {show(typed, 'Wb')}, the capture {show(flux, 'Wb')}: a factor of {ratio:.3g}.{guess}"
    )
    return [Finding("caution", "kv-disagrees", text)]


def _rated_torque(flux: float, plate: MagnetPlate, peak: float) -> list[Finding]:
    assert plate.rated_torque
    kt = 1.5 * plate.pole_pairs * flux
    ratio = plate.rated_torque / (kt * peak)
    if abs(math.log(ratio)) < 0.15:
        return [
            Finding(
                "info",
                "torque-agrees",
                f"Rated torque is Kt times rated current within {100 * abs(ratio - 1):.0f} %.",
            )
        ]
    slip = likeliest_slip(ratio, 0.08)
    guess = f" That is about {slip}." if slip else ""
    text = f"Kt times the rated current gives {show(kt * peak, 'N·m')}, the plate says {show(plate.rated_torque, 'N·m')}: a factor of {ratio:.3g}.{guess}"
    return [Finding("caution", "torque-disagrees", text)]


def stated(plate: Any, constant: str, resistance: float | None) -> list[tuple[str, float]]:
    """Return what the plate says of a phase of the star: R, L, and the flux by Kv, Kt and no-load speed."""
    assert isinstance(plate, MagnetPlate)
    winding = {"resistance": plate.r, "ld": plate.inductance, "lq": plate.inductance}.get(constant)
    if winding:
        return [("plate", winding / 2 if plate.winding_base == "line" else star_impedance(winding, plate.connection))]
    if constant != "flux_linkage":
        return []
    found = []
    if plate.kv:
        found.append(("plate, Kv", flux_from_kv(plate.kv, plate.kv_convention, plate.pole_pairs)))
    if plate.kt:
        found.append(("plate, Kt", flux_from_kt(plate.kt, plate.kt_convention, plate.pole_pairs)))
    if plate.no_load_speed:
        volts, amps = plate.rated_voltage or plate.v_bus, plate.no_load_current or 0.0
        psi = flux_from_no_load(volts, plate.no_load_speed, plate.pole_pairs, amps=amps, r_phase=resistance or 0.0)
        found.append(("no-load speed", psi))
    return found


FAMILY = Family(
    {"sinusoidal": "PM, sinusoidal", "trapezoidal": "PM, trapezoidal"},
    1,
    (
        ("family", "pole_pairs", "connection", "rated_current", "current_base", "top_speed", "sensor.kind", "sensor.counts_per_rev"),
        ("kv", "kv_convention", "kt", "kt_convention", "r", "inductance", "winding_base"),
        ("rated_power", "rated_speed", "rated_hz", "rated_torque", "stall_current", "no_load_speed"),
    ),
    outlook,
    pole_pairs=lambda plate: int(plate.pole_pairs),
    stated=stated,
    blocks=True,
)  # fmt: skip
