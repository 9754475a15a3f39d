"""Back-EMF over time while the shaft coasts, or running data over the electrical frequency."""

from __future__ import annotations

import math
from typing import Literal

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.course import headline
from crisp_compass.course.open_points import presumed_text
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.identify.armature import ArmatureResult
from crisp_compass.identify.flux import FluxResult
from crisp_compass.identify.running import RunningResult
from crisp_compass.motor import family_of
from crisp_compass.quantities import counted, show, show_with_error
from crisp_compass.views.picture import Curve, DialView, Pane, Said, View

_HINT = "Drop a coasting or hand-turned capture here (one to three of v_ab, v_bc, v_ca), or v_q, i_q and speed of a drive that runs at several speeds."


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return the flux linkage with its bar, and what it means as Kt and Kv."""
    if evidence is None:
        done = bench.settled.get("flux")
        return Said(
            headline(bench, BY_KEY["flux"]) if done else "No capture yet",
            "",
            family_of(bench).hints.get("flux", _HINT),
            dial=DialView(caption="The rotor turns, no current flows", rotor=40.0, voltage=(130.0, 0.7)),
        )
    brushed = "ke" in evidence.estimates
    found = evidence.estimates["ke" if brushed else "flux_linkage"]
    assert found.interval95 is not None
    shown, doubt = show_with_error(found.value, (found.interval95[1] - found.interval95[0]) / 2, found.unit)
    reason = f"{', '.join(_parts(bench, evidence))}. {evidence.method[:1].upper()}{evidence.method[1:]}."
    return Said(
        shown,
        f"{doubt}, 95 %, {'Ke, the voltage constant' if brushed else 'peak per phase'}",
        reason,
        f"Settle {show(found.value, found.unit)}…",
        can_settle=True,
        dial=DialView(caption="Back-EMF leads the rotor's flux by 90°", rotor=40.0, voltage=(130.0, 0.7)),
    )


def _parts(bench: Bench, evidence: Evidence) -> list[str]:
    """Return what else the capture tells, piece by piece."""
    found, parts = evidence.estimates, []
    if "pole_pairs" in found:
        parts.append(f"{counted(round(found['pole_pairs'].value), 'pole pair')} seen")
    if "kt" in found:
        parts.append(f"Kt {show(found['kt'].value, 'N·m/A')}{'' if 'ke' in found else ' peak'}")
        said = presumed_text(
            bench, "plate", *(f for f in ("pole_pairs", "steps_per_turn") if hasattr(bench.settings.plate, f))
        )
        if said and "pole_pairs" not in found and "ke" not in found:
            parts.append(said.rstrip("."))
    if "kv_peak" in found:
        parts.append(f"Kv {found['kv_peak'].value:.4g} rpm/V line peak")
    if "resistance" in found:
        parts.append(f"R {show(found['resistance'].value, 'Ω')}")
    if "voltage_offset" in found:
        parts.append(f"brushes {show(found['voltage_offset'].value, 'V')}")
    names = {3: "3rd", 5: "5th", 7: "7th"}
    parts += [f"{names[n]} {100 * found[f'harmonic_{n}'].value:.1f} %" for n in names if f"harmonic_{n}" in found]
    if "trapezoid_factor" in found:
        parts.append(f"shape {found['trapezoid_factor'].value:.3f} (sine 1, trapezoid 0.95)")
    if "imbalance" in found:
        parts.append(f"channels within {100 * found['imbalance'].value:.2g} %")
    return parts


def _over_speed(result: ArmatureResult) -> tuple[Pane, ...]:
    """Return voltage over speed of an armature, and the residual."""
    x, rpm = ("speed", "rpm"), result.speed * RPM_PER_RAD_S
    shape: Literal["line", "points"] = "points" if result.running else "line"
    name = "points of speed and load" if result.running else "measured"
    measured = Curve(name, "measured", rpm, result.voltage, shape=shape, dense=not result.running, wide=True)
    left = Curve("residual", "measured", rpm, result.residual, shape=shape, dense=not result.running)
    return (
        Pane(
            "voltage over speed",
            x,
            ("voltage v_m", "V"),
            (measured, Curve("fit", "fit", rpm, result.model, shape=shape)),
            printed=True,
        ),
        Pane("residual", x, ("residual", "V"), (left,), zero=True, printed=True),
    )


def panes(capture: Capture, result: FluxResult | RunningResult | ArmatureResult) -> tuple[Pane, ...]:
    """Return the voltage with its fit, the frequency that falls, and the residual."""
    if isinstance(result, ArmatureResult):
        return _over_speed(result)
    if isinstance(result, RunningResult):
        f, x = result.omega / (2 * math.pi), ("electrical frequency", "Hz")
        return (
            Pane(
                "running voltage",
                x,
                ("voltage v_q", "V"),
                (
                    Curve("steady speeds", "measured", f, result.voltage, shape="points"),
                    Curve("fit", "fit", f, result.model),
                ),
                printed=True,
            ),
            Pane(
                "residual",
                x,
                ("residual", "V"),
                (Curve("residual", "measured", f, result.residual, shape="points"),),
                zero=True,
                printed=True,
            ),
        )
    name, x = result.channels[0], ("time", "s")
    left = Curve("residual", "measured", result.time, result.residual[:, 0], dense=True)
    return (
        Pane(
            "back-EMF",
            x,
            (f"voltage {name}", "V"),
            (
                Curve("measured", "measured", capture.time, capture[name], dense=True, wide=True),  # with its spikes
                Curve("fit", "fit", result.time, result.model[:, 0], dense=True),
            ),
            printed=True,
        ),
        Pane(
            "electrical frequency",
            x,
            ("frequency", "Hz"),
            (Curve("fit", "fit", result.time, abs(result.omega) / (2 * math.pi)),),
        ),
        Pane("residual", x, ("residual", "V"), (left,), zero=True, printed=True),
    )


VIEW = View(said, panes)
