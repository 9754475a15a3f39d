"""Settling what several readings of one constant say together: the mean of repeats, the meter's three pairs."""

from __future__ import annotations

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.course.known import UNITS, WAYPOINT_OF, Constant, captured_values, meter_phases
from crisp_compass.course.waypoint import Proposal
from crisp_compass.course.waypoints.inductance import inductance_values
from crisp_compass.identify.agreement import combine_kinds
from crisp_compass.quantities import show

#: Constants as the ledger calls them.
NAMES: dict[Constant, str] = {"resistance": "R", "ld": "Ld", "lq": "Lq", "flux_linkage": "Flux", "inertia": "J"}


def repeats_mean(bench: Bench, constant: Constant) -> Quantity | None:
    """Return the weighted mean of the captures of a constant (two or more), its error bar widened by their scatter."""
    sources = captured_values(bench, WAYPOINT_OF[constant], constant)
    agreement = combine_kinds(sources, UNITS[constant]) if len(sources) > 1 else None
    if agreement is None:
        return None
    mean = agreement.mean
    return Quantity(value=mean.value, unit=mean.unit, u=mean.u, interval95=(mean.low, mean.high))


def repeats_temperature(bench: Bench) -> Quantity | None:
    """Return the winding's temperature of the resistance's captures where all were taken at one (within a kelvin), else None."""
    taken = [e.estimates.get("temperature") for e in bench.evidence.get("resistance", ())]
    known = [q for q in taken if q is not None]
    if not known or len(known) < len(taken) or max(q.value for q in known) - min(q.value for q in known) > 1:
        return None
    return known[-1]


def mean_proposal(bench: Bench, topic: str, constant: Constant) -> Proposal | None:
    """Return what settling the mean of a constant's repeats would settle; None with fewer than two captures.

    Raises Refusal where one axis of the inductance is missing.
    """
    mean = repeats_mean(bench, constant)
    if mean is None:
        return None
    values: dict[str, Quantity] = {constant: mean}
    if topic == "inductance":  # never one axis without the other
        other: Constant = "lq" if constant == "ld" else "ld"
        values = {**inductance_values(bench), other: repeats_mean(bench, other) or mean, constant: mean}
    temperature = repeats_temperature(bench) if topic == "resistance" else None
    if temperature is not None:
        values["temperature"] = temperature
    if topic == "mechanics":
        newest = bench.evidence["mechanics"][-1].estimates
        values = {k: newest[k] for k in ("viscous_friction", "coulomb_friction") if k in newest} | values
    return Proposal(
        values,
        f"{NAMES[constant]} {show(mean.value, mean.unit, 4)}",
        f"mean of {len(bench.evidence.get(topic, ()))} captures that agree",
        "weighted mean of repeats",
    )


def meter_proposal(bench: Bench) -> Proposal | None:
    """Return what settling the meter's three pairs would settle; None without them."""
    solved = meter_phases(bench)
    if solved is None:
        return None
    mean = solved.mean
    known = bench.settings.resistance.temperature
    warm = {} if known is None else {"temperature": Quantity(value=known, unit="degC")}
    value = Quantity(value=mean.value, unit="Ω", u=mean.u, interval95=(mean.low, mean.high))
    return Proposal(
        {"resistance": value, **warm}, show(mean.value, "Ω", 4), "meter, three pairs less the probes", "meter pairs"
    )
