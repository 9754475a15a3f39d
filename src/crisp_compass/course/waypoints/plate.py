"""Plate: what stands on the motor and what feeds it."""

from __future__ import annotations

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.records import Settled
from crisp_compass.course.known import CONSTANTS, best_source
from crisp_compass.course.values import quantities
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.motor.family import PlateOutlook
from crisp_compass.plausible import limits
from crisp_compass.quantities import counted, show


def plate_outlook(bench: Bench) -> PlateOutlook:
    """Return what the plate implies, with what is known best of each constant."""

    def best(constant: str) -> tuple[float, float, str] | None:
        found = next((best_source(bench, c) for c in CONSTANTS if c == constant), None)
        return None if found is None else (found.value, found.u, found.name)

    return family_of(bench).outlook(bench, best)


def plate_values(bench: Bench) -> dict[str, Quantity]:
    """Return what settling the plate settles."""
    p = bench.settings.plate
    values = {
        "pole_pairs": (float(pole_pairs_of(p)), ""), "v_bus": (p.v_bus, "V"), "rated_current": (rated_peak(bench.settings.plate), "A"),
        "top_speed": (p.top_speed, "rad/s"),
    }  # fmt: skip
    if p.inertia is not None:  # nobody's inertia is settled for them
        values |= {
            "inertia": (p.inertia, "kg·m²"),
            "viscous": (p.viscous, "N·m·s/rad"),
            "coulomb": (p.coulomb, "N·m"),
        }
    return quantities(values)


def propose(bench: Bench) -> Proposal:
    """Return what settling the plate would settle; raises Refusal for figures that no plate can have."""
    values = plate_values(bench)
    return Proposal(
        values,
        f"{show(bench.settings.plate.v_bus, 'V')}, {counted(round(values['pole_pairs'].value), 'pole pair')}",
        "from the motor plate and the bench supply",
    )


def _headline(settled: Settled) -> str:
    values = settled.values
    parts = [show(values["v_bus"].value, "V")] if "v_bus" in values else []
    # nobody counts the poles of a brushed motor: the fields that its plate settles have none
    counted = not settled.settings or {"pole_pairs", "steps_per_turn", "mains_hz"} & set(settled.settings)
    return "  ".join([*parts, *([f"{values['pole_pairs'].value:.0f} pp"] if "pole_pairs" in values and counted else [])])


WAYPOINT = Waypoint(
    "plate",
    10,
    "Plate",
    "What stands on the motor and what feeds it?",
    first_step="Enter the plate and the supply, then settle them: every later leg rests on them.",
    settles=limits(pole_pairs="pole_pairs", v_bus="v_bus", rated_current="rated_current", top_speed="top_speed"),
    headline=_headline,
    propose=propose,
    sections=(
        *(Section(n) for n in ("Motor", "Drive and supply", "Load side", "Wiring")),
        Section("Leads", lambda bench: family_of(bench).open_loop),
        *(Section(n) for n in ("Sensor cable", "Checks", "Interference")),
    ),
)
