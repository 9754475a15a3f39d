"""Speed loop, torque mode: how even is a torque that is held?"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, ClassVar

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.course.load_side import speed_text
from crisp_compass.quantities import show
from crisp_compass.studies.torque_trial import TorqueTrial, torque_trial
from crisp_compass.views.picture import DialView


class TorqueModePage(PlayedPage):
    """The torque over a turn while the shaft is turned, how often in a turn it swings, what makes it swing, and the current that it costs."""

    key = "speed_loop"
    section = "Torque mode"
    question = "How even is a torque that is held?"
    has_dial = False
    dial: ClassVar[DialView] = DialView()
    fields = (
        Entry("run.torque", "Torque", "N·m", width=104, tip="That the drive holds instead of a speed"),
        Entry("run.speed", "Shaft turned at", "rpm", width=116, tip="By something that the torque does not slow"),
        Entry("run.swing", "Cogging", "N·m", width=96, tip="Amplitude of a torque that comes with the shaft's angle"),
        Entry("run.swing_order", "times a turn", width=88, plain=True, tip="Of the motor's shaft"),
        Entry("run.drag_cancel", "Drag cancel", "A", width=104, base="peak", tip="Small current that hides friction and cogging while a torque is held, none asked for too; empty: none"),
        Pick("run.drag_way", "acts", {"turning": "the way it turns", "forwards": "forwards"}, width=132, tip="Forwards also at rest: keeps an overrunning clutch engaged"),
        Entry("run.i_limit", width=104, base="peak"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.torque = Plot(("shaft", "°"), ("torque", "N·m"), name="torque over a turn of the shaft")
        self.torque.curve("asked", "ink", width=1.2, dash="dash", title="asked for")
        self.torque.curve("torque", "magenta", width=1.6, title="at the shaft")
        self.orders = Plot(("times a turn", ""), ("amplitude", "N·m"), name="how often in a turn the torque swings")
        self.orders.curve("orders", "magenta", width=2.0)
        self.rows = Rows("What it takes", width=320)
        self.causes = Rows("What makes it uneven, rms", width=320)
        self.column.addWidget(beside(QWidget(), (self.torque, self.orders), (self.rows, self.causes), (3, 2)), 1)
        self.finish()

    def rests_on(self, bench: Bench) -> object:
        s = bench.settings
        return (super().rests_on(bench), s.bus, s.current_loop, s.pwm)

    def question_for(self, bench: Bench) -> Callable[[], Any]:
        return lambda: torque_trial(bench)

    def show_found(self) -> None:
        found: TorqueTrial = self.found
        self.torque.set("asked", [0.0, 360.0], [found.asked, found.asked])
        self.torque.set("torque", np.degrees(found.angle), found.turn)
        self.torque.keep_in_view()
        told = _told_orders(found)
        x, y = np.repeat(found.orders[:told], 3), np.zeros(3 * told)
        y[1::3] = found.amplitudes[:told]  # one line that rises and falls at each order
        self.orders.set("orders", x, y)
        self.orders.keep_in_view()
        self._say(found)

    def _say(self, found: TorqueTrial) -> None:
        share = 100 * found.reach / abs(found.held) if found.held else math.inf
        most = found.parts[0][0] if found.parts and found.parts[0][1] > 0.3 * found.ripple else ""
        head = f"±{share:.2g} % of {show(found.held, 'N·m', 3)}" if math.isfinite(share) and share < 1000 else f"±{show(found.reach, 'N·m', 3)}"
        self.answer.show_answer(head, f"at {speed_text(self.seen, found.speed)}" + (f"; most of it: {most}" if most else ""), "A shaft that nothing holds runs up: an over-speed trip on Limits ends that.")
        rows = [
            ("held in the mean", show(found.held, "N·m", 4)), ("torque current i_q, peak", show(found.i_q, "A", 4)),
            *((("field current i_d, peak", show(found.i_d, "A", 3)),) if found.i_d else ()),
            ("torque per ampere, peak", f"{show(found.per_ampere, 'N·m', 3)}/A"),
        ]  # fmt: skip
        if math.isfinite(found.least):
            saved = 100 * (1 - found.least / math.hypot(found.i_d, found.i_q))
            rows.append(("least current that makes it", show(found.least, "A", 4) + (f", −{saved:.1f} %" if saved >= 0.1 else "")))
        rows.append(("friction takes, turning so", show(found.friction, "A", 3)))
        rows += [("heat in the copper", show(found.copper, "W", 3)), ("known to, by its flux", f"±{100 * found.unsure:.2g} %" if math.isfinite(found.unsure) else "not told")]
        self.rows.show_rows(rows, note="99 of 100 moments lie within the swing that is told; the ripple of the PWM within a period is not in it.")
        self.causes.show_rows([(name, show(value, "N·m", 2) if value > 0.02 * found.ripple else "hardly any") for name, value in found.parts], note="Each by what is gone when that cause alone is taken away.")
        self.findings.show_findings(found.findings)


def _told_orders(found: TorqueTrial) -> int:
    """Return how many orders are drawn: all that matter, and some room."""
    matter = np.flatnonzero(found.amplitudes > 0.03 * float(found.amplitudes.max(initial=0.0)))
    return min(int(1.15 * (matter[-1] + 1)) + 4 if len(matter) else 24, len(found.orders))
