"""Motion, ways and pulses: what is the way in every base, and how fast may pulses come?"""

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
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.pulses import drift_text, gear_text, input_of, pulses_of
from crisp_compass.motion.arithmetic import reversal
from crisp_compass.quantities import grouped, show


def _plain(value: float) -> str:
    """Return a number with up to four decimals, as many as it has."""
    whole, _, rest = f"{value:.4f}".rstrip("0").partition(".")
    return f"{grouped(int(whole))}.{rest}" if rest else grouped(int(whole))


_LINES = {"step-direction": ("step", "direction"), "two-trains": ("forwards", "backwards"), "quadrature": ("track A", "track B")}


class PulsesPage(Page):
    """The way of the move in turns, steps, entries, counts and at the load; the rate of pulses over the speed with what the input takes; the gear of whole numbers."""

    key = "motion"
    section = "Ways and pulses"
    question = "What is a way in pulses, and how fast may they come?"
    has_dial = False
    fields = (
        Entry("distance", "Way", "turn", width=92, tip="Of the motor's shaft: in turns or °, or in mm where Plate, Load side says what a turn moves"),
        Entry("speed", "Speed", "rpm", width=88, tip="Of the shaft while it moves; the top speed if empty"),
        Entry("pulse_way", "One pulse", "deg", width=88, tip="Way of the shaft for a pulse of the command, in ° or in mm; a count of the sensor if empty"),
        Entry("gear_most", "Integers up to", width=92, tip="Largest number that the drive's gear takes"),
        Pick("pulse_form", "Commanded by", {"step-direction": "step and direction", "two-trains": "two trains", "quadrature": "two tracks"}, width=136, tip="Pulses and a direction; a train of pulses for each way; two tracks a quarter apart, each edge a pulse"),
        Entry("input_hz", "Input takes", "Hz", width=88, tip="Highest frequency of the pulse input"),
        Entry("input_shortest", "Shortest pulse", "s", width=96, tip="Both pulse and pause must last so long"),
        Entry("input_setup", "Set-up", "s", width=76, tip="For which the direction must stand before a pulse, or the pause between two trains"),
        Entry("input_filter", "Filter", "s", width=76, tip="Pulses that are shorter are swallowed"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.plot = Plot(("speed", "rpm"), ("pulses a second", "Hz"), name="rate of pulses over the speed")
        self.plot.curve("rate", "magenta", width=2.2, title="pulses")
        self.plot.curve("takes", "ink", width=1.4, dash="dash", title="the input takes")
        self.plot.curve("move", "magenta", symbol="o", size=10, title="the move")
        self.timing = Plot(("time", "s"), ("", ""), name="the two lines around a reversal")
        self.timing.grade_y(on=False)
        for name, colour in (("first", "magenta"), ("second", "ink")):
            self.timing.curve(name, colour, width=1.8)
        self.rows = Rows("The way", width=320)
        self.column.addWidget(beside(QWidget(), (self.plot, self.timing), (self.rows,), (3, 2)), 1)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        for name in ("pulse_way", "gear_most"):
            self._fields[name].setVisible(not steps_open(bench))
        found = pulses_of(bench)
        per = RPM_PER_RAD_S
        top = 1.15 * max(found.speed, found.fastest if found.fastest < 3 * found.speed else 0.0)
        axis = np.array([0.0, top])
        self.plot.set("rate", axis * per, axis / found.pulse)
        ends = math.isfinite(found.reach[0])
        self.plot.set("takes", axis * per if ends else [], [found.reach[0]] * 2 if ends else [])
        self.plot.set("move", [found.speed * per], [found.rate])
        self.plot.keep_in_view()
        gear = found.gear
        pulses = abs(found.way) / found.pulse
        self.answer.show_answer(
            f"{grouped(round(pulses))} pulses", f"at up to {show(found.rate, 'Hz', 3)}"
            + (f"; {gear_text(gear)}" if gear is not None and bench.settings.motion.pulse_way is not None else ""),
            f"{found.reach[1][:1].upper()}{found.reach[1][1:]} ends at {show(found.reach[0], 'Hz', 3)}, {grouped(found.fastest * per)} rpm." if ends else "Say what the input takes, and its end is drawn.",
        )  # fmt: skip
        rows = [("at the load", show(value, "m", 5)) if name == "metres" else (name, _plain(value)) for name, value in found.told.items()]
        rows += [("a pulse", show(found.pulse, "deg", 4)), ("pulses a turn", _plain(2 * math.pi / found.pulse))]
        if gear is not None:
            rows += [("gear", f"{gear.up} / {gear.down}"), ("drift", drift_text(gear))]
        first, second = _LINES[bench.settings.motion.pulse_form]
        self.timing.set_titles({"first": first, "second": second})
        if found.rate > 0:
            lines = reversal(input_of(bench), found.rate)
            self.timing.set("first", lines.time, np.array(lines.first) + 1.5)
            self.timing.set("second", lines.time, lines.second)
            self.timing.keep_in_view()
            rows.append(("a reversal waits", show(lines.waits, "s", 3)))
        rows.append(("a pulse lasts", show(0.5 / found.rate, "s", 3) if found.rate > 0 else "–"))
        self.rows.show_rows(rows)
        self.findings.show_findings(found.findings)
