"""A DC staircase: its levels over time, the line through them, what each level leaves."""

from __future__ import annotations

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.known import meter_phases
from crisp_compass.identify.resistance import ResistanceResult
from crisp_compass.motor import family_of, three_phases
from crisp_compass.quantities import show, show_with_error
from crisp_compass.views.picture import Curve, DialView, Pane, Said, View

_HINT = "Drop a DC staircase here (v_ab or v_cmd, and i_a), or type ruv, rvw, rwu and lead into the ledger."
_BRIDGE = DialView(caption="Voltage held along A; the rotor lines up", rotor=0.0, current=(0.0, 0.8))
_ONE = DialView(caption="Current in one winding; the shaft is held", current=(0.0, 0.8))
_PAIR = DialView(caption="Current in at A, out at B", current=(330.0, 0.8))


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return the resistance with its bar, its temperature and what the meter says."""
    settings, family, line = bench.settings.resistance, family_of(bench), three_phases(bench)
    done = bench.settled.get("resistance")
    settled = done.values.get("resistance") if done else None
    meter = meter_phases(bench)
    meter_text = f"The meter says {show(meter.mean.value, 'Ω')}, pairs less the probes." if meter else ""
    if evidence is None:
        dial = DialView(caption="Current along A and B; C open", current=(330.0, 0.8)) if line else _ONE
        if done is not None and settled is not None:
            reason = f"{done.reason}. {meter_text}"
            return Said(show(settled.value, "Ω", 4), f"settled, {family.phase}", reason, dial=dial)
        return Said(
            "No capture yet",
            meter_text,
            family.hints.get("resistance", _HINT),
            dial=dial,
        )
    found = evidence.estimates["resistance"]
    assert found.interval95 is not None
    shown, doubt = show_with_error(found.value, (found.interval95[1] - found.interval95[0]) / 2, "Ω")
    at = f" at {show(settings.temperature, 'degC')}" if settings.temperature is not None else ""
    offset = evidence.estimates.get("voltage_offset")
    reason = f"{evidence.method}."
    if offset is not None:
        reason += f" A further {show(offset.value, 'V')} does not grow with current."
    if "resistance_at_reference" in evidence.estimates:
        reference = evidence.estimates["resistance_at_reference"].value
        reason += f" At {show(settings.reference, 'degC')} it is {show(reference, 'Ω', 4)}."
    if meter_text:
        reason += " " + meter_text
    if settled is not None and abs(settled.value - found.value) > 1e-12:
        reason += f" Settled so far: {show(settled.value, 'Ω', 4)}."
    return Said(
        shown,
        f"{doubt}, 95 %{at}, {family.phase}",
        reason,
        f"Settle {show(found.value, 'Ω')}…",
        can_settle=True,
        dial=_BRIDGE if evidence.kind == "bridge_staircase" else _PAIR if line else _ONE,
    )


def panes(capture: Capture, result: ResistanceResult) -> tuple[Pane, ...]:
    """Return the staircase, voltage over current, and the residual."""
    used, current = result.used, (f"current {result.current_name}", "A")
    levels = result.settled_lines()
    residual = np.where(used, result.residual, np.nan)
    return (
        Pane(
            "staircase",
            ("time", "s"),
            current,
            (
                Curve("measured", "measured", capture.time, capture[result.current_name], dense=True),
                Curve("settled levels", "fit", *levels, wide=True),
            ),
        ),
        Pane(
            "voltage over current",
            current,
            (f"voltage {result.voltage_name}", "V"),
            (
                Curve("fit", "fit", result.line_current, result.line_voltage),
                Curve("levels", "measured", result.current[used], result.voltage[used], shape="points"),
                Curve("left out", "left out", result.current[~used], result.voltage[~used], shape="points"),
            ),
            printed=True,
        ),
        Pane(
            "residual",
            current,
            ("residual", "V"),
            (Curve("residual", "measured", result.current, residual, shape="points"),),
            zero=True,
            printed=True,
        ),
    )


VIEW = View(said, panes)
