"""What a plate implies, by motor family: one answer, one picture, the derived figures and what does not fit."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench, PlateSettings
from crisp_compass.bench.rules import settled_value
from crisp_compass.conversions import RPM_PER_RAD_S, star_flux
from crisp_compass.course.known import best_source, best_value
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.identify.plate import (
    InductionPlate,
    brushed_plate,
    convention_rows,
    induction_plate,
    likeliest_slip,
    magnet_plate,
    microstep_torque,
    power_check,
    stepper_plate,
    supply_checks,
)
from crisp_compass.modulation.pwm import linear_limit
from crisp_compass.preparation.supply import rated_peak
from crisp_compass.quantities import show

Rows = tuple[tuple[str, str], ...]
_NONE = np.empty(0)


@dataclass(frozen=True)
class PlateOutlook:
    """What the plate page shows.

    ``x`` (n,) with ``predicted``, ``limit`` (n,) or empty, ``mark`` an x position or None, all in ``x_axis`` and
    ``y_axis`` units (name, unit); ``legend`` names the predicted curve, the limit and the mark; ``rows`` under ``heading``.
    """

    answer: str
    doubt: str
    reason: str
    heading: str
    rows: Rows
    x_axis: tuple[str, str]
    y_axis: tuple[str, str]
    x: FloatArray
    predicted: FloatArray
    limit: FloatArray
    mark: float | None
    legend: tuple[str, str, str]
    findings: tuple[Finding, ...]


def plate_outlook(bench: Bench) -> PlateOutlook:
    """Return the outlook of this bench's motor family."""
    family = bench.settings.plate.family
    if family == "induction":
        return _induction(bench.settings.plate)
    if family == "stepper":
        return _stepper(bench.settings.plate)
    if family == "brushed":
        return _brushed(bench.settings.plate)
    return _magnet(bench)


