"""Inductance: how much has one phase?"""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from crisp_compass.app.dial import DialView
from crisp_compass.app.legs.capture_leg import CaptureLeg
from crisp_compass.app.widgets.lever import Choice
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.bench.models import Evidence
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.identify.inductance import InductanceResult
from crisp_compass.quantities import show, show_with_error
from crisp_compass.voyage.design import inductance_values
from crisp_compass.voyage.evidence import Evaluated, findings_of

_SLOTS = {"": "both axes", "d": "d axis", "q": "q axis"}


class InductancePage(CaptureLeg):
    """Steps, the fitted current and its residual; one capture for both axes, or one each for d and q."""

    key = "inductance"
    wanted = ("v_ab", "i_a")

    def build(self, area: QWidget) -> None:
        self.trace = Plot(("time", "s"), ("current i_a", "A"), name="current steps")
        self.trace.curve("measured", "deep", symbol="o", size=5)
        self.trace.curve("fit", "magenta", width=1.2)
        self.voltage = Plot(("time", "s"), ("voltage v_ab", "V"), name="voltage steps")
        self.voltage.curve("measured", "deep", width=1, dense=True)
        self.residual = Plot(("time", "s"), ("residual", "A"), name="residual")
        self.residual.rule(y=0.0)
        self.residual.curve("residual", "deep", width=1, dense=True)
        self.three_plots(area, self.trace, self.voltage, self.residual)

    def build_levers(self) -> None:
        self._slot: str | None = None
        self.slot = Choice(
            "Shown capture", _SLOTS, width=140,
            tip="d: rotor aligned to the A–B axis by a current from A to B; q: turned on by 90° electrical. The note “axis” in a capture decides where it goes.",
        )  # fmt: skip
        self.slot.moved.connect(self._on_slot)
        self.add_levers(self.slot)

    def _on_slot(self, slot: str) -> None:
        self._slot = slot
        self.refresh()

    def evidence(self) -> Evidence | None:
        items = self.document.bench.evidence.get("inductance", ())
        chosen = [e for e in items if e.slot == self._slot]
        return chosen[0] if chosen else (items[-1] if items else None)

    def _on_loaded(self, evaluated: Evaluated) -> None:
        self._slot = evaluated.evidence.slot
        super()._on_loaded(evaluated)

    def show_texts(self) -> None:
        evidence = self.evidence()
        assert self.main_button is not None
        self.main_button.setEnabled(evidence is not None)
        if evidence is None:
            settled = self.settled_quantity("ld")
            self.answer.show_answer(
                show(settled.value, "H") if settled else self.empty_answer,
                "",
                "Drop a voltage-step capture here (v_ab and i_a, rotor held).",
            )
            self.findings.show_findings(())
            self.show_dial(DialView(caption="Steps from A to B; the rotor is held", voltage=(330.0, 0.8)))
            return
        self.slot.show_value(evidence.slot)
        found = evidence.estimates["inductance"]
        assert found.interval95 is not None
        shown, doubt = show_with_error(found.value, (found.interval95[1] - found.interval95[0]) / 2, "H")
        r = evidence.estimates["resistance"]
        reason = f"{evidence.method}. The same fit gives R {show(r.value, 'Ω')}."
        findings = list(findings_of(evidence))
        try:
            values = inductance_values(self.document.bench)
            ld, lq = values["ld"].value, values["lq"].value
            if ld != lq:
                reason += f" Ld {show(ld, 'H')}, Lq {show(lq, 'H')}: ratio {lq / ld:.2f}."
            self.main_button.setText(f"Settle {show(ld, 'H')}…" if ld == lq else "Settle Ld and Lq…")
        except Refusal as refusal:
            findings.append(Finding("caution", "axis-missing", refusal.sentence))
            self.main_button.setEnabled(False)
        axis = f"{_SLOTS[evidence.slot]}, " if evidence.slot else ""
        self.answer.show_answer(shown, f"{doubt}, 95 %, {axis}phase of the star", reason)
        self.findings.show_findings(findings)
        rotor = {"d": 330.0, "q": 60.0}.get(evidence.slot)
        self.show_dial(
            DialView(
                caption="Steps from A to B; the rotor is held"
                + (f" on its {evidence.slot} axis" if evidence.slot else ""),
                rotor=rotor,
                voltage=(330.0, 0.8),
            )
        )

    def draw(self, evaluated: Evaluated) -> None:
        result = evaluated.result
        assert isinstance(result, InductanceResult)
        self.trace.set("measured", result.time, result.current)
        self.trace.set("fit", result.time, result.model)
        self.voltage.set("measured", result.time, result.voltage)
        self.residual.set("residual", result.time, result.residual)

    def on_main(self) -> None:
        evidence = self.evidence()
        try:
            values = inductance_values(self.document.bench)
        except Refusal as refusal:
            self.refuse(refusal)
            return
        ld, lq = values["ld"].value, values["lq"].value
        what = show(ld, "H") if ld == lq else f"Ld {show(ld, 'H')}, Lq {show(lq, 'H')}"
        self.settle(
            "inductance",
            what,
            "steps, fit within the noise",
            values=values,
            method=evidence.method if evidence else "",
        )
