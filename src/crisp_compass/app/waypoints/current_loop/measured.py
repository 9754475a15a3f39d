"""Current loop, measured step: does the loop do what was designed, and what differs?"""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton, QWidget

from crisp_compass.app.autosave import now
from crisp_compass.app.dial import DialView
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.rules import need
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.course.gain_trials import add_trial, predicted_step
from crisp_compass.course.waypoints.current_loop import gains_that_ran
from crisp_compass.errors import Refusal
from crisp_compass.loops.step_fit import StepFit
from crisp_compass.quantities import show


class MeasuredPage(CapturePage):
    """Measured step on the prediction, the fit and what is left; effective R, L and delay; the likeliest cause."""

    key = "current_loop"
    section = "Measured step"
    always_plots = True
    question = "Does the loop do what was designed?"
    fields = (
        Entry(
            "trial_kp",
            "Kp that ran",
            "V/A",
            width=120,
            tip="Settled or designed if empty; notes kp and ki of the file come first",
        ),
        Entry("trial_ki", "Ki that ran", "V/(A·s)", width=136),
    )

    def build(self, area: QWidget) -> None:
        self.step = Plot(("time from the step", "s"), ("current i_q", "A"), name="measured step")
        self.step.curve("predicted", "ink", width=1.6, dash="dash", title="predicted with the gains that ran")
        self.step.curve("fitted", "magenta", width=2.2)
        self.step.curve("measured", "deep", symbol="o", size=5)
        self.rest = Plot(("time from the step", "s"), ("rest", "A"), name="residual")
        self.rest.curve("rest", "deep", width=1.2)
        self.rest.rule(y=0.0, token="line")
        self.rows = Rows("Designed → found", width=330)
        self.figures = Rows("The step itself", width=330)
        beside(area, (self.step, self.rest), (self.rows, self.figures), (3, 1))

    def build_fields(self) -> None:
        self.keep_button = QPushButton("Keep as trial")
        self.keep_button.clicked.connect(self._on_keep)

    def finish(self, main_text: str = "", *others: QPushButton) -> None:
        super().finish("", self.keep_button, *others)

    def show_texts(self) -> None:
        bench, evidence = self.seen, self.evidence()
        settings = bench.settings.current_loop
        self.keep_button.setEnabled(evidence is not None)
        self.show_dial(DialView(caption="A q step at standstill, rotor held", rotor=35.0, current=(125.0, 0.8)))
        if evidence is None:
            self.answer.show_answer(
                "No step yet", "",
                "Capture i_q_ref and i_q (better with v_q) around a step at standstill, shaft clamped, and drop it here.",
            )  # fmt: skip
            self.findings.show_findings(())
            self.rows.show_rows(())
            self.figures.show_rows(())
            try:
                self.step.set("predicted", *predicted_step(bench))
                self.step.fit()
            except Refusal as refusal:
                self.answer.show_reason(refusal.sentence)
            return
        self.findings.show_findings(findings_of(evidence))
        found = evidence.estimates
        fit = self.evaluated.result if self.evaluated is not None else None
        cause = fit.cause if isinstance(fit, StepFit) else ""
        self.answer.show_answer(
            "As designed" if not cause else "Not as designed",
            f"L {show(found['inductance'].value, 'H')}, R {show(found['resistance'].value, 'Ω')}, delay {show(found['delay'].value, 's')} effective",
            f"{cause or 'All three agree with the design within their error bars.'} {evidence.method}.",
        )
        try:
            loop_hz = need(bench, "pwm.loop_hz")
            before = (
                need(bench, "resistance.resistance"),
                need(bench, "inductance.lq"),
                settings.delay_samples / loop_hz,
            )
        except Refusal as refusal:
            self.rows.show_rows((), note=refusal.sentence)
            return
        rows = []
        for name, key, unit, was in (
            ("R", "resistance", "Ω", before[0]),
            ("L", "inductance", "H", before[1]),
            ("delay", "delay", "s", before[2]),
        ):
            value = found[key]
            half = (value.interval95[1] - value.interval95[0]) / 2 if value.interval95 else 0.0
            rows.append((name, f"{show(was, unit)} → {show(value.value, unit)} ±{show(half, unit, 2)}"))
        rows.append(("delay, periods", f"{settings.delay_samples:g} → {found['delay'].value * loop_hz:.2f}"))
        if "voltage_lost" in found:
            rows.append(("voltage lost", show(found["voltage_lost"].value, "V")))
        self.rows.show_rows(rows)
        self.figures.show_rows([
            ("first 5 % after", show(found["first"].value, "s") if "first" in found else "–"),
            ("rise, 10 to 90 %", show(found["rise"].value, "s") if "rise" in found else "–"), ("overshoot", f"{100 * found['overshoot'].value:.1f} %"),
            ("within ±5 % after", show(found["settling"].value, "s") if "settling" in found else "–"),
            ("rings at", show(found["ringing"].value, "Hz") if found["ringing"].value else "does not ring"),
        ])  # fmt: skip

    def _show_plots(self, evaluated: Evaluated | None) -> None:
        super()._show_plots(evaluated)
        if evaluated is None:
            self.show_texts()  # the prediction stays

    def draw(self, evaluated: Evaluated) -> None:
        fit = evaluated.result
        if isinstance(fit, StepFit):
            for key in ("predicted", "fitted", "measured"):
                self.step.set(key, fit.time, getattr(fit, key))
            self.rest.set("rest", fit.time, fit.measured - fit.fitted)

    def _on_keep(self) -> None:
        if self.evaluated is None or not isinstance(self.evaluated.result, StepFit):
            return
        fit, notes = self.evaluated.result, self.evaluated.capture.notes
        self._change(lambda bench: add_trial(bench, now(), *gains_that_ran(bench, notes), measured=fit), "keep trial")
