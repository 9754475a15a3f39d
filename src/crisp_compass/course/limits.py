"""What stops a drive and when: how long an overload may last, how far field weakening reaches, what shorted windings do."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.drive import build_drive, can_brake, weakens
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.plant.parameters import Drive
from crisp_compass.quantities import grouped, show

#: Points of the curve of time over current.
_POINTS = 160


@dataclass(frozen=True)
class Limits:
    """``current`` (n,) A peak and ``seconds`` (n,) after which it trips from cold, empty where no overload is set; the limits in A peak.

    ``reach`` and ``reach_plain`` [rad/s]: the highest speed without load, with and without field weakening; NaN where no magnet limits it.
    ``shorted`` [A peak] is what shorted windings drive at speed, NaN where they do not brake.
    """

    current: FloatArray
    seconds: FloatArray
    continuous: float | None
    limit: float
    trip: float
    at_limit: float | None
    weakening: float | None
    reach: float
    reach_plain: float
    shorted: float
    findings: tuple[Finding, ...]


def trip_time(current: FloatArray, continuous: float, i2t: float) -> FloatArray:
    """Return the seconds after which ``current`` (n,) [A] trips from cold: i²t over the excess of its square; infinite below the continuous one."""
    excess = np.maximum(current**2 - continuous**2, 0.0)
    with np.errstate(divide="ignore"):
        return np.where(excess > 0, i2t / excess, math.inf)


def limits_of(bench: Bench) -> Limits:
    """Return the limits of the drive as settled; raises Refusal naming what is missing."""
    bench = standing(bench)
    drive = build_drive(bench)
    c = drive.control
    overload = c.i2t > 0
    current: FloatArray = np.empty(0)
    seconds: FloatArray = np.empty(0)
    if overload:
        current = np.geomspace(c.i_continuous * 1.001, max(c.i_trip, 1.01 * c.i_limit), _POINTS)
        seconds = trip_time(current, c.i_continuous, c.i2t)
    reach = plain = math.nan
    if weakens(bench):
        volts = drive.inverter.v_supply * c.volts_per_bus
        plain = volts / (drive.machine.pole_pairs * c.psi)
        share = c.weak_share if c.i_weak > 0 else 1.0  # some of the voltage stays for control
        reach = share * volts / (drive.machine.pole_pairs * (c.psi - c.ld * c.i_weak))
    shorted = c.psi / c.ld if can_brake(bench) and c.ld > 0 and weakens(bench) else math.nan
    return Limits(
        current, seconds, c.i_continuous if overload else None, c.i_limit, trip=c.i_trip, at_limit=bench.settings.run.overload_time if overload else None,
        weakening=c.i_weak if c.i_weak > 0 else None, reach=reach, reach_plain=plain, shorted=shorted, findings=tuple(_findings(bench, drive, plain, reach, shorted=shorted)),
    )  # fmt: skip


def _findings(bench: Bench, drive: Drive, plain: float, reach: float, shorted: float) -> list[Finding]:
    run, c, found = bench.settings.run, drive.control, []
    asked = abs(run.speed)
    if run.i_continuous is not None and c.i2t == 0:
        text = f"The continuous current of {show(run.i_continuous, 'A')} is not below the limit of {show(c.i_limit, 'A')}: no overload can trip."
        found.append(Finding("info", "no-overload", text))
    if run.weakening is not None and c.i_weak > 0 and c.i_weak < run.weakening:
        text = (
            f"Field weakening takes {show(c.i_weak, 'A')} at most, not {show(run.weakening, 'A')}: beyond 0.8 of the characteristic current it would raise "
            "the voltage where the constants are off, and 2 % of the current limit stay for torque."
        )
        found.append(Finding("info", "less-weakening", text))
    top = max(asked, reach) if c.i_weak > 0 else asked
    emf = math.sqrt(3) * c.psi * drive.machine.pole_pairs * top if weakens(bench) else 0.0
    if emf > drive.inverter.v_supply:
        text = (
            f"At {grouped(top * RPM_PER_RAD_S)} rpm the motor induces {show(emf, 'V', 3)} between two lines, above the bus of {show(drive.inverter.v_supply, 'V', 3)}: when the drive "
            "trips there, that voltage reaches the bus through the diodes. Bridge and capacitors must stand it, or the motor must never turn that fast."
        )
        found.append(Finding("caution", "emf-above-bus", text))
    if weakens(bench) and asked > (reach if c.i_weak > 0 else plain):
        end = reach if c.i_weak > 0 else plain
        more = "" if c.i_weak > 0 else "; field weakening would reach further"
        text = f"{grouped(asked * RPM_PER_RAD_S)} rpm is asked for, and the voltage ends at {grouped(end * RPM_PER_RAD_S)} rpm without load{more}."
        found.append(Finding("caution", "beyond-voltage", text))
    if c.brakes and shorted > c.i_trip:
        text = (
            f"Shorted windings drive up to {show(shorted, 'A')}, above the trip level of {show(c.i_trip, 'A')}: at speed the brake lets go at once and the shaft coasts. "
            "A fault that brakes is no holding brake, and no emergency stop."
        )
        found.append(Finding("caution", "brake-trips", text))
    elif c.brakes:
        text = "A fault that brakes holds no load at rest and is no emergency stop: a weight needs a brake of its own."
        found.append(Finding("caution", "brake-holds-nothing", text))
    return found
