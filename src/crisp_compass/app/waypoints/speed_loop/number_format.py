"""Speed loop, number format: what are its gains in the firmware's own numbers, and what do the firmware's mean?"""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.number_formats import BITS, proposed_scales
from crisp_compass.course.resonance import lively
from crisp_compass.course.speed_design import design_speed
from crisp_compass.course.speed_formats import SpeedRead, proposed_speed, read_speed, speed_forms, speed_scales
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.loops.number_format import Forms, QGain, Scales
from crisp_compass.loops.speed import SpeedDesign
from crisp_compass.quantities import grouped, show, significant


class SpeedFormatPage(Page):
    """Every form of the speed controller; integers typed are read back into gains, margins, a step beside the design's, and a verdict."""

    key = "speed_loop"
    section = "Number format"
    has_dial = False
    question = "What are the gains in the firmware's own numbers?"
    fields = (
        Entry("w_base", "Full scale", "rpm", width=104, group="Speed", tip="Speed of the shaft that the largest integer stands for; a round figure above the top speed if empty"),
        Entry("current_loop.i_base", "Full scale", "A", width=96, group="Current", tip="Current that the largest integer stands for, as on the current loop"),
        Pick("current_loop.bits", "Word", {str(b): f"{b} bits" for b in BITS}, width=92),
        Entry("kp_integer", "Kp found", width=92, tip="Integer in the firmware"),
        Entry("kp_shift", "its shift", width=76, group="Kp"),
        Entry("ki_integer", "Ki found", width=92, tip="Integer, the speed loop's period inside"),
        Entry("ki_shift", "its shift", width=76, group="Ki"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.forms = Rows("Every form", width=330)
        self.integers = Rows("As integers", width=0)
        self.read = Rows("Integers read back", width=0)
        self.step = Plot(("time", "s"), ("speed, part of the step", ""), name="steps of designed and of read gains")
        self.step.rule(y=1.0, token="ink", dash="dash")
        self.step.curve("designed", "deep", width=1.8, dash="dash", title="gains as designed")
        self.step.curve("read", "magenta", width=2, title="integers as read")
        right, boxes, area = QVBoxLayout(), QHBoxLayout(), QWidget()
        boxes.addWidget(self.integers, 1)
        boxes.addWidget(self.read, 1)
        right.addLayout(boxes)
        right.addWidget(self.step, 1)
        row = QHBoxLayout(area)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.forms)
        row.addLayout(right, 1)
        for layout in (right, boxes, row):
            layout.setSpacing(8)
        self.column.addWidget(area, 1)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        self.number("w_base").edit.setPlaceholderText(f"{proposed_speed(bench) * RPM_PER_RAD_S:g}")
        self.number("current_loop.i_base").edit.setPlaceholderText(f"{proposed_scales(bench)[0]:g}")
        forms, scales = speed_forms(bench), speed_scales(bench)
        self._show_forms(forms, scales)
        self._draw("designed", design_speed(bench))
        found = list(forms.findings)
        try:
            read = read_speed(bench)
        except Refusal as refusal:
            found.append(Finding("caution", "integers", refusal.sentence))
            read = None
        if read is None:
            self.read.show_rows((), note="Type the integers that the firmware holds: gains, crossover and margins follow.")
            self.step.set("read", [], [])
        else:
            self._show_read(read)
            found += read.findings
        self.step.fit()
        self.findings.show_findings([f for f in found if f.level != "info"])

    def _draw(self, name: str, loop: SpeedDesign) -> None:
        if not loop.margins.stable:
            self.step.set(name, [], [])
            return
        count = int(min(max(6 / max(loop.margins.crossover_hz, 1e-3) / loop.loop.ts, 60), 4000)) if np.isfinite(loop.margins.crossover_hz) else 1000
        y = loop.step(count, filtered=False)
        self.step.set(name, np.arange(len(y)) * loop.loop.ts, y)

    def _show_forms(self, forms: Forms, scales: Scales) -> None:
        self.answer.show_answer(
            f"Kp {_shifted(forms.kp_q)}", f"Ki {_shifted(forms.ki_q)}, its period inside",
            f"For {show(forms.kp, 'A/(rad/s)', 4)} and {show(forms.ki, 'A/rad', 4)}; an error below {grouped(forms.least_error * RPM_PER_RAD_S, 2)} rpm moves nothing.",
        )  # fmt: skip
        self.forms.show_rows([
            ("Kp", show(forms.kp, "A/(rad/s)", 5)), ("Kp for rpm", f"{significant(forms.kp / RPM_PER_RAD_S, 5)} A/rpm"), ("Ki", show(forms.ki, "A/rad", 5)), ("Ki·Ts, each step", show(forms.ki_ts, "A/(rad/s)", 5)),
            ("series: Ti", show(forms.ti, "s", 5)), ("incremental: b0", show(forms.b0, "A/(rad/s)", 5)), ("incremental: b1", show(forms.b1, "A/(rad/s)", 5)),
            ("per unit: Kp", significant(forms.kp_pu, 5)), ("per unit: Ki·Ts", significant(forms.ki_ts_pu, 5)),
        ], note=f"Full scale {grouped(scales.i_base * RPM_PER_RAD_S)} rpm of the shaft and {show(scales.v_base, 'A')} peak. i = Kp·e + I, I += Ki·Ts·e at {show(scales.loop_hz, 'Hz')}.")  # fmt: skip
        self.integers.show_rows([
            ("Kp", _shifted(forms.kp_q)), ("rounded by", _percent(forms.kp_q.error)), ("Ki·Ts", _shifted(forms.ki_q)), ("rounded by", _percent(forms.ki_q.error)),
        ])  # fmt: skip

    def _show_read(self, read: SpeedRead) -> None:
        m = read.loop.margins
        self.read.show_rows([
            ("Kp", show(read.kp, "A/(rad/s)")), ("Ki", show(read.ki, "A/rad")), ("crossover", show(m.crossover_hz, "Hz")), ("margins", lively(m)), ("verdict", read.verdict),
        ])  # fmt: skip
        self._draw("read", read.loop)


def _shifted(gain: QGain) -> str:
    return f"{gain.integer} >> {gain.shift}"


def _percent(error: float) -> str:
    return f"{100 * error:+.3f} %".replace("-", "−")
