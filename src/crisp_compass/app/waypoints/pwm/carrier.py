"""PWM, carrier period: what happens within one period, and when may the current be sampled?"""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.course.pwm_outlook import CarrierPicture, carrier_picture
from crisp_compass.quantities import show
from crisp_compass.views.picture import DialView

_ROWS = (("A", 4.0), ("B", 3.0), ("C", 2.0))
_SHUNTS = {"one": "one, in the link", "two": "two, low side", "three": "three, low side", "in-line": "in line"}


class CarrierPage(Page):
    """Gates with dead time, phase ripple and the spans in which two currents can be sampled; the voltage is dragged on the dial."""

    key = "pwm"
    section = "Carrier period"
    question = "When may the current be sampled?"
    fields = (
        Entry("view.modulation_depth", "Modulation depth", "%", width=116),
        Entry("view.voltage_angle", "Its angle", "deg", width=92),
        Pick("shunts", "Shunts", _SHUNTS, width=136),
        Entry("settling", "Amplifier settles", "s", width=116),
        Entry("sample_time", "Converter samples", "s", width=124),
        Entry("dead_time", width=100),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.gates = Plot(("time", "s"), ("gates", ""), name="gates of one carrier period")
        self.ripple = Plot(("time", "s"), ("ripple current", "A"), name="ripple of one carrier period")
        for name, token, dash in (("A", "deep", "solid"), ("B", "ochre", "dash"), ("C", "moss", "dot")):
            self.gates.curve(f"{name} high", token, width=2, title=f"{name} high side")
            self.gates.curve(f"{name} low", token, width=1.2, dash="dash", title="low side" if name == "C" else "")
            self.ripple.curve(name, token, width=2, dash=dash)
        self.gates.curve("sample", "magenta", width=7, title="sample may end here")
        self.gates.getAxis("left").setTicks([[(row + 0.35, name) for name, row in _ROWS] + [(1.2, "sample")]])
        self.gates.setMouseEnabled(x=True, y=False)
        self.rows = Rows("Sampling and ripple", width=312)
        self.column.addWidget(beside(QWidget(), (self.gates, self.ripple), (self.rows,)), 1)
        self.finish()

    def refresh(self) -> None:
        self._show_dial()
        picture = carrier_picture(self.seen)
        self._draw(picture)
        self._say(picture)

    def on_dial(self, angle: float) -> None:
        """Set the voltage's angle by where it was dragged to."""
        self._set("view", "voltage_angle", math.radians(angle))

    def _draw(self, picture: CarrierPicture) -> None:
        seconds = picture.gate_time / picture.carrier_hz
        for k, (name, row) in enumerate(_ROWS):
            self.gates.set(f"{name} high", seconds, row + 0.38 * picture.gates[:, 2 * k] + 0.38)
            self.gates.set(f"{name} low", seconds, row + 0.30 * picture.gates[:, 2 * k + 1])
            self.ripple.set(name, picture.period.time / picture.carrier_hz, picture.period.current[:, k])
        spans = np.array([x for a, b in picture.allowed for x in (a, b, np.nan)])
        self.gates.set("sample", spans / picture.carrier_hz, np.where(np.isnan(spans), np.nan, 1.2))
        self.gates.setYRange(0.9, 5.0, padding=0)
        for plot in (self.gates, self.ripple):
            plot.setXRange(0, 1 / picture.carrier_hz, padding=0.01)
        most = float(np.max(np.abs(picture.period.current))) or 1.0
        self.ripple.setYRange(-1.15 * most, 1.15 * most, padding=0)

    def _say(self, picture: CarrierPicture) -> None:
        settings, window = self.seen.settings.pwm, picture.window
        longest = max(((b - a) / picture.carrier_hz for a, b in picture.allowed), default=0.0)
        needed = show(window.needed, "s", 3)
        if settings.shunts == "in-line":
            text, second = "At any time", "in-line shunts see their currents always"
        elif picture.open_here:
            text, second = f"{show(longest, 's', 3)} open", f"{needed} after a switching are needed first"
        else:
            text, second = "No window here", f"{needed} after a switching are needed"
        reason = (
            f"All round the turn a window is there up to {show(window.limit, 'V')}; at the limit in {100 * window.open_share:.0f} % of it."
            if window.limit > 0
            else f"At some angles there is never one: at the limit {100 * window.open_share:.0f} % of the turn can be sampled; such drives shift their pulses or wait."
        )
        self.answer.show_answer(text, second, reason)
        swing = np.ptp(picture.period.current, axis=0)
        duties = ", ".join(f"{100 * d:.1f}" for d in picture.duty)
        self.rows.show_rows([
            ("voltage, phase peak", show(picture.peak, "V")), ("duties A, B, C", f"{duties} %"),
            ("needed after a switching", needed), ("window all round up to", show(window.limit, "V") if window.limit else "–"),
            ("ripple here, A", show(float(swing[0]), "A")), ("ripple here, B", show(float(swing[1]), "A")), ("ripple here, C", show(float(swing[2]), "A")),
        ], note="The gap between high and low side is dead time.")  # fmt: skip

    def _show_dial(self) -> None:
        view = self.seen.settings.view
        degrees = math.degrees(view.voltage_angle) % 360
        self.show_dial(
            DialView(
                caption=f"Voltage at {degrees:.0f}°, {100 * view.modulation_depth:.0f} % of the limit  (drag it)",
                voltage=(degrees, view.modulation_depth), draggable=True, hand="voltage",
            )
        )  # fmt: skip
