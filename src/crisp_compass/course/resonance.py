"""A shaft that twists, as a capture tells it on this bench: what it means for the loop, and the notch that would help."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.coupling import coupling_of
from crisp_compass.course.kind import to_quantity
from crisp_compass.course.speed_design import design_speed, plant_of, torque_constant
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.identify.resonance import Resonance, broadband, fit_resonance
from crisp_compass.loops.filters import Notch, TorqueFilters
from crisp_compass.loops.sampled import Margins
from crisp_compass.loops.speed import SpeedPlant, margins_of

#: Inertia of the load over the motor's up to which a speed loop is no trouble, and beyond which it is (common practice).
EASY, HARD = 3.0, 10.0
#: Width of a proposed notch over its frequency, and the least and most share that it leaves.
_WIDTH, _LEAST, _MOST = 0.7, 0.05, 0.7


def claims_resonance(capture: Capture, here: str) -> bool:
    """Tell whether a dropped capture is one: it shakes the shaft over a band, and says so or comes to the speed loop."""
    told = capture.notes.get("excitation", "") in ("noise", "sweep", "chirp")
    return (here == "speed_loop" or told) and broadband(capture)


def read_resonance(bench: Bench, capture: Capture) -> Resonance:
    """Find how the shaft twists; with the torque constant, where it is known, the inertia too."""
    try:
        kt = torque_constant(bench)
    except Refusal:
        kt = None
    return fit_resonance(capture, kt=kt)


def resonance_quantities(_: Bench, __: Capture, found: Resonance) -> dict[str, Quantity]:
    """Return the estimates, and up to which frequency the shaft was shaken."""
    return {**{k: to_quantity(e) for k, e in found.estimates.items()}, "reach": Quantity(value=found.reach, unit="Hz")}


def resonance_headline(evidence: Evidence) -> str:
    """Return the resonance as a short text."""
    found = evidence.estimates.get("resonance_hz")
    return f"resonance {found.value:.4g} Hz" if found is not None else f"rigid up to {evidence.estimates['reach'].value:.3g} Hz"


def taken(bench: Bench, evidence: Evidence) -> Bench:
    """Return the bench whose simulated shaft twists as the capture tells, or is rigid; raises Refusal for what its fields do not take."""
    told = {k: float(f"{evidence.estimates[k].value:.4g}") if k in evidence.estimates else None for k in ("resonance_hz", "load_share", "damping")}
    if told["resonance_hz"] is None:
        return enter(bench, "coupling", {"resonance_hz": None, "load_share": None})
    try:
        return enter(bench, "coupling", {k: v for k, v in told.items() if v is not None})
    except ValueError:
        raise Refusal("what the capture tells is beyond what can be simulated", "enter it by hand, nearer to what a shaft can be") from None


def proposed_notch(bench: Bench, evidence: Evidence | None) -> Notch | None:
    """Return the notch that flattens the resonance of the capture, or of the bench where there is none; None without one, or where the speed loop is too slow for it.

    Its zeros lie on the resonance: what is left at its frequency, times its width, is twice the resonance's damping. Never less than a twentieth: the frequency moves with load and age.
    """
    s = bench.settings.coupling
    hz, damping = s.resonance_hz, s.damping
    if evidence is not None and "resonance_hz" in evidence.estimates:
        hz, damping = evidence.estimates["resonance_hz"].value, evidence.estimates["damping"].value
    if hz is None or hz >= 0.45 * plant_of(bench).loop_hz:
        return None
    return Notch(float(f"{hz:.4g}"), _WIDTH, float(f"{min(max(2 * damping / _WIDTH, _LEAST), _MOST):.2g}"))


def with_notch(bench: Bench, notch: Notch) -> Bench:
    """Return the bench with a notch in its torque current."""
    return enter(bench, "speed_loop", {"notch_hz": notch.hz, "notch_width": notch.width, "notch_depth": notch.depth})


@dataclass(frozen=True)
class Effect:
    """Margins of the designed loop on the shaft as it is: ``rigid``, ``bare`` without any filter of the torque current, ``now`` with those that are set, ``notched`` with the
    proposed one (None: none is proposed)."""

    rigid: Margins
    bare: Margins
    now: Margins
    notched: Margins | None


def effect(bench: Bench, evidence: Evidence | None) -> Effect | None:
    """Return what the twisting shaft does to the loop with the page's gains; None where it is rigid. Raises Refusal where something is not settled."""
    if coupling_of(bench) is None:
        return None
    design, plant, notch = design_speed(bench), plant_of(bench), proposed_notch(bench, evidence)
    bare = replace(plant, filters=TorqueFilters())

    def of(at: SpeedPlant) -> Margins:
        return margins_of(at, design.kp, design.ki)

    notched = design_speed(with_notch(bench, notch)).margins if notch else None  # with the gains that it leaves
    return Effect(of(replace(bare, coupling=None)), of(bare), of(plant), notched)


def ratio_finding(ratio: float) -> Finding:
    """Return the verdict on the load's inertia over the motor's."""
    if ratio <= EASY:
        return Finding("info", "inertia-ratio", f"Behind the coupling stands {ratio:.2g} times the motor's inertia: easy for a speed loop (common practice: up to {EASY:g}).")
    if ratio <= HARD:
        text = f"Behind the coupling stands {ratio:.2g} times the motor's inertia: a stiff coupling or a notch is needed for a quick loop (common practice: {EASY:g} to {HARD:g})."
        return Finding("info", "inertia-ratio", text)
    text = f"Behind the coupling stands {ratio:.2g} times the motor's inertia: the loop can only be slow, or the load needs a gear, a stiffer coupling or a larger motor (common practice: above {HARD:g})."
    return Finding("caution", "inertia-ratio", text)


def inertia_ratio(bench: Bench, evidence: Evidence | None) -> float | None:
    """Return the load's inertia over the motor's, of the capture or of the bench; None where the shaft is rigid."""
    share = bench.settings.coupling.load_share
    if evidence is not None and "load_share" in evidence.estimates:
        share = evidence.estimates["load_share"].value
    return share / (1 - share) if share is not None and 0 < share < 1 else None


def lively(margins: Margins) -> str:
    """Say what margins mean, in a word or two."""
    if not margins.stable:
        return "unstable"
    gain = f"{margins.gain_margin_db:.1f} dB" if math.isfinite(margins.gain_margin_db) else "no limit"
    phase = f"{margins.phase_margin_deg:.0f}°" if math.isfinite(margins.phase_margin_deg) else "no crossing"
    return f"{phase}, {gain}"
