"""Speed loop, outer loop: what gains close a speed loop around the controller that is there?"""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.outer_loop import HEADROOM, outer_loop, standing_reminders
from crisp_compass.errors import Refusal
from crisp_compass.quantities import grouped, show
from crisp_compass.views.picture import DialView

_STEPS = "Trims to neutral first. Open the limits only for tuning, with the shaft uncoupled and a stop within reach, and put them back."


class OuterLoopPage(Page):
    """Two measured points of the existing controller, its line with the headroom, and the gains."""

    key = "speed_loop"
    section = "Outer loop"
    question = "What gains close a speed loop around the controller that is there?"
    fields = (
        Pick("outer_loop.inner", "Existing controller", {"voltage": "of voltage", "current": "of current"}, width=136),
        Pick("outer_loop.trims", "Trims", {"as-found": "as found", "neutral": "neutral"}, width=96),
        Pick("outer_loop.limits", "Limits", {"as-found": "as found", "opened": "opened", "put-back": "put back"}, width=104),
        Entry("outer_loop.command1", "Command 1", "V", width=92),
        Entry("outer_loop.speed1", "speed 1", "rpm", width=92),
        Entry("outer_loop.current1", "current 1", "A", width=92),
        Entry("outer_loop.command2", "Command 2", "V", width=92),
        Entry("outer_loop.speed2", "speed 2", "rpm", width=92),
        Entry("outer_loop.current2", "current 2", "A", width=92),
        Entry("outer_loop.most", "Largest command", "V", width=118),
        Entry("outer_loop.answer_time", "Answers in (63 %)", "s", width=124),
        Entry("outer_loop.bandwidth_hz", "Bandwidth", "Hz", width=92),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.line = Plot(("command", "V"), ("speed", "rpm"), name="what the controller answers")
        self.line.curve("line", "magenta", width=2.0, title="as measured")
        self.line.curve("wanted", "ink", width=1.2, dash="dash", title="wanted speed")
        self.line.curve("room", "ochre", width=1.2, dash="dot", title="half again beyond")
        self.rows = Rows("The loop", width=320)
        self.column.addWidget(beside(QWidget(), (self.line,), (self.rows,)), 1)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        s = bench.settings.outer_loop
        voltage = s.inner == "voltage"
        for field, shown in (
            ("speed1", voltage),
            ("speed2", voltage),
            ("answer_time", voltage),
            ("current1", not voltage),
            ("current2", not voltage),
        ):
            self._fields[f"outer_loop.{field}"].setVisible(shown)
        found = outer_loop(bench)
        command = np.linspace(-s.most, s.most, 3)
        answer = found.gain * (command - found.offset)
        top = bench.settings.plate.top_speed * RPM_PER_RAD_S
        self.line.set("line", command, answer * RPM_PER_RAD_S if voltage else answer)
        for name, level in (("wanted", top), ("room", HEADROOM * top)):
            self.line.set(name, [-s.most, s.most] if voltage else [], [level, level] if voltage else [])
        self.line.set_axes(("command", "V"), ("speed", "rpm") if voltage else ("current", "A"))
        self.line.fit()
        per = RPM_PER_RAD_S
        self.answer.show_answer(
            f"Kp {show(found.kp / per, 'V')} per rpm   Ki {found.ki / per:.3g} V/s per rpm",
            f"reaches {found.headroom:.2f} times the wanted speed"
            if voltage
            else "a current controller: the shaft integrates what it makes",
            _STEPS,
        )
        self.findings.show_findings((*standing_reminders(bench), *found.findings))
        gain = f"{found.gain * per:.4g} rpm/V" if voltage else f"{found.gain:.4g} A/V"
        self.rows.show_rows([
            ("gain of the controller", gain), ("command at rest", show(found.offset, "V")),
            ("largest command reaches", f"{grouped(found.reach * per)} rpm" if voltage else "–"), ("wanted", f"{grouped(top)} rpm"),
            ("Kp in V per rad/s", f"{found.kp:.4g}"), ("Ki in V per rad", f"{found.ki:.4g}"),
        ])  # fmt: skip
        self.show_dial(DialView())

    def show_nothing(self, refusal: Refusal) -> None:
        super().show_nothing(refusal)
        self.findings.show_findings(standing_reminders(self.seen))
