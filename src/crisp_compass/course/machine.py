"""The machine a study runs: what is settled, else the best there is, and a sentence that says which."""

from __future__ import annotations

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import Plate
from crisp_compass.bench.records import HallRecord
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.course.known import Constant, best_value
from crisp_compass.errors import Refusal
from crisp_compass.motor import flux_of, pole_pairs_of
from crisp_compass.plant.parameters import AnyMachine, Brushed, Induction, Load, Machine

_NEEDED: tuple[tuple[Constant, str], ...] = (
    ("resistance", "resistance"), ("ld", "inductance"), ("lq", "inductance"), ("flux_linkage", "flux"),
)  # fmt: skip


def brush_drop(bench: Bench) -> float:
    """Return the drop of the brushes [V] that the newest levels of an armature tell; none of other motors."""
    if bench.settings.plate.windings != 1:
        return 0.0
    told = [
        e.estimates["voltage_offset"] for e in bench.evidence.get("resistance", ()) if "voltage_offset" in e.estimates
    ]
    return max(told[-1].value, 0.0) if told else 0.0


def machine_of(bench: Bench) -> tuple[AnyMachine, Load]:
    """Return machine and load from what is settled, else from the best capture, reading or plate figure there is.

    Raises Refusal naming what is known from nowhere.
    """
    if bench.settings.plate.cage:
        return cage_machine(bench), load_of(bench)
    values = []
    for constant, waypoint in _NEEDED:
        value = best_value(bench, constant)
        if value is None:
            raise Refusal(
                f"the {waypoint} is missing",
                f"measure it on the {waypoint} leg, or write the data sheet's on the plate",
            )
        values.append(value)
    r, ld, lq, psi = values
    plate = bench.settings.plate
    return (
        rotating_machine(plate, r, ld, lq, psi, float(pole_pairs_of(plate)), drop=brush_drop(bench)),
        load_of(bench),
    )


def load_of(bench: Bench) -> Load:
    """Return inertia and friction as settled, else the plate's; raises Refusal where no inertia is known."""
    plate = bench.settings.plate
    inertia, viscous, coulomb = (
        settled_value(bench, f"mechanics.{k}") for k in ("inertia", "viscous_friction", "coulomb_friction")
    )
    turning = inertia.value if inertia else plate.inertia
    if turning is None:
        raise Refusal("the inertia is missing", "measure it on the mechanics leg, or enter the data sheet's there")
    return Load(
        turning,
        viscous.value if viscous else plate.viscous,
        coulomb.value if coulomb else plate.coulomb,
    )


def cage_machine(bench: Bench) -> Induction:
    """Return the plant's induction machine from the settled circuit; raises Refusal where it is not settled."""
    lm, rr, leakage = (
        need(bench, f"circuit.{k}") for k in ("magnetizing_inductance", "rotor_resistance", "leakage_inductance")
    )
    r = need(bench, "resistance.resistance")
    return Induction(r, leakage, leakage, flux_of(bench), float(pole_pairs_of(bench.settings.plate)), lm, rr)


def rotating_machine(
    plate: Plate,
    r: float,
    ld: float,
    lq: float,
    psi: float,
    pole_pairs: float,
    iron: tuple[float, float] = (1.0, 1.0),
    drop: float = 0.0,
) -> AnyMachine:
    """Return the plant's machine of a plate: its constants (SI), iron, the windings that make its torque, detent or brushes' drop."""
    if plate.windings == 1:
        return Brushed(r, ld, lq, psi, drop=drop)
    detent = getattr(plate, "detent_torque", 0.0)
    return Machine(r, ld, lq, psi, pole_pairs, *iron, torque_factor=plate.torque_factor, detent=detent)


def unsettled_inputs(bench: Bench) -> str:
    """Return which figures of a trial run are not settled ones, in a sentence; empty where all are."""
    unsettled = [
        waypoint for waypoint in dict.fromkeys(waypoint for _, waypoint in _NEEDED) if waypoint not in bench.settled
    ]
    parts = [f"{', '.join(unsettled)} from the best capture, reading or data sheet"] if unsettled else []
    if not {"current_loop", "speed_loop", "pwm"} <= set(bench.settled):
        parts.append("stand-in loops")
    return f"Not settled: {'; '.join(parts)}." if parts else ""


def known_halls(bench: Bench) -> HallRecord | None:
    """Return the newest captured hall table, or the settled one, or None."""
    captured = [e.halls for e in bench.evidence.get("commutation", ()) if e.halls is not None]
    settled = bench.settled.get("commutation")
    return captured[-1] if captured else settled.halls if settled else None
