"""Resistance: how much has one phase?"""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from crisp_compass.app.dial import DialView
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.course.known import meter_phases
from crisp_compass.course.waypoints.resistance import BRIDGE_STAIRCASE
from crisp_compass.identify.resistance import ResistanceResult
from crisp_compass.quantities import show, show_with_error


class ResistancePage(CapturePage):
    """Staircase, levels on the fitted line, residual of each level."""

    key = "resistance"
    section = "Capture"
    fields = (
        Entry("temperature", "Winding temperature", "degC", width=124),
        Entry("reference", "Refer to", "degC", width=94),
        Pick("rule", "Copper rule", {"iec": "IEC 235", "ieee": "IEEE 234.5"}, width=124),
        Entry("cable", "Cable, one lead", "Ω", width=116),
    )

    def build(self, area: QWidget) -> None:
        self.trace = Plot(("time", "s"), ("current i_a", "A"), name="staircase")
        self.trace.curve("measured", "deep", width=1, dense=True)
        self.trace.curve("settled", "magenta", width=3, title="settled levels")
        self.line = Plot(("current i_a", "A"), ("voltage", "V"), name="voltage over current")
        self.line.curve("fit", "magenta", width=1.8)
        self.line.curve("levels", "deep", symbol="o", size=8)
        self.line.curve("left out", "deep", symbol="o", size=8, hollow=True)
        self.residual = Plot(("current i_a", "A"), ("residual", "V"), name="residual")
        self.residual.rule(y=0.0)
        self.residual.curve("residual", "deep", symbol="o", size=7)
        self.three_plots(area, self.trace, self.line, self.residual)

    def show_texts(self) -> None:
        settings = self.seen.settings.resistance
        evidence, settled = self.evidence(), self.settled_quantity("resistance")
        meter = meter_phases(self.seen)
        meter_text = f"The meter says {show(meter.mean.value, 'Ω')}, pairs less the probes." if meter else ""
        assert self.main_button is not None
        self.main_button.setEnabled(evidence is not None)
        if evidence is None:
            if settled:
                self.answer.show_answer(
                    show(settled.value, "Ω", 4),
                    "settled, phase of the star",
                    self.seen.settled["resistance"].reason + ". " + meter_text,
                )
            else:
                self.answer.show_answer(
                    self.empty_answer,
                    meter_text,
                    "Drop a DC staircase here (v_ab or v_cmd, and i_a), or type ruv, rvw, rwu and lead into the ledger.",
                )
            self.main_button.setText("Settle…")
            self.findings.show_findings(())
            self.show_dial(DialView(caption="Current along A and B; C open", current=(330.0, 0.8)))
            return
        found = evidence.estimates["resistance"]
        assert found.interval95 is not None
        shown, doubt = show_with_error(found.value, (found.interval95[1] - found.interval95[0]) / 2, "Ω")
        at = f" at {show(settings.temperature, 'degC')}" if settings.temperature is not None else ""
        offset = evidence.estimates["voltage_offset"]
        reason = f"{evidence.method}. A further {show(offset.value, 'V')} does not grow with current."
        if "resistance_at_reference" in evidence.estimates:
            reason += f" At {show(settings.reference, 'degC')} it is {show(evidence.estimates['resistance_at_reference'].value, 'Ω', 4)}."
        if meter_text:
            reason += " " + meter_text
        if settled and abs(settled.value - found.value) > 1e-12:
            reason += f" Settled so far: {show(settled.value, 'Ω', 4)}."
        self.answer.show_answer(shown, f"{doubt}, 95 %{at}, phase of the star", reason)
        self.main_button.setText(f"Settle {show(found.value, 'Ω')}…")
        self.findings.show_findings(findings_of(evidence))
        bridge = evidence.kind == BRIDGE_STAIRCASE.key
        self.show_dial(
            DialView(
                caption="Voltage held along A; the rotor lines up" if bridge else "Current in at A, out at B",
                rotor=0.0 if bridge else None,
                current=(0.0 if bridge else 330.0, 0.8),
            )
        )

    def draw(self, evaluated: Evaluated) -> None:
        result = evaluated.result
        assert isinstance(result, ResistanceResult)
        capture = evaluated.capture
        self.trace.set("measured", capture.time, capture["i_a"])
        x, y = result.settled_lines()
        self.trace.set("settled", x, y)
        self.line.set("fit", result.line_current, result.line_voltage)
        self.line.set("levels", result.current[result.used], result.voltage[result.used])
        self.line.set("left out", result.current[~result.used], result.voltage[~result.used])
        self.residual.set("residual", result.current[result.used], result.residual[result.used])