def pole_pairs_of(plate: PlateSettings) -> int:
    """Return the pole pairs that the plate implies: typed, or by steps a turn, or by speed and frequency."""
    if plate.family == "stepper":
        return max(plate.steps_per_turn // 4, 1)
    if plate.family == "induction" and plate.rated_speed:
        return induction_plate(frequency=plate.mains_hz, speed=plate.rated_speed).poles // 2
    return plate.pole_pairs


def conventions(flux: float, pole_pairs: int) -> Rows:
    """Return the constant in every convention as printed: name and figure."""
    return tuple((name, show(value, unit, 4)) for name, (value, unit) in convention_rows(flux, pole_pairs).items())


# ---- permanent magnets


def _magnet(bench: Bench) -> PlateOutlook:
    plate = bench.settings.plate
    limit = linear_limit(plate.v_bus, bench.settings.pwm.scheme)
    typed = magnet_plate(
        pole_pairs=plate.pole_pairs,
        kv=plate.kv,
        kv_convention=plate.kv_convention,
        kt=plate.kt,
        kt_convention=plate.kt_convention,
    )
    settled = settled_value(bench, "flux.flux_linkage")
    best = best_source(bench, "flux_linkage")
    flux = best.value if best else None
    names = {"settled": "measured flux", "plate, Kv": "the plate's Kv", "plate, Kt": "the plate's Kt"}
    source = names.get(best.name, best.name) if best else ""
    findings = list(typed.findings) + power_check(plate.rated_power, plate.rated_torque, plate.rated_speed)
    findings += supply_checks(
        flux=flux, pole_pairs=plate.pole_pairs, r_phase=best_value(bench, "resistance"), volts=plate.rated_voltage or plate.v_bus,
        no_load_speed=plate.no_load_speed, stall_current=plate.stall_current,
    )  # fmt: skip
    if settled and typed.flux_by_kv:
        findings += _kv_against_flux(settled.value, typed.flux_by_kv)
    reach = limit / (flux * plate.pole_pairs) if flux else None
    top_rpm = plate.top_speed * RPM_PER_RAD_S
    if reach and reach < plate.top_speed:
        text = f"Back-EMF reaches the modulator's limit at {reach * RPM_PER_RAD_S:.0f} rpm, below the top speed of {top_rpm:.0f} rpm."
        findings.append(Finding("caution", "top-speed-beyond-supply", text))
    if flux and plate.rated_torque:
        findings += _rated_torque(flux, plate, rated_peak(bench))
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
        answer = f"{reach * RPM_PER_RAD_S:.0f} rpm"
        doubt = f"maximum speed at {show(plate.v_bus, 'V')}: back-EMF alone reaches the modulator's limit ({source} {show(flux, 'Wb')})"
    else:
        answer = f"{show(plate.v_bus, 'V')}, {plate.pole_pairs} pole pairs"
        doubt = "Enter the data sheet's Kv or Kt to see how fast this supply can turn the motor."
    return PlateOutlook(
        answer, doubt, reason + shape, "The same constant in every convention", conventions(flux, plate.pole_pairs) if flux else (),
        ("speed", "rpm"), ("phase voltage, peak", "V"), speed * RPM_PER_RAD_S,
        speed * plate.pole_pairs * flux if flux else _NONE, np.full(len(speed), limit), top_rpm,
        ("back-EMF", "modulator's limit", "top speed"), tuple(findings),
    )  # fmt: skip


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


def _rated_torque(flux: float, plate: PlateSettings, peak: float) -> list[Finding]:
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


# ---- induction


def _induction(plate: PlateSettings) -> PlateOutlook:
    axes = (("speed", "rpm"), ("torque", "N·m"))
    if not plate.rated_speed:
        return _waiting("Induction motor", "Enter frequency and rated speed: poles and slip follow.", axes)
    try:
        m = induction_plate(
            frequency=plate.mains_hz, speed=plate.rated_speed, volts=plate.rated_voltage, amps=_rms(plate),
            power=plate.rated_power, power_factor=plate.power_factor, efficiency=plate.efficiency,
        )  # fmt: skip
    except Refusal as refusal:
        return _waiting("Induction motor", refusal.sentence, axes)
    findings = [*m.findings, *power_check(plate.rated_power, plate.rated_torque, plate.rated_speed)]
    rows = [
        ("synchronous speed", f"{m.sync_speed * RPM_PER_RAD_S:.0f} rpm"),
        ("slip", f"{100 * m.slip:.2f} %, {m.slip_hz:.2f} Hz"),
    ]
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
    reason = f"The field turns at {m.sync_speed * RPM_PER_RAD_S:.0f} rpm; at rated load the rotor lags it by {m.slip_hz:.2f} Hz."
    torque = show(m.torque, "N·m") if m.torque else f"{m.poles} poles"
    return PlateOutlook(
        torque, f"rated torque; {doubt}" if m.torque else doubt, reason, "What the plate implies", tuple(rows), *axes,
        x, y, np.full(len(x), m.torque) if m.torque else _NONE, plate.rated_speed * RPM_PER_RAD_S,
        ("torque with a pull-out of 2.5 times rated", "rated torque", "rated speed"), tuple(findings),
    )  # fmt: skip


def _rms(plate: PlateSettings) -> float:
    return plate.rated_current / math.sqrt(2) if plate.current_base == "peak" else plate.rated_current


def _kloss(m: InductionPlate) -> tuple[FloatArray, FloatArray]:
    """Torque over speed by Kloss's formula (from memory): T/Tk = 2/(s/sk + sk/s), pull-out 2.5 times rated."""
    if not m.torque or m.slip <= 0:
        return _NONE, _NONE
    ratio = 2.5
    pull_out = m.slip * (ratio + math.sqrt(ratio**2 - 1))
    slip = np.linspace(1.0, 1e-4, 300)
    return (1 - slip) * m.sync_speed * RPM_PER_RAD_S, ratio * m.torque * 2 / (slip / pull_out + pull_out / slip)


# ---- stepper, brushed


def _stepper(plate: PlateSettings) -> PlateOutlook:
    axes = (("step rate", "1/s"), ("current that one step reaches", "A"))
    try:
        m = stepper_plate(
            steps=plate.steps_per_turn, volts=plate.rated_voltage, amps=plate.rated_current, r=plate.r, inductance=plate.inductance,
            holding=plate.holding_torque, supply=plate.v_bus,
        )  # fmt: skip
    except Refusal as refusal:
        return _waiting("Stepper", refusal.sentence, axes)
    rows = [("full step", f"{m.step_deg:.3g}°"), ("pole pairs", f"{m.pole_pairs}")]
    if m.time_constant:
        rows.append(("L/R", show(m.time_constant, "s")))
    if m.flux:
        rows.append(("flux by holding torque", show(m.flux, "Wb")))
    if m.corner_steps:
        rows.append(("step rate at full current", f"{m.corner_steps:.0f} /s"))
        rows.append(("that is", f"{60 * m.corner_steps / plate.steps_per_turn:.0f} rpm"))
    rows += [(f"torque of 1/{n} step", f"{100 * microstep_torque(n):.1f} %") for n in (4, 8, 16, 32)]
    x = y = limit = _NONE
    mark = None
    if m.time_constant and plate.r and m.corner_steps:
        x = np.linspace(0.1, 3.0, 200) * m.corner_steps
        y = np.minimum(plate.v_bus / plate.r * (1 - np.exp(-1 / (x * m.time_constant))), plate.rated_current)
        limit, mark = np.full(len(x), plate.rated_current), m.corner_steps
    answer = f"{m.corner_steps:.0f} steps/s" if m.corner_steps else f"{m.step_deg:.3g}° a step"
    doubt = (
        f"is where {show(plate.v_bus, 'V')} no longer drives {show(plate.rated_current, 'A')} into one full step (back-EMF aside)"
        if m.corner_steps
        else "Enter R, L and the current of one phase to see how fast the current follows."
    )
    reason = f"{plate.steps_per_turn} steps a turn are {m.pole_pairs} pole pairs of a two-phase machine; both phases on hold {show(plate.holding_torque, 'N·m')}."
    return PlateOutlook(
        answer, doubt, reason, "What the plate implies", tuple(rows), *axes, x, y, limit, mark,
        ("current at the end of a step", "rated current", "where they part"), m.findings,
    )  # fmt: skip


def _brushed(plate: PlateSettings) -> PlateOutlook:
    axes = (("torque", "N·m"), ("speed", "rpm"))
    points = (plate.v1, plate.v2, plate.i1, plate.i2, plate.n1, plate.n2)
    if any(p is None for p in points):
        return _waiting(
            "Brushed motor",
            "Enter voltage, current and speed at two working points: one running free, one braked or held.",
            axes,
        )
    v1, v2, i1, i2, n1, n2 = (float(p) for p in points if p is not None)
    try:
        m = brushed_plate((v1, v2), (i1, i2), (n1, n2), plate.no_load_current)
    except Refusal as refusal:
        return _waiting("Brushed motor", refusal.sentence, axes)
    stall = plate.v_bus / m.r
    rows = [
        ("Ke = Kt", show(m.ke, "N·m/A", 4)), ("Kv", show(RPM_PER_RAD_S / m.ke, "rpm/V", 4)), ("R with brushes", show(m.r, "Ω")),
        ("stalled", f"{show(stall, 'A')}, {show(stall * m.ke, 'N·m')}"), ("free at the supply", f"{plate.v_bus / m.ke * RPM_PER_RAD_S:.0f} rpm"),
    ]  # fmt: skip
    if m.friction is not None:
        rows.append(("friction torque", show(m.friction, "N·m")))
    findings = [*m.findings, *power_check(plate.rated_power, plate.rated_torque, plate.rated_speed)]
    torque = np.linspace(0.0, stall * m.ke, 100)
    speed = (plate.v_bus - torque / m.ke * m.r) / m.ke * RPM_PER_RAD_S
    return PlateOutlook(
        show(m.ke, "N·m/A"), f"Ke and Kt; R {show(m.r, 'Ω')} between the brushes", "Two working points, V = R·I + Ke·ω solved for both.",
        "What the points imply", tuple(rows), *axes, torque, speed, _NONE, None, (f"speed over torque at {show(plate.v_bus, 'V')}", "", ""), tuple(findings),
    )  # fmt: skip


def _waiting(answer: str, doubt: str, axes: tuple[tuple[str, str], tuple[str, str]]) -> PlateOutlook:
    return PlateOutlook(
        answer, doubt, "", "What the plate implies", (), *axes, _NONE, _NONE, _NONE, None, ("", "", ""), ()
    )
