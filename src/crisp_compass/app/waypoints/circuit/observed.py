"""Circuit, without a sensor: from which speed does it know its field?"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, ClassVar

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.estimates import Finding
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.observed_run import ObservedRun, observed_run
from crisp_compass.views.picture import DialView


class ObservedPage(PlayedPage):
    """A run up, under load, through the forced range and back the other way: true and seen speed, the flux's angle; which way to run the motor fits the lowest speed."""

    key = "circuit"
    section = "Without a sensor"
    question = "From which speed does it know its field?"
    has_dial = False
    dial: ClassVar[DialView] = DialView()
    fields = (
        Entry("stator_doubt", "R off by", "%", width=92, tip="By how much the stator's resistance may be off, warm or cold: 20 % are 50 K. The run is played with a motor whose resistance is that much higher"),
        Entry("hand_over", "Closes above", "rpm", width=112, tip="Speed of the shaft from which the loops close on the flux; as proposed if empty"),
        Entry("forced_share", "Turned below", "%", width=112, tip="Current that is turned at a forced angle there, of the magnetizing current: more pulls more, and heats"),
        Entry("lowest_needed", "Lowest needed", "rpm", width=120, tip="Lowest speed that must pull the load of Run: it decides which way to run the motor fits"),
        Entry("field_off", "Field off after", "s", width=116, tip="At rest; a motor without its field stays cool and takes a few rotor time constants to start again. Kept if empty"),
        Entry("run.speed", "Speed", "rpm", width=92, tip="That the run goes to"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.speed = Plot(("time", "s"), ("speed", "rpm"), name="run without a sensor")
        self.speed.curve("reference", "ink", width=1.2, dash="dash", title="reference")
        self.speed.curve("seen", "deep", width=1.4, title="as the drive sees it")
        self.speed.curve("true", "magenta", width=1.8, title="shaft")
        self.speed.curve("closes", "ochre", width=1.2, dash="dot", title="closes")
        self.angle = Plot(("time", "s"), ("flux's angle off by", "deg"), name="error of the flux's angle")
        self.angle.rule(y=0.0, token="ink")
        self.angle.curve("error", "magenta", width=1.6)
        self.rows = Rows("By the flux", width=330)
        self.ways = Rows("Which way to run it", width=330)
        self.column.addWidget(beside(QWidget(), (self.speed, self.angle), (self.rows, self.ways), (3, 2)), 1)
        self.finish()

    def rests_on(self, bench: Bench) -> object:
        s = bench.settings
        return (super().rests_on(bench), s.circuit, s.current_loop, s.pwm, s.bus, s.coupling)

    def question_for(self, bench: Bench) -> Callable[[], Any]:
        return lambda: observed_run(bench)

    def show_found(self) -> None:
        found: ObservedRun = self.found
        rpm, t = RPM_PER_RAD_S, found.time
        for name, values in (("reference", found.reference), ("seen", found.seen), ("true", found.speed)):
            self.speed.set(name, t, values * rpm)
        self.speed.set("closes", np.array([t[0], t[-1], np.nan, t[0], t[-1]]), np.array([1.0, 1.0, np.nan, -1.0, -1.0]) * found.closes * rpm)
        self.angle.set("error", t, np.degrees(found.error))
        for plot in (self.speed, self.angle):
            plot.fit()
        head = f"Trips: {found.fault}" if found.fault else f"From {grouped(found.closes * rpm)} rpm"
        said = f"the loops close on the flux; they let go below {grouped(found.lets_go * rpm)} rpm"
        reason = f"At {grouped(found.lowest.speed * rpm)} rpm the flux may be 12° off at rated current; most of that makes {found.lowest.reason}."
        self.answer.show_answer(head, said, reason, stale=bool(found.fault))
        self.rows.show_rows([
            *((name, show(volts, "V", 3)) for name, volts in found.lowest.parts.items()),
            ("current that is turned below", f"{show(found.current, 'A', 3)} peak"), ("pulls at most", show(found.torque, "N·m", 3)),
            (f"angle under {show(found.load, 'N·m', 3)}", "–" if math.isnan(found.worst) else f"off by {math.degrees(found.worst):.1f}°"),
        ], note="Voltages that may be off at rated current. A motor that still turns is not caught: start from rest.")  # fmt: skip
        marks = {True: "fits", False: "does not", None: "–"}
        self.ways.show_rows([(way.name, marks[way.fits]) for way in found.options], note="; ".join(f"{w.name}: {w.why}" for w in found.options) + ".")
        self.findings.show_findings(self._findings(found))

    def _findings(self, found: ObservedRun) -> tuple[Finding, ...]:
        said = []
        needed = self.seen.settings.circuit.lowest_needed
        if needed is not None and next(w.fits for w in found.options if w.name == "no sensor") is False:
            text = f"{grouped(needed * RPM_PER_RAD_S)} rpm must pull the load, and without a sensor the loops let go below {grouped(found.lets_go * RPM_PER_RAD_S)} rpm: an encoder, or a larger forced current."
            said.append(Finding("caution", "needs-sensor", text))
        said.append(Finding("caution", "no-hoist", "Without a sensor nothing holds a weight at rest: a hoist needs its mechanical brake, and local codes may ask for an encoder."))
        return tuple(said)
