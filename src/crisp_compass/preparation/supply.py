"""Supply and drive against the motor, and the limits proposed for a first run."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak, torque_constant
from crisp_compass.conversions import RPM_PER_RAD_S, peak_from_rms
from crisp_compass.estimates import Finding
from crisp_compass.identify.plate import drive_match, rectified
from crisp_compass.modulation.pwm import linear_limit
from crisp_compass.motor import family_of, pole_pairs_of, three_phases
from crisp_compass.quantities import grouped, show

if TYPE_CHECKING:
    from crisp_compass.course.known import Constant

#: Times the current a first run needs from which on a bench supply's limit no longer protects.
_GENEROUS = 3.0


def _best(bench: Bench, constant: Constant) -> float | None:
    from crisp_compass.course.known import (
        best_value,  # sources asks the checks, and these the first run's limits below
    )

    return best_value(bench, constant)


@dataclass(frozen=True)
class BusRange:
    """Bus voltage [V] that the supply gives, named: lowest, usual, highest; and what it means."""

    low: float
    usual: float
    high: float
    text: str


def bus_range(bench: Bench) -> BusRange:
    """Return the bus from battery, bench supply or rectified mains."""
    supply, v = bench.settings.supply, bench.settings.plate.v_bus
    if supply.source == "battery":
        low, high = supply.v_empty or v, supply.v_full or v
        text = f"battery, {show(low, 'V')} empty to {show(high, 'V')} full"
        return BusRange(min(low, v), v, max(high, v), text)
    if supply.source == "mains":
        peak = rectified(supply.mains_v)
        text = f"{show(supply.mains_v, 'V')} rms at {supply.mains_hz} Hz, rectified: up to {show(peak, 'V')} without load"
        return BusRange(0.9 * peak, peak, 1.1 * peak, text)
    return BusRange(v, v, v, "bench supply")


@dataclass(frozen=True)
class Limit:
    """One proposed limit with its reason."""

    name: str
    value: float
    unit: str
    reason: str


@dataclass(frozen=True)
class FirstRun:
    """Limits for a first run: current [A peak], speed [rad/s], supply current [A]."""

    current: Limit
    speed: Limit
    supply: Limit

    @property
    def supply_limit(self) -> float:
        """The proposed supply current limit, A."""
        return self.supply.value


def first_run(bench: Bench) -> FirstRun:
    """Propose the limits of a first run with their reasons."""
    plate, drive = bench.settings.plate, bench.settings.supply
    rated = rated_peak(bench.settings.plate)
    current = 0.5 * rated
    reason = "half of rated: enough to turn an uncoupled shaft, a quarter of the heat"
    if drive.drive_continuous is not None:
        most = 0.5 * (peak_from_rms(drive.drive_continuous) if drive.drive_base == "rms" else drive.drive_continuous)
        if most < current:
            current, reason = most, "half of the drive's continuous current"
    speed = 0.1 * plate.top_speed
    speed_reason = "a tenth of top speed: slow enough to see the direction and to stop by hand switch"
    flux, r = _best(bench, "flux_linkage"), _best(bench, "resistance")
    heat = plate.torque_factor * (r or 0.05 * plate.v_bus / math.sqrt(3) / rated) * current**2
    kt = torque_constant(plate, flux, pole_pairs_of(plate)) if flux else 0.0
    power = heat + 0.3 * kt * current * speed
    supply = max(2 * power / plate.v_bus, 0.05 * rated)
    supply_reason = f"twice the {show(power, 'W', 2)} that copper and a third of the torque take at these limits"
    return FirstRun(
        Limit("phase current", current, "A", reason),
        Limit("speed", speed, "rad/s", speed_reason),
        Limit("supply current", float(f"{supply:.2g}"), "A", supply_reason),
    )


@dataclass(frozen=True)
class SupplyOutlook:
    """Reach of the supply [rad/s] at lowest and highest bus (None without a flux), limits, rows and findings."""

    bus: BusRange
    reach: tuple[float, float] | None
    limits: FirstRun
    rows: tuple[tuple[str, str], ...]
    findings: tuple[Finding, ...]


def supply_outlook(bench: Bench) -> SupplyOutlook:
    """Judge drive and supply against the motor."""
    plate, supply = bench.settings.plate, bench.settings.supply
    bus, flux = bus_range(bench), _best(bench, "flux_linkage")
    factor = math.sqrt(2) if supply.drive_base == "rms" else 1.0
    continuous = supply.drive_continuous * factor if supply.drive_continuous else None
    peak = supply.drive_peak * factor if supply.drive_peak else None
    findings = drive_match(rated_peak(bench.settings.plate), continuous, peak)
    reach = None
    hertz = getattr(plate, "mains_hz", None)
    if (
        hertz and plate.rated_voltage and plate.rated_speed
    ):  # full flux ends where the link's voltage over frequency does
        synchronous = 2 * math.pi * hertz / pole_pairs_of(plate)
        per_volt = linear_limit(1.0, bench.settings.pwm.scheme) / (math.sqrt(2 / 3) * plate.rated_voltage)
        reach = (bus.low * per_volt * synchronous, bus.high * per_volt * synchronous)
    if flux and not family_of(bench).own_circuit:  # an induction motor that is off induces nothing for long
        limit = linear_limit(1.0, bench.settings.pwm.scheme) if three_phases(bench) else 1.0
        per_volt = limit / (flux * pole_pairs_of(plate))
        reach = (bus.low * per_volt, bus.high * per_volt)
        if reach[0] < plate.top_speed:
            text = f"At {show(bus.low, 'V')} the back-EMF reaches the modulator's limit at {grouped(reach[0] * RPM_PER_RAD_S)} rpm, below the top speed of {grouped(plate.top_speed * RPM_PER_RAD_S)} rpm."
            findings.append(Finding("caution", "top-speed-beyond-supply", text))
        # coasting or field weakening lost at top speed: diodes rectify the line peak
        back = (math.sqrt(3) if three_phases(bench) else 1.0) * flux * pole_pairs_of(plate) * plate.top_speed
        if back > 1.2 * bus.high:
            text = f"If the drive trips at top speed the motor's diodes see {show(back, 'V')} line peak: more than the bus; check the capacitors' rating."
            findings.append(Finding("caution", "back-emf-high", text))
    if supply.source == "mains" and abs(plate.v_bus / bus.usual - 1) > 0.15:
        text = f"Rectified {show(supply.mains_v, 'V')} gives about {show(bus.usual, 'V')}, but the plate's supply says {show(plate.v_bus, 'V')}."
        findings.append(Finding("caution", "bus-differs", text))
    if supply.source == "mains":
        text = "Mains: wiring, fusing and protective devices follow local codes and qualified people. The link holds its charge after power-off: wait and measure."
        findings.append(Finding("caution", "mains", text))
    if supply.source == "battery" and supply.v_full is not None:
        text = f"Braking pumps the battery: let regeneration fold back from {show(supply.v_full, 'V')} and end by {show(supply.v_full + 1, 'V')} (common practice)."
        findings.append(Finding("info", "regeneration", text))
    limits = first_run(bench)
    if supply.source == "bench" and supply.current_limit is not None and supply.current_limit > _GENEROUS * limits.supply_limit:
        text = f"The supply's limit of {show(supply.current_limit, 'A')} is far above the {show(limits.supply_limit, 'A')} that a first run needs: it would not protect drive and motor. Set it lower before enabling."
        findings.append(Finding("caution", "supply-limit-high", text))
    half = plate.top_speed * RPM_PER_RAD_S / 2
    rows = [
        ("bus", f"{show(bus.low, 'V')} … {show(bus.high, 'V')}" if bus.high > bus.low else show(bus.usual, "V")),
        ("motor, rated", f"{show(rated_peak(bench.settings.plate), 'A')} peak"),
    ]
    if continuous:
        rows.append(("drive, continuous", f"{show(continuous, 'A')} peak"))
    if peak:
        rows.append(("drive, peak", f"{show(peak, 'A')} peak"))
    if supply.source == "mains":
        rows.append(("link ripple", f"{2 * supply.mains_hz} Hz single-phase, {6 * supply.mains_hz} Hz three-phase"))
    rows.append((f"{show(supply.command_volts / 2, 'V')} command", f"{grouped(half)} rpm"))
    return SupplyOutlook(bus, reach, limits, tuple(rows), findings=tuple(findings))
