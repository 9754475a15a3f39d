"""Inertia and friction from a run-up and a coast."""

from __future__ import annotations

from dataclasses import replace

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import torque_constant
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import settled_value
from crisp_compass.capture import Capture
from crisp_compass.course.kind import LINES, CaptureKind
from crisp_compass.course.known import best_source
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.errors import Refusal
from crisp_compass.identify.mechanics import MechanicsResult, fit_mechanics
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.plausible import limits
from crisp_compass.quantities import show


def torque_constant_of(bench: Bench) -> tuple[float, float, str] | None:
    """Return Kt [N·m per A peak], its relative standard uncertainty and where it is from; None where nothing tells it."""
    if family_of(bench).own_circuit:
        return _by_magnetizing(bench)
    flux = best_source(bench, "flux_linkage")
    if flux is None:
        return None
    origin = {"settled": "settled flux", "plate, Kt": "the plate's Kt", "plate, Kv": "the plate's Kv"}.get(
        flux.name, flux.name
    )
    plate = bench.settings.plate
    return torque_constant(plate, flux.value, pole_pairs_of(plate)), flux.u / flux.value, origin


def _by_magnetizing(bench: Bench) -> tuple[float, float, str] | None:
    """Return Kt of a magnetized cage, as torque_constant_of does."""
    lm, i_d = (settled_value(bench, f"circuit.magnetizing_{k}") for k in ("inductance", "current"))
    if lm is None or i_d is None:
        return None
    plate = bench.settings.plate
    kt = torque_constant(plate, lm.value * i_d.value, pole_pairs_of(plate))
    return kt, (lm.u or 0.0) / lm.value, "the settled circuit"


def _read(bench: Bench, capture: Capture) -> MechanicsResult:
    if "i_q" not in capture:
        if bench.settings.plate.inertia is None:
            raise Refusal(
                "the column i_q is missing, and from a coast alone the inertia cannot be determined",
                "capture i_q during the run-up, or enter the inertia",
                where=capture.source, code="channels",
            )  # fmt: skip
        return fit_mechanics(capture, inertia=bench.settings.plate.inertia)
    known = torque_constant_of(bench)
    if known is None:
        raise Refusal("the torque constant is missing", "settle the flux, or enter Kt or Kv on the plate")
    kt, relative, origin = known
    result = fit_mechanics(capture, kt=kt)
    wider = {name: e.widened(relative * abs(e.value)) if e.u else e for name, e in result.estimates.items()}
    method = f"{result.method}; Kt {show(kt, 'N·m/A', 4)} from {origin}"
    return replace(result, estimates=wider, method=method)


def _claims(capture: Capture, _: str) -> bool:
    names = set(capture.columns)
    return "speed" in names and not names & LINES and "speed_ref" not in names


def _propose(_: Bench, evidence: Evidence) -> Proposal:
    values = {k: evidence.estimates[k] for k in ("inertia", "viscous_friction", "coulomb_friction")}
    return Proposal(
        values,
        show(values["inertia"].value, "kg·m²", 4),
        "run-up and coast, fit within the noise",
        evidence.method,
    )


RUN_UP = CaptureKind(
    "run_up",
    "mechanics",
    _read,
    lambda evidence: f"inertia {show(evidence.estimates['inertia'].value, 'kg·m²')}",
    section="Capture",
    signals=("speed", "i_q"),
    rank=100,
    claims=_claims,
    needs=(("viscous_friction", "coulomb_friction"), ("inertia",)),
    gained=("inertia", "viscous_friction", "coulomb_friction"),
    gains=("i_gain", "speed_gain"),
    propose=_propose,
    sketch="mechanics",
    families=("pm", "stepper", "induction"),
    view="mechanics",
)


def _read_armature(bench: Bench, capture: Capture) -> MechanicsResult:
    """The armature's current makes the torque."""
    columns = {**capture.columns, **({"i_q": capture["i_m"]} if "i_m" in capture else {})}
    return _read(bench, replace(capture, columns=columns))


ARMATURE_RUN_UP = replace(
    RUN_UP,
    key="armature_run_up",
    read=_read_armature,
    signals=("speed", "i_m"),
    claims=lambda capture, _: {"speed", "i_m"} <= set(capture.columns) and "v_m" not in capture,
    families=("brushed",),
)
WAYPOINT = Waypoint(
    "mechanics",
    50,
    "Mechanics",
    "What are inertia and friction?",
    first_step="Run the shaft up and let it coast, capture speed and i_q and drop the capture on the window.",
    settles=limits(inertia="inertia", viscous_friction="viscous_friction", coulomb_friction="coulomb_friction"),
    optional=lambda _: True,
    headline=lambda settled: show(settled.values["inertia"].value, "kg·m²"),
    captures=(RUN_UP, ARMATURE_RUN_UP),
    sections=(Section("Capture"), Section("Side by side")),
)
