"""PWM, command: what does the drive's command input see, and what speed does it ask for?"""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.dial import DialView
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.course.open_points import presumed_text
from crisp_compass.course.pwm_outlook import bench_command_map
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.modulation.command_input import CommandMap, CommandSignal
from crisp_compass.quantities import show

_CAUTION = (
    "The motor starts when the duty passes its lower end: clamp it, keep clear, and have the supply's limit set."
)


class CommandPage(CapturePage):
    """Frequency, duty and jitter of a captured command; duty to speed, and what happens outside."""

    key = "pwm"
    section = "Command"
    settles = False
    always_plots = True
    question = "What speed does the command ask for?"
    fields = (
        Entry("band_low", "Legal from", "Hz", width=96),
        Entry("band_high", "to", "Hz", width=92),
        Entry("command_low", "Turns from", "%", width=96, tip="Lowest duty that turns the motor"),
        Entry("command_high", "Top at", "%", width=88, tip="Duty of the highest speed allowed"),
        Entry("command_step", "Duty step", "%", width=92, tip="Finest step of whatever commands"),
    )

    def build(self, area: QWidget) -> None:
        self.map = Plot(("duty of the command", "%"), ("speed asked for", "rpm"), name="speed over duty")
        self.map.curve("map", "deep", width=2, title="speed asked for")
        self.map.curve("here", "magenta", symbol="o", size=10, title="this command")
        self.duty = Plot(("time", "s"), ("duty", "%"), name="duty over time")
        self.duty.curve("duty", "magenta", width=1.6)
        self.rows = Rows("The command input", width=330)
        beside(area, (self.map, self.duty), (self.rows,))

    def show_texts(self) -> None:
        bench, evidence = self.seen, self.evidence()
        self.show_dial(DialView(caption="A command asks for speed"))
        findings = findings_of(evidence) if evidence else []
        try:
            mapped = bench_command_map(bench)
        except Refusal as refusal:
            self.answer.show_answer("–", "", refusal.sentence, stale=True)
            self.map.clear_data()
            self.rows.show_rows(())
            self.findings.show_findings(findings)
            return
        grid = np.linspace(0, 1, 201)
        self.map.set("map", 100 * grid, [mapped.speed(float(d)) * RPM_PER_RAD_S for d in grid])
        self.map.set("here", [], [])
        if evidence is None:
            self.answer.show_answer(
                f"{mapped.steps} steps",
                f"of {mapped.speed_step * RPM_PER_RAD_S:.3g} rpm between the two duties",
                f"{presumed_text(self.document.bench, 'plate', 'top_speed')} Drop a capture of the command (0/1 or volts). {_CAUTION}".strip(),
            )
        else:
            frequency, duty = evidence.estimates["frequency"].value, evidence.estimates["duty"].value
            level, text = mapped.judge(frequency, duty)
            if level != "info":
                findings = [Finding("stop" if level == "stop" else "caution", "command", text), *findings]
            asked = mapped.speed(duty) if mapped.band_low <= frequency <= mapped.band_high else 0.0
            self.map.set("here", [100 * duty], [asked * RPM_PER_RAD_S])
            self.answer.show_answer(
                f"{asked * RPM_PER_RAD_S:.0f} rpm",
                f"asked for by {100 * duty:.2f} % at {show(frequency, 'Hz', 4)}",
                f"{evidence.method}. {_CAUTION}",
            )
        self.map.fit()
        self.findings.show_findings(findings)
        self._show_rows(mapped)

    def _show_rows(self, mapped: CommandMap) -> None:
        evidence = self.evidence()
        rows = [
            ("steps of the command", str(mapped.steps)),
            ("one step", f"{mapped.speed_step * RPM_PER_RAD_S:.3g} rpm"),
            ("ten times finer", f"{10 * mapped.steps} steps"),
            ("half speed, analogue", show(mapped.counterpart(mapped.speed_high / 2), "V")),
            ("below the lower duty", "the motor stands"),
            ("outside the band, or level held", "nothing, or a fault"),
        ]
        if evidence is not None:
            found = evidence.estimates
            rows += [
                ("frequency", show(found["frequency"].value, "Hz", 4)),
                ("duty", f"{100 * found['duty'].value:.2f} %"),
                ("jitter of the period", f"{100 * found['jitter'].value:.2g} %"),
            ]
        note = "Direction and enable are two digital inputs beside it: set them before the command rises. Some drives want the command off and on again after power-up."
        self.rows.show_rows(rows, note=note)

    def draw(self, evaluated: Evaluated) -> None:
        result = evaluated.result
        if isinstance(result, CommandSignal):
            n = len(result.duties)
            self.duty.set("duty", result.rises[:n], 100 * result.duties)

    def _show_plots(self, evaluated: Evaluated | None) -> None:
        if evaluated is None:
            self.duty.clear_data()
            return
        self.draw(evaluated)
        self.duty.fit()
