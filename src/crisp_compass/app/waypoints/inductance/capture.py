"""Inductance: how much has one phase?"""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.dial import DialView
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.widgets.number_field import Choice
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.course.kind import AXIS
from crisp_compass.course.waypoints.inductance import inductance_values
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.identify.inductance import InductanceResult
from crisp_compass.identify.saliency import SaliencyResult
from crisp_compass.identify.saturation import SaturationResult
from crisp_compass.quantities import show, show_with_error

_MARKS = 5000  # more samples than this are joined by a line instead of marked
_SHOWN = {
    "steps": "both axes",
    "steps_d": "d axis",
    "steps_q": "q axis",
    "lcr_angle": "over the angle",
    "saturation": "over the current",
}


class InductancePage(CapturePage):
    """Steps, the fitted current and its residual; one capture for both axes, or one each for d and q."""

    key = "inductance"
    section = "Capture"

    def build(self, area: QWidget) -> None:
        self.trace = Plot(("time", "s"), ("current i_a", "A"), name="current steps")
        self.trace.curve("measured", "deep", symbol="o", size=5)
        self.trace.curve("samples", "deep", width=1, dense=True, title="")
        self.trace.curve("fit", "magenta", width=1.2)
        self.voltage = Plot(("time", "s"), ("voltage v_ab", "V"), name="voltage steps")
        self.voltage.curve("measured", "deep", width=1, dense=True)
        self.voltage.curve("curve", "magenta", width=2, title="voltage over current")
        self.residual = Plot(("time", "s"), ("residual", "A"), name="residual")
        self.residual.rule(y=0.0)
        self.residual.curve("residual", "deep", width=1, dense=True)
        self.three_plots(area, self.trace, self.voltage, self.residual)

    def build_fields(self) -> None:
        self._kind: str | None = None
        self.shown = Choice(
            "Shown capture", _SHOWN, width=140,
            tip="d: rotor aligned to the A–B axis by a current from A to B; q: turned on by 90° electrical. The note “axis” in a capture decides where it goes.",
        )  # fmt: skip
        self.shown.moved.connect(self._on_shown)
        self.add_fields(self.shown)

    def _on_shown(self, kind: str) -> None:
        self._kind = kind
        self.refresh()

    def evidence(self) -> Evidence | None:
        items = self.seen.evidence.get("inductance", ())
        chosen = [e for e in items if e.kind == self._kind]
        return chosen[-1] if chosen else (items[-1] if items else None)

    def on_taken(self, evaluated: Evaluated) -> None:
        if evaluated.topic == self.key:
            self._kind = evaluated.kind.key
        super().on_taken(evaluated)

    def show_texts(self) -> None:
        evidence = self.evidence()
        assert self.main_button is not None
        self.main_button.setEnabled(evidence is not None)
        if evidence is None:
            settled = self.settled_quantity("ld")
            self.answer.show_answer(
                show(settled.value, "H") if settled else self.empty_answer,
                "",
                "Drop a voltage-step or injected-sine capture here (v_ab and i_a, rotor held), or LCR readings over the rotor angle (angle and l_ab).",
            )
            self.findings.show_findings(())
            self.show_dial(DialView(caption="Steps from A to B; the rotor is held", voltage=(330.0, 0.8)))
            return
        self.shown.show_value(evidence.kind)
        if evidence.kind == "lcr_angle":
            self._show_saliency(evidence)
            return
        found = evidence.estimates["inductance"]
        assert found.interval95 is not None
        shown, doubt = show_with_error(found.value, (found.interval95[1] - found.interval95[0]) / 2, "H")
        r = evidence.estimates["resistance"]
        reason = f"{evidence.method[:1].upper()}{evidence.method[1:]}. The same fit gives R {show(r.value, 'Ω')}."
        full = evidence.estimates.get("inductance_at_peak")
        if full is not None:
            knee = evidence.estimates["saturation_current"]
            reason += f" {show(full.value, 'H')} at the largest current; knee at {show(knee.value, 'A')}."
        findings = list(findings_of(evidence))
        try:
            values = inductance_values(self.seen)
            ld, lq = values["ld"].value, values["lq"].value
            if ld != lq:
                reason += f" Ld {show(ld, 'H')}, Lq {show(lq, 'H')}: ratio {lq / ld:.2f}."
            self.main_button.setText(f"Settle {show(ld, 'H')}…" if ld == lq else "Settle Ld and Lq…")
        except Refusal as refusal:
            findings.append(Finding("caution", "axis-missing", refusal.sentence))
            self.main_button.setEnabled(False)
        axis = f"{_SHOWN[evidence.kind]}, " if evidence.kind != "steps" else ""
        self.answer.show_answer(shown, f"{doubt}, 95 %, {axis}phase of the star", reason)
        self.findings.show_findings(findings)
        rotor = {"d": 330.0, "q": 60.0}.get(AXIS.get(evidence.kind, ""))
        self.show_dial(
            DialView(
                caption="Steps from A to B; the rotor is held"
                + (f" on its {AXIS[evidence.kind]} axis" if evidence.kind in AXIS else ""),
                rotor=rotor,
                voltage=(330.0, 0.8),
            )
        )

    def _show_saliency(self, evidence: Evidence) -> None:
        """Show Ld and Lq of readings over the rotor angle."""
        ld, lq = evidence.estimates["ld"], evidence.estimates["lq"]
        doubts = [
            show_with_error(q.value, (q.interval95[1] - q.interval95[0]) / 2, "H") for q in (ld, lq) if q.interval95
        ]
        self.answer.show_answer(
            f"{show(ld.value, 'H')} | {show(lq.value, 'H')}",
            f"Ld {doubts[0][1]}, Lq {doubts[1][1]}, 95 %",
            f"Lq over Ld is {lq.value / ld.value:.3f}. {evidence.method[:1].upper()}{evidence.method[1:]}.{self._zero_text(evidence)}",
        )
        assert self.main_button is not None
        self.main_button.setText("Settle Ld and Lq…")
        self.findings.show_findings(findings_of(evidence))
        self.show_dial(DialView(caption="Least inductance where the rotor lies along A–B", rotor=330.0))

    @staticmethod
    def _zero_text(evidence: Evidence) -> str:
        zero = evidence.estimates.get("rotor_zero")
        if zero is None or not zero.interval95:
            return ""
        half = (zero.interval95[1] - zero.interval95[0]) / 2
        return f" The rotor's zero lies at {show(zero.value, 'rad')} ±{show(half, 'rad', 2)} of the shaft, or half an electrical turn further."

    def draw(self, evaluated: Evaluated) -> None:
        result = evaluated.result
        if isinstance(result, SaliencyResult):
            self._draw_saliency(result)
            return
        self._label(False)
        if isinstance(result, SaturationResult):
            self._draw_curve(result)
            return
        assert isinstance(result, InductanceResult)
        self.voltage.set_axes(("time", "s"), ("voltage v_ab", "V"))
        self.voltage.set("curve", [], [])
        capture = evaluated.capture
        time = capture.time - capture.time[0]
        many = len(time) > _MARKS
        self.trace.set("samples" if many else "measured", time, capture["i_a"])
        self.trace.set("measured" if many else "samples", [], [])
        self.trace.set("fit", result.time, result.model)
        self.voltage.set("measured", time, capture["v_ab"])
        self.residual.set("residual", result.time, result.residual)

    def _label(self, over_angle: bool) -> None:
        """Name the axes for steps over time or readings over the angle."""
        x = ("rotor angle", "°") if over_angle else ("time", "s")
        self.trace.set_axes(x, ("inductance A–B", "H") if over_angle else ("current i_a", "A"))
        self.residual.set_axes(x, ("residual", "H" if over_angle else "A"))
        self.voltage.setVisible(not over_angle)

    def _draw_curve(self, result: SaturationResult) -> None:
        self.trace.set("samples", [], [])
        self.trace.set("measured", result.time, result.current)
        self.trace.set("fit", result.time, result.model)
        self.voltage.set_axes(("current along the axis, peak", "A"), ("incremental inductance", "H"))
        self.voltage.set("measured", [], [])
        self.voltage.set("curve", result.curve_current, result.curve_inductance)
        self.residual.set("residual", result.time, result.residual)

    def _draw_saliency(self, result: SaliencyResult) -> None:
        self._label(True)
        angle = np.degrees(result.angle)
        order = np.argsort(angle)
        self.trace.set("samples", [], [])
        self.trace.set("measured", angle[result.used], result.inductance[result.used])
        self.trace.set("fit", np.degrees(result.line_angle), result.line_inductance)
        self.voltage.set("measured", [], [])
        self.residual.set("residual", angle[order], result.residual[order])
