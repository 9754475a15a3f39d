"""How a shaft twists: the response from torque current to speed, its model, and what it means for the speed loop."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.coupling import coupling_of
from crisp_compass.course.resonance import effect, inertia_ratio, lively, proposed_notch, ratio_finding
from crisp_compass.course.speed_design import design_speed, filters_of, plant_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.identify.resonance import Resonance
from crisp_compass.loops.filters import NO_FILTERS
from crisp_compass.loops.speed import speed_loop
from crisp_compass.motor import turns_field
from crisp_compass.quantities import show
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View

_DIAL = DialView(caption="Motor and load swing against each other", rotor=35.0, current=(125.0, 0.5))
_F = ("frequency", "Hz")


def _bar(q: Quantity, scale: float = 1.0) -> str:
    return f" ±{scale * 0.5 * (q.interval95[1] - q.interval95[0]):.2g}" if q.interval95 else ""


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return where the shaft resonates, what stands behind the coupling, and what that does to the loop."""
    findings: list[Finding] = []
    ratio = inertia_ratio(bench, evidence)
    if ratio is not None:
        findings.append(ratio_finding(ratio))
    if evidence is None:
        current = "i_q" if turns_field(bench) else "i_m"
        reason = f"Shake the reference of the speed by a noise or a sweep for some seconds, around a speed that keeps its sign; record speed_ref, speed and {current} at the rate of the speed loop or faster, and drop it here."
        s = bench.settings.coupling
        rigid = coupling_of_or_none(bench) is None
        answer = "Taken as rigid" if rigid else f"{show(s.resonance_hz or 0.0, 'Hz', 3)}, as entered"
        return Said(answer, "", reason, dial=_DIAL, boxes=_boxes(bench, None), findings=tuple(findings))
    found = evidence.estimates
    if "resonance_hz" not in found:
        return Said(f"Rigid up to {show(found['reach'].value, 'Hz', 3)}", "", f"{evidence.method[:1].upper()}{evidence.method[1:]}.", dial=_DIAL, boxes=_boxes(bench, evidence), findings=tuple(findings))
    q, share = found["resonance_hz"], found["load_share"]
    doubt = f"antiresonance {show(found['antiresonance_hz'].value, 'Hz', 4)}; {100 * share.value:.3g}{_bar(share, 100)} % of the inertia behind the coupling, damping {found['damping'].value:.2g}"
    return Said(f"{show(q.value, 'Hz', 4)}{_bar(q)} Hz".replace(" Hz ±", " ±"), doubt, f"{evidence.method[:1].upper()}{evidence.method[1:]}.", dial=_DIAL, findings=tuple(findings), boxes=_boxes(bench, evidence))


def coupling_of_or_none(bench: Bench) -> object | None:
    """Return the coupling, None where it is rigid or the inertia is not known."""
    try:
        return coupling_of(bench)
    except Refusal:
        return None


def _boxes(bench: Bench, evidence: Evidence | None) -> tuple[Box, ...]:
    rows: list[tuple[str, str]] = []
    try:
        found = effect(bench, evidence)
        notch = proposed_notch(bench, evidence)
    except Refusal as refusal:
        return (Box("Speed loop on this shaft", (), refusal.sentence),)
    if found is None:
        note = "The simulated shaft is rigid: take what the capture tells, or enter resonance and share." if evidence is not None and "resonance_hz" in evidence.estimates else "No coupling is simulated."
        return (Box("Speed loop on this shaft", (), note),)
    rows = [("on a rigid shaft", lively(found.rigid)), ("on this one, no filter", lively(found.bare)), ("with what is set", lively(found.now))]
    if found.notched is not None and notch is not None:
        rows.append((f"with a notch at {show(notch.hz, 'Hz', 3)}", lively(found.notched)))
    return (Box("Speed loop on this shaft", tuple(rows), "Phase and gain margin; the gain margin counts the resonance."),)


def panes(_: Capture, found: Resonance) -> tuple[Pane, ...]:
    """Return the measured response with its model, and where it was told."""
    f, scale = found.frequency, 60 / (2 * math.pi)
    told = np.isfinite(found.coherence) & (found.coherence > 0.5)
    response = 20 * np.log10(np.maximum(np.abs(found.response) * scale, 1e-12))
    model = 20 * np.log10(np.maximum(np.abs(found.model) * scale, 1e-12))
    curves = (
        Curve("measured", "measured", f[told], response[told], shape="points"),
        Curve("two inertias on a spring" if "resonance_hz" in found.estimates else "rigid shaft", "fit", f, model),
    )
    return (Pane("speed over torque current", _F, ("rpm per A", "dB"), curves, printed=True, log=True),)


def loop_pane(bench: Bench) -> Pane:
    """Return the open loop with and without the filters of the torque current; raises Refusal where something is not settled."""
    design, plant = design_speed(bench), plant_of(bench)
    nyquist = 0.5 * plant.loop_hz
    f: FloatArray = np.geomspace(max(design.margins.crossover_hz / 20 if math.isfinite(design.margins.crossover_hz) else 1.0, 0.01), 0.98 * nyquist, 900)
    curves = [Curve("open loop", "fit", f, _db(speed_loop(plant, design.kp, design.ki).response(2 * math.pi * f)))]
    if filters_of(bench).any:
        bare = speed_loop(replace(plant, filters=NO_FILTERS), design.kp, design.ki)
        curves.append(Curve("without filters", "expected", f, _db(bare.response(2 * math.pi * f))))
    return Pane("open loop of the speed", _F, ("gain", "dB"), tuple(curves), zero=True, log=True)


def _db(response: object) -> FloatArray:
    return np.asarray(20 * np.log10(np.maximum(np.abs(response), 1e-12)), dtype=np.float64)  # type: ignore[call-overload]


VIEW = View(said, panes)
