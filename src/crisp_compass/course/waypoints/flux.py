"""Flux linkage: the open winding's voltage while coasting, or running data at several speeds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence, Settled
from crisp_compass.capture import Capture
from crisp_compass.course.kind import LINES, CaptureKind, to_quantity
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.identify.armature import ArmatureResult, fit_armature
from crisp_compass.identify.flux import FluxResult, fit_flux
from crisp_compass.identify.running import RunningResult, fit_running
from crisp_compass.identify.two_phase import fit_winding_flux
from crisp_compass.motor import pole_pairs_of
from crisp_compass.plausible import limits
from crisp_compass.quantities import show


def _coast(bench: Bench, capture: Capture) -> FluxResult:
    return fit_flux(capture, pole_pairs=pole_pairs_of(bench.settings.plate), turns=bench.settings.flux.turns)


def _running(bench: Bench, capture: Capture) -> RunningResult:
    settled = bench.settled.get("resistance")
    r = settled.values["resistance"].value if settled else None
    # a running winding is warmer than at its reference by an unknown amount
    return fit_running(capture, pole_pairs=pole_pairs_of(bench.settings.plate), r=r, r_u=0.04 * (r or 0.0))


def _is_coast(capture: Capture, _: str) -> bool:
    names = set(capture.columns)
    return bool(names & LINES) and "i_a" not in names


def _is_running(capture: Capture, _: str) -> bool:
    names = set(capture.columns)
    return {"v_q", "i_q", "speed"} <= names and "i_q_ref" not in names


def _propose(reason: str) -> Callable[[Bench, Evidence], Proposal]:
    def propose(_: Bench, evidence: Evidence) -> Proposal:
        found = evidence.estimates["flux_linkage"]
        return Proposal({"flux_linkage": found}, show(found.value, "Wb", 4), reason, evidence.method)

    return propose


def _headline(evidence: Evidence) -> str:
    return f"flux {show(evidence.estimates['flux_linkage'].value, 'Wb')}"


RUNNING = CaptureKind(
    "running",
    "flux",
    _running,
    _headline,
    title=", running",
    section="Capture",
    signals=("v_q", "i_q", "speed"),
    rank=90,
    claims=_is_running,
    fits=lambda capture: "v_q" in capture and not LINES & set(capture.columns),
    needs=(("flux_linkage",), ()),
    gained=("flux_linkage", "kt", "kv_peak"),
    gains=("v_gain",),
    propose=_propose("running data at several speeds"),
    sketch="flux",
    view="flux",
)
COAST = replace(
    RUNNING,
    key="coast",
    read=_coast,
    title="",
    signals=("v_ab", "v_bc", "v_ca", "speed"),
    rank=70,
    claims=_is_coast,
    fits=lambda _: True,
    propose=_propose("coast, channels agree"),
)
WINDING_COAST = replace(
    COAST,
    key="winding_coast",
    read=lambda bench, capture: fit_winding_flux(
        capture, pole_pairs=pole_pairs_of(bench.settings.plate), turns=bench.settings.flux.turns
    ),
    signals=("v_a", "v_b", "speed"),
    claims=lambda capture, _: (
        bool({"v_a", "v_b"} & set(capture.columns)) and not {"i_a", "i_b"} & set(capture.columns)
    ),
    gained=("flux_linkage", "kt"),
    sketch="winding_open",
    families=("stepper",),
)


def _armature_values(_: Bench, __: Capture, result: ArmatureResult) -> dict[str, Quantity]:
    """Return the estimates; a commutator leaves one pole pair, so Ke in V·s/rad is the flux linkage in Wb."""
    found = {k: to_quantity(e) for k, e in result.estimates.items()}
    ke = found["ke"]
    return {"flux_linkage": ke.model_copy(update={"unit": "Wb"}), **found}


def _propose_ke(_: Bench, evidence: Evidence) -> Proposal:
    found = evidence.estimates
    values = {k: found[k] for k in ("flux_linkage", "ke")}
    return Proposal(
        values, f"Ke {show(found['ke'].value, 'V·s/rad', 4)}", "voltage over speed, on a line", evidence.method
    )


def _settled_headline(settled: Settled) -> str:
    if "ke" in settled.values:
        return f"Ke {show(settled.values['ke'].value, 'V·s/rad')}"
    return show(settled.values["flux_linkage"].value, "Wb")


ARMATURE_COAST = replace(
    COAST,
    key="armature_coast",
    read=lambda _, capture: fit_armature(capture),
    headline=lambda evidence: f"Ke {show(evidence.estimates['ke'].value, 'V·s/rad')}",
    signals=("v_m", "i_m", "speed"),
    claims=lambda capture, _: {"v_m", "speed"} <= set(capture.columns),
    quantities=_armature_values,
    gained=("flux_linkage", "ke", "kt"),
    propose=_propose_ke,
    sketch="armature_open",
    families=("brushed",),
)
WAYPOINT = Waypoint(
    "flux",
    40,
    "Flux",
    "How much flux does the rotor carry?",
    first_step="Leave the leads open, spin the shaft, capture its coasting and drop the capture on the window.",
    settles=limits(flux_linkage="flux_linkage"),
    headline=_settled_headline,
    captures=(RUNNING, COAST, WINDING_COAST, ARMATURE_COAST),
    sections=(Section("Capture"), Section("Side by side")),
)
