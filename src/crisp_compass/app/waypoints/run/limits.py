"""Run, limits: what stops the drive, and when?"""

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
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.drive import can_brake, sees_speed, weakens
from crisp_compass.course.envelope import above_reason
from crisp_compass.course.limits import Limits, limits_of
from crisp_compass.course.load_side import speed_text
from crisp_compass.course.open_points import presumed_text
from crisp_compass.course.running import Trip
from crisp_compass.quantities import grouped, show

#: Trips that are listed.
_SHOWN = 4


def _at_trip(trip: Trip) -> str:
    """Return at what a run tripped, as far as it was told."""
    told = [show(value, unit, 3) if unit != "rpm" else f"{grouped(value * RPM_PER_RAD_S)} rpm" for value, unit in ((trip.speed, "rpm"), (trip.current, "A"), (trip.bus, "V")) if math.isfinite(value)]
    return f"{', '.join(told)}{': ' if told and trip.cause else ''}{trip.cause}".replace("-", "−")


class LimitsPage(Page):
    """Current over time, bus, speed and temperature at which the drive trips, field weakening, and what a fault does to the shaft."""

    key = "run"
    section = "Limits"
    question = "What stops the drive, and when?"
    has_dial = False
    fields = (
        Entry("i_limit", width=100, base="peak"),
        Entry("i_trip", width=92, base="peak", tip="Instantaneous current at which it trips at once"),
        Entry("i_continuous", "Continuous", "A", width=100, base="peak", tip="Current that may flow for ever; no overload trip if empty"),
        Entry("overload_time", "Overload for", "s", width=104, tip="For which the current limit may flow, from cold, until it trips"),
        Entry("v_min", width=100),
        Entry("bus.low_start", "Less torque below", "V", width=124, tip="Bus below which driving torque is taken back, so that a battery is not pulled down; never if empty"),
        Entry("bus.low_end", "none at", "V", width=88, tip="Bus at which nothing of the driving torque is left"),
        Entry("v_max", width=100, tip="Bus above which it trips: a braked load lifts it; none if empty"),
        Entry("speed_trip", "Over-speed", "rpm", width=100, tip="Speed as the firmware sees it at which it trips; none if empty"),
        Entry("stall_time", "Stall after", "s", width=96, tip="Full current at standstill for so long is a stall; never if empty"),
        Entry("temp_trip", "Temperature", "°C", width=100, tip="Of the board's or winding's sensor; in the simulation the winding's, where Heat knows how it warms; none if empty"),
        Entry("weakening", width=122, base="peak", tip="Most current against the magnet, to run faster than the voltage reaches; none if empty"),
        Pick("on_fault", "A fault", {"coast": "lets it coast", "brake": "shorts the motor"}, width=132, tip="Shorted windings brake; too much current always lets the shaft coast"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.plot = Plot(("current, peak", "A"), ("seconds until it trips", "s"), name="how long a current may flow")
        self.plot.curve("time", "magenta", width=2.2, title="overload, from cold")
        self.plot.curve("limit", "ochre", width=1.4, dash="dash", title="current limit")
        self.plot.curve("continuous", "moss", width=1.4, dash="dot", title="continuous")
        self.plot.curve("trip", "ink", width=1.4, dash="solid", title="trips at once")
        self.rows = Rows("What trips it", width=360)
        self.trips = Rows("What has tripped", width=360, prose=True)
        self.column.addWidget(beside(QWidget(), (self.plot,), (self.rows, self.trips), (1,)), 1)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        self._fields["speed_trip"].setVisible(sees_speed(bench))
        self._fields["weakening"].setVisible(weakens(bench))
        for name in ("bus.low_start", "bus.low_end"):
            self._fields[name].setVisible(sees_speed(bench))
        self._fields["on_fault"].setVisible(can_brake(bench))
        self._fields["overload_time"].setEnabled(bench.settings.run.i_continuous is not None)
        found = limits_of(bench)
        self._draw(found)
        self._say(bench, found)

    def _draw(self, found: Limits) -> None:
        shown = found.seconds <= 1000 * (found.at_limit or 1.0) if len(found.seconds) else np.empty(0, bool)
        self.plot.set("time", found.current[shown], found.seconds[shown])
        top = 3.0 * (found.at_limit or 1.0)
        for name, at in (("limit", found.limit), ("continuous", found.continuous), ("trip", found.trip)):
            if at is None or found.at_limit is None:
                self.plot.set(name, [], [])
            else:
                self.plot.set(name, [at, at], [0.0, top])
        self.plot.setYRange(0.0, top, padding=0.02)
        self.plot.setXRange(0.0, 1.1 * found.trip, padding=0.02)

    def _say(self, bench: Bench, found: Limits) -> None:
        run = bench.settings.run
        waits = presumed_text(self.document.bench, "run", "i_limit", "i_trip", "v_min")
        if found.continuous is not None and found.at_limit is not None:
            head = f"{show(found.limit, 'A')} for {show(found.at_limit, 's')}"
            rest = f"then it trips; {show(found.continuous, 'A')} may flow for ever; {show(found.trip, 'A')} trips at once"
        else:
            head, rest = show(found.limit, "A"), f"without end: no overload trip is set; {show(found.trip, 'A')} trips at once"
        self.answer.show_answer(head, rest, waits, stale=bool(waits))
        none = "none"
        rows = [
            ("bus below", show(run.v_min, "V")), ("bus above", none if run.v_max is None else show(run.v_max, "V")),
            ("temperature above", none if run.temp_trip is None else f"{run.temp_trip:g} °C, read by the firmware"),
        ]  # fmt: skip
        if sees_speed(bench):
            rows.append(("speed above", none if run.speed_trip is None else speed_text(bench, run.speed_trip)))
            rows.append(("full current at standstill", none if run.stall_time is None else show(run.stall_time, "s")))
        if math.isfinite(found.reach):
            rows += [
                ("voltage ends, i_d = 0", speed_text(bench, found.reach_plain)),
                ("with field weakening", "not set" if found.weakening is None else f"{speed_text(bench, found.reach)} at {show(found.weakening, 'A')}"),
                ("shorted windings drive", f"up to {show(found.shorted, 'A')}"),
            ]  # fmt: skip
        self.rows.show_rows(rows, note="Speeds without load. The overload counts what the current's square has above the continuous one's; less current cools.")
        self.trips.show_rows([(trip.fault, _at_trip(trip)) for trip in reversed(self.document.trips[-_SHOWN:])], heading="What has tripped" if self.document.trips else "")
        self.findings.show_findings((*above_reason(bench), *found.findings))
