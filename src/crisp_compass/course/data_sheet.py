"""Settling what the data sheet, the nameplate or a typed meter reading says: a legitimate start, with the bar that it deserves."""

from __future__ import annotations

import math
from typing import Literal

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.rules import family_gap, need
from crisp_compass.course.known import UNITS, WAYPOINT_OF, Constant, from_lcr, side_by_side
from crisp_compass.course.waypoint import Proposal
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate
from crisp_compass.identify.agreement import Source
from crisp_compass.identify.nameplate import nameplate_circuit
from crisp_compass.motor import pole_pairs_of
from crisp_compass.quantities import show

#: Constants of a waypoint that a data sheet states.
_CONSTANTS: dict[str, tuple[Constant, ...]] = {
    "resistance": ("resistance",),
    "inductance": ("ld", "lq"),
    "flux": ("flux_linkage",),
}
ORIGIN: Literal["data-sheet"] = "data-sheet"


def data_sheet_proposal(bench: Bench, topic: str) -> Proposal | None:
    """Return what settling the stated values of a waypoint would settle; None where nothing is stated."""
    if family_gap(bench, topic):
        return None
    if topic == "circuit":
        return _circuit(bench)
    stated = {c: _stated(bench, c) for c in _CONSTANTS.get(topic, ())}
    if not stated or any(s is None for s in stated.values()):
        return None
    found = {c: s for c, s in stated.items() if s is not None}
    meter = all(s.kind == "meter" for s in found.values())
    values: dict[str, Quantity] = {c: _quantity(Estimate.from_u(s.value, UNITS[c], s.u)) for c, s in found.items()}
    first, last = (values[c].value for c in (next(iter(values)), next(reversed(values))))
    unit = UNITS[next(iter(values))]
    text = show(first, unit) if first == last else f"Ld {show(first, unit)}, Lq {show(last, unit)}"
    where = "three pairs with an LCR meter" if meter else "the data sheet says so, not measured yet"
    return Proposal(values, text, where, next(iter(found.values())).name, origin="measured" if meter else ORIGIN)


def _stated(bench: Bench, constant: Constant) -> Source | None:
    """Return the meter's value of an inductance, else the plate's; where it states several, the one in their middle with a bar that reaches them."""
    if WAYPOINT_OF[constant] == "inductance" and from_lcr(bench, constant):
        return from_lcr(bench, constant)[0]
    plates = sorted((s for s in side_by_side(bench, constant).sources if s.kind == "plate"), key=lambda s: s.value)
    if not plates:
        return None
    middle = plates[len(plates) // 2]
    spread = max(abs(s.value - middle.value) for s in plates)
    return Source(middle.name, "plate", middle.value, math.hypot(middle.u, spread))


def _quantity(e: Estimate) -> Quantity:
    return Quantity(value=e.value, unit=e.unit, u=e.u, interval95=(max(e.low, 0.0), e.high))


def _circuit(bench: Bench) -> Proposal | None:
    """Return the circuit that the nameplate implies; None where it does not say enough, Refusal where it contradicts itself."""
    plate = bench.settings.plate
    factor, hertz = getattr(plate, "power_factor", None), getattr(plate, "mains_hz", None)
    if not (plate.rated_voltage and plate.rated_speed and factor and hertz):
        return None
    try:
        stator = need(bench, "resistance.resistance")
    except Refusal:
        return None
    omega = 2 * math.pi * hertz
    volts = math.sqrt(2 / 3) * plate.rated_voltage
    found = nameplate_circuit(
        volts=volts,
        current=rated_peak(plate),
        hertz=hertz,
        power_factor=factor,
        slip=1 - pole_pairs_of(plate) * plate.rated_speed / omega,
        stator=stator,
    )
    values = {k: _quantity(e) for k, e in found.items()}
    whole = values["leakage_inductance"].value + values["magnetizing_inductance"].value
    values["magnetizing_current"] = Quantity(value=volts / math.hypot(stator, omega * whole), unit="A")
    return Proposal(
        values,
        f"Tr {show(values['rotor_time_constant'].value, 's')}, LM {show(values['magnetizing_inductance'].value, 'H')}",
        "the nameplate implies it, not measured yet",
        "nameplate, usual leakage",
        rests_on=("resistance.resistance",),
        origin=ORIGIN,
    )
