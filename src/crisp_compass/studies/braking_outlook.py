"""What a stop means on this bench: the answer, the warnings, and what the brake resistor must be."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.course.bus import brake_levels, fold_levels, sinks
from crisp_compass.course.drive import sees_speed
from crisp_compass.estimates import Finding
from crisp_compass.preparation.supply import bus_range
from crisp_compass.quantities import show
from crisp_compass.studies.braking import Resistor, Stop, resistor_for, stop

_HOT = "A brake resistor gets hot enough to burn skin and start a fire: mount it by itself, on what does not burn, with air around it and a thermal cut-out, as its maker and your local code say."


@dataclass(frozen=True)
class Braking:
    """A ``stop``, the levels [V] that stand beside it (None: none), whether the supply takes power back, what the ``resistor`` must be (None: none is needed), and what is said."""

    stop: Stop
    trip: float | None
    on: float | None
    fold: float | None
    sinks: bool
    resistor: Resistor | None
    words: tuple[str, str, str]
    findings: tuple[Finding, ...]


def braking_of(bench: Bench) -> Braking:
    """Play a stop and judge it; raises Refusal where the drive lacks something or a level cannot be."""
    bench = standing(bench)
    levels, fold = brake_levels(bench), fold_levels(bench) if sees_speed(bench) else None
    found = stop(bench)
    resistor, s, takes = resistor_for(bench, found), bench.settings.bus, sinks(bench)
    trip = bench.settings.run.v_max
    head = f"Trips: {found.fault}" if found.fault else f"Bus up to {show(found.peak_volts, 'V', 3)}"
    doubt = f"{show(found.returned, 'J', 3)} of the {show(found.kinetic, 'J', 3)} in the shaft come back" if found.returned > 1e-3 * found.kinetic else f"nothing of the {show(found.kinetic, 'J', 3)} in the shaft comes back: friction and copper take it"
    if s.capacitance is None:
        reason = "The supply is taken to hold its voltage whatever comes back: enter the link capacitor to see what happens with one that does not."
    elif takes:
        reason = "The supply takes back what comes."
    else:
        reason = f"A supply that takes nothing back. With all of the shaft's energy in the capacitor the bus would rise to √(V² + 2E/C) = {show(found.closed_form, 'V', 3)}."
    return Braking(found, trip, levels[0] if levels else None, fold[1] if fold else None, sinks=takes, resistor=resistor, words=(head, doubt, reason), findings=tuple(_findings(bench, found, resistor, takes)))


def _findings(bench: Bench, found: Stop, resistor: Resistor | None, takes: bool) -> list[Finding]:
    s, run, said = bench.settings.bus, bench.settings.run, []
    high = bus_range(bench).high
    if found.fault:
        cure = "a longer ramp, a brake resistor, fold-back, or a larger capacitor" if found.fault == "over-voltage" else "look at the run leg"
        said.append(Finding("stop", "stop-trips", f"The stop ends in a trip ({found.fault}) and the shaft is no longer braked: {cure}."))
    elif run.v_max is None and not takes and s.capacitance and found.peak_volts > 1.1 * high:
        said.append(Finding("caution", "no-over-voltage-trip", f"The bus rises to {show(found.peak_volts, 'V', 3)} and nothing trips: enter the highest bus that drive and capacitor stand, or they are destroyed."))
    if takes and bench.settings.supply.source == "battery" and found.returned > 0:
        said.append(Finding("info", "full-battery", "A full battery takes little back: its protection may part it from the drive, and then the bus rises as with a supply that takes nothing. Set fold-back below its full voltage's limit."))
    if s.brake_ohm is not None:
        said.append(Finding("caution", "hot-resistor", _HOT))
        if not s.capacitance:
            said.append(Finding("info", "no-link", "The resistor does nothing here as long as no link capacitor is entered."))
    if resistor is not None and s.brake_ohm is not None:
        if s.brake_ohm > resistor.most:
            text = f"At {show(s.brake_on or 0.0, 'V')} {show(s.brake_ohm, 'Ω')} take {show(resistor.power, 'W', 3)}, and up to {show(found.peak_power, 'W', 3)} come: the bus rises on. At most {show(resistor.most, 'Ω', 3)}, or a longer ramp."
            said.append(Finding("caution", "resistor-too-large", text))
        if s.brake_watt is not None and not math.isnan(resistor.mean) and resistor.mean > s.brake_watt:
            text = f"{show(resistor.mean, 'W', 3)} in the mean are more than the {show(s.brake_watt, 'W')} that the resistor takes: stop more rarely, more slowly, or take a larger one."
            said.append(Finding("caution", "resistor-too-small", text))
    if fold_levels(bench) is not None and sees_speed(bench) and math.isnan(found.seconds) and not found.fault:
        said.append(Finding("caution", "fold-back-holds", "With the braking folded back the shaft does not come to rest in time: friction alone stops it. A stop input is no emergency stop."))
    return said
