"""Current loop, number format: what are the gains in the firmware's own numbers, and what do its integers mean?"""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.answer import Waiting
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.course.number_formats import BITS, bench_scales, format_picture, proposed_scales, read_picture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.loops.number_format import Forms, Read, Scales
from crisp_compass.quantities import show, significant


class FormatPage(Page):
    """Every form of the q controller; integers typed are read back into physical gains, margins and a verdict."""

    key = "current_loop"
    section = "Number format"
    has_dial = False
    question = "What are the gains in the firmware's own numbers?"
    fields = (
        Entry(
            "i_base", "Full scale", "A", width=96, tip="Current that the largest integer stands for; a round figure above the trip level if empty", group="Current"
        ),
        Entry(
            "v_base", "Full scale", "V", width=96, tip="Voltage that the largest integer stands for; a round figure above the bus if empty", group="Voltage"
        ),
        Pick("bits", "Word", {str(b): f"{b} bits" for b in BITS}, width=92),
        Entry("kp_integer", "Kp found", width=92, tip="Integer in the firmware"),
        Entry("kp_shift", "its shift", width=76, group="Kp"),
        Entry("ki_integer", "Ki found", width=92, tip="Integer, sampling period inside"),
        Entry("ki_shift", "its shift", width=76, group="Ki"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.forms = Rows("q axis, every form", width=330)
        self.integers = Rows("As integers", width=0)
        self.read = Rows("Integers read back", width=0)
        self.step = Plot(("time", "s"), ("step of 1 A", "A"), name="steps of designed and of read gains")
        self.step.curve("designed", "deep", width=1.8, dash="dash", title="gains as designed")
        self.step.curve("read", "magenta", width=2, title="integers as read")
        right = QVBoxLayout()
        right.setSpacing(8)
        boxes = QHBoxLayout()
        boxes.setSpacing(8)
        boxes.addWidget(self.integers, 1)
        boxes.addWidget(self.read, 1)
        right.addLayout(boxes)
        right.addWidget(self.step, 1)
        area = QWidget()
        row = QHBoxLayout(area)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        row.addWidget(self.forms)
        row.addLayout(right, 1)
        self.waiting = Waiting()
        self.stack = QStackedWidget()
        self.stack.addWidget(self.waiting)
        self.stack.addWidget(area)
        self.column.addWidget(self.stack, 1)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        self.check_ready(self.waiting, self.stack)
        for field, proposal in zip(("i_base", "v_base"), proposed_scales(bench), strict=True):
            self.number(field).edit.setPlaceholderText(f"{proposal:g}")
        picture = format_picture(bench)
        self._show_forms(picture.forms, bench_scales(bench))
        self.step.set("designed", picture.time, picture.designed)
        found = list(picture.forms.findings)
        try:
            read = read_picture(bench)
        except Refusal as refusal:
            found.append(Finding("caution", "integers", refusal.sentence))
            read = None
        if read is None:
            self.read.show_rows(
                (), note="Type the integers that the firmware holds: gains, bandwidth and margins follow."
            )
            self.step.set("read", [], [])
        else:
            self._show_read(read.read)
            found += read.read.findings
            self.step.set("read", read.time, read.response)
        self.step.fit()
        self.findings.show_findings([f for f in found if f.level != "info"])

    def _show_forms(self, forms: Forms, scales: Scales) -> None:
        self.answer.show_answer(
            f"Kp {forms.kp_q.integer} >> {forms.kp_q.shift}",
            f"Ki {forms.ki_q.integer} >> {forms.ki_q.shift}, sampling period inside",
            f"For {show(forms.kp, 'V/A', 4)} and {show(forms.ki, 'V/(A·s)', 4)}; an error below {show(forms.least_error, 'A', 2)} moves nothing.",
        )
        self.forms.show_rows([
            ("Kp", show(forms.kp, "V/A", 5)), ("Ki", show(forms.ki, "V/(A·s)", 5)), ("Ki·Ts, each sample", show(forms.ki_ts, "V/A", 5)),
            ("series: Ti", show(forms.ti, "s", 5)), ("incremental: b0", show(forms.b0, "V/A", 5)), ("incremental: b1", show(forms.b1, "V/A", 5)),
            ("per unit: Kp", significant(forms.kp_pu, 5)), ("per unit: Ki·Ts", significant(forms.ki_ts_pu, 5)),
        ], note=f"Full scale {show(scales.i_base, 'A')} and {show(scales.v_base, 'V')}. u = Kp·e + I, I += Ki·Ts·e; series Kp·(1 + 1/(Ti·s)); incremental u += b0·e + b1·e before.")  # fmt: skip
        self.integers.show_rows([
            ("Kp", f"{forms.kp_q.integer} >> {forms.kp_q.shift}"), ("rounded by", _percent(forms.kp_q.error)),
            ("Ki·Ts", f"{forms.ki_q.integer} >> {forms.ki_q.shift}"), ("rounded by", _percent(forms.ki_q.error)),
        ])  # fmt: skip

    def _show_read(self, read: Read) -> None:
        m = read.loop.margins
        self.read.show_rows([
            ("Kp, Ki", f"{show(read.kp, 'V/A')}, {show(read.ki, 'V/(A·s)')}"), ("crossover", show(m.crossover_hz, "Hz")),
            ("margins", f"{m.phase_margin_deg:.0f}°, {m.gain_margin_db:.1f} dB"), ("Ki/Kp over R/L", significant(read.zero_over_pole, 3)),
            ("verdict", read.verdict),
        ])  # fmt: skip


def _percent(error: float) -> str:
    return f"{100 * error:+.3f} %".replace("-", "−")
