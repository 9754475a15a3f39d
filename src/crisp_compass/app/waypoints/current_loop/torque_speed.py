"""Current loop, torque and speed: how much torque is there at every speed, and what does field weakening add?"""

from __future__ import annotations

import math

from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.entered import standing
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.load_side import speed_text
from crisp_compass.course.open_points import edited_text
from crisp_compass.course.torque_speed import WeakeningOutlook, weakening_outlook
from crisp_compass.errors import Refusal
from crisp_compass.quantities import grouped, show
from crisp_compass.views.picture import DialView

_CAUTION = "In field weakening a drive that loses control gives the bus the whole back-EMF: the parts must stand it, or it must never run there."


class WeakeningPage(Page):
    """Best torque with and without weakening, the currents that make it, base speed and characteristic current."""

    key = "current_loop"
    section = "Torque and speed"
    question = "How much torque is there at every speed?"
    fields = (
        Entry("plate.v_bus", "Bus", "V", width=96),
        Entry("plate.rated_current", width=112, tip="Continuous current, in the base that the plate says"),
        Entry("plate.top_speed", "Top speed", "rpm", width=112, tip="Highest speed of the shaft"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._work = Computation(self, self._on_done)
        self.torque = Plot(("speed", "rpm"), ("torque", "N·m"), name="torque over speed")
        self.torque.curve("plain", "deep", width=1.8, dash="dash", title="i_d = 0")
        self.torque.curve("best", "magenta", width=2.2, title="with field weakening")
        self.torque.curve("top", "ochre", dash="dot", title="top speed")
        self.currents = Plot(("speed", "rpm"), ("current", "A"), name="currents over speed")
        self.currents.curve("i_q", "magenta", width=2)
        self.currents.curve("i_d", "deep", width=2)
        self.rows = Rows("This motor on this bus", width=330)
        self.column.addWidget(beside(QWidget(), (self.torque, self.currents), (self.rows,)), 1)
        self.finish()

    def refresh(self) -> None:
        bench = standing(self.document.bench, "plate")  # this page tries other plates
        self.number("plate.rated_current").base = bench.settings.plate.current_base
        inputs = (bench.settings.plate, bench.settings.pwm, bench.settled, bench.evidence, bench.checks)
        self._work.want(inputs, lambda: weakening_outlook(bench))

    def show_nothing(self, refusal: Refusal) -> None:
        super().show_nothing(refusal)
        self.show_dial(DialView(caption="Voltage limit and current limit meet at base speed"))

    def _on_done(self, outlook: WeakeningOutlook) -> None:
        self._draw(outlook)
        self._say(outlook)

    def _draw(self, outlook: WeakeningOutlook) -> None:
        curve = outlook.curve
        rpm = curve.speed * RPM_PER_RAD_S
        self.torque.set("plain", rpm, curve.no_weakening_torque)
        self.torque.set("best", rpm, curve.torque)
        top = outlook.top_speed * RPM_PER_RAD_S
        self.torque.set("top", [top, top], [0.0, float(curve.torque[0])])
        self.currents.set("i_q", rpm, curve.i_q)
        self.currents.set("i_d", rpm, curve.i_d)
        for plot in (self.torque, self.currents):
            plot.fit()

    def _say(self, outlook: WeakeningOutlook) -> None:
        curve, limits = outlook.curve, outlook.limits
        top = outlook.top_speed * RPM_PER_RAD_S
        reach = (
            f"{show(outlook.at_top, 'N·m')} at {grouped(top)} rpm"
            if math.isfinite(outlook.at_top) and outlook.at_top > 0
            else f"none at {grouped(top)} rpm"
        )
        self.answer.show_answer(
            f"{show(float(curve.torque[0]), 'N·m')} up to {grouped(curve.base * RPM_PER_RAD_S)} rpm",
            f"{reach}; maximum speed with i_d = 0: {grouped(curve.no_weakening * RPM_PER_RAD_S)} rpm",
            edited_text(self.document.bench, "plate") or _CAUTION,
            stale=bool(edited_text(self.document.bench, "plate")),
        )

        def seconds(value: float) -> str:
            return show(value, "s") if math.isfinite(value) else "never"

        end = speed_text(self.document.bench, curve.top) if math.isfinite(curve.top) else "no end"
        self.rows.show_rows([
            ("voltage limit, phase peak", show(limits.v_limit, "V")), ("current limit, peak", show(limits.i_limit, "A")),
            ("most torque per ampere, i_d", show(curve.mtpa_d, "A")), ("and i_q", show(curve.mtpa_q, "A")),
            ("base speed", speed_text(self.document.bench, curve.base)), ("torque ends at", end),
            ("characteristic current", show(curve.characteristic, "A")), ("to rated current, at rest", seconds(outlook.rise)),
            ("the same at top speed", seconds(outlook.rise_top)),
            ("voltage must lead by", f"{math.degrees(outlook.advance):.1f}° at top speed"),
        ], note="A characteristic current above the limit means that weakening ends; below it, that it need not.")  # fmt: skip
        angle = math.degrees(math.atan2(curve.mtpa_q, curve.mtpa_d))
        self.show_dial(DialView(caption="Most torque per ampere, from the rotor", rotor=0.0, current=(angle, 1.0)))
