"""Run, envelope: what limits it at each speed?"""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QLineEdit, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.envelope import LEVELS, Plane, above_reason, plane_of
from crisp_compass.course.load_side import speed_text
from crisp_compass.quantities import show
from crisp_compass.views.envelope import contours


class EnvelopePage(Page):
    """Torque over speed for a moment and for ever, contours of efficiency, the load; which limit binds where, and why one may stand above its reason."""

    key = "run"
    section = "Envelope"
    question = "What limits it at each speed?"
    has_dial = False
    fields = (
        Entry("speed", "Speed", "rpm", width=92, group="Load", tip="At which the load stands"),
        Entry("load", "Load", "N·m", width=104, group="Load"),
        Entry("quadratic", "Propeller", "", width=88, plain=True, group="Load", tip="N·m·s²/rad² of a propeller or pump"),
        Entry("i_limit", width=96, base="peak", group="Firmware"),
        Entry("limits.motor_peak", "Motor bears", "A", width=96, base="peak", group="Reasons", tip="For a moment"),
        Entry("limits.magnet_current", "Magnet bears", "A", width=100, base="peak", group="Reasons", tip="From which the magnet is weakened for good"),
        Entry("limits.gear_torque", "Gear, peak", "N·m", width=96, group="Reasons", tip="At the motor's shaft, for a moment"),
        Entry("limits.gear_lasting", "Gear, lasting", "N·m", width=100, group="Reasons", tip="At the motor's shaft, for ever"),
        Entry("limits.rotor_speed", "Rotor", "rpm", width=92, group="Reasons", tip="Beyond which the rotor may burst, or its bearings fail"),
        Entry("limits.gear_speed", "Gear, speed", "rpm", width=96, group="Reasons", tip="Highest at its input"),
        Entry("limits.sensor_hz", "Encoder input", "Hz", width=104, group="Reasons", tip="Frequency of one channel that the drive's input counts"),
        Entry("limits.supply_power", "Supply", "W", width=88, group="Reasons", tip="Power that supply or battery gives"),
        Entry("limits.taken_back", "Takes back", "W", width=96, group="Reasons", tip="Power that supply or battery takes back while the motor brakes"),
        Entry("limits.drive_bus", "Bridge bears", "V", width=100, group="Reasons", tip="Bus that the drive's bridge and capacitors stand"),
        Entry("bus.power_from", "Takes up to", "W", width=96, group="Firmware", tip="Power that the speed loop takes from supply or battery at most; any if empty"),
        Entry("bus.power_into", "Gives back", "W", width=96, group="Firmware", tip="Power that the speed loop gives back at most while it brakes; any if empty"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._work = Computation(self, self._take)
        self.found: Plane | None = None
        self.plot = Plot(("speed", "rpm"), ("shaft torque", "N·m"), name="torque over speed")
        self.plot.curve("map", "soft", width=1.0, title="efficiency, %")
        self.plot.curve("peak", "magenta", width=2.2, title="for a moment")
        self.plot.curve("lasting", "moss", width=2.0, title="for ever")
        self.plot.curve("load", "ink", width=1.2, dash="dash", title="load")
        self.plot.curve("point", "ink", symbol="o", size=11, title="asked for")
        self.rows = Rows("At the speed asked for", width=340)
        self.column.addWidget(beside(QWidget(), (self.plot,), (self.rows,), (1,)), 1)
        self.because = QLineEdit()
        self.because.setPlaceholderText("Why a limit stands above its reason")
        self.because.setAccessibleName("Why a limit stands above its reason")
        self.because.setMaxLength(200)
        self.because.editingFinished.connect(self._on_because)
        self.column.addWidget(self.because)
        self.finish()

    def _on_because(self) -> None:
        if self.because.text() != self.seen.settings.limits.because:
            self._set("limits", "because", self.because.text())

    def refresh(self) -> None:
        bench = self.seen
        self.because.setText(bench.settings.limits.because)
        self.because.setVisible(any(f.code == "limit-above-reason" for f in above_reason(bench)) or bool(bench.settings.limits.because))
        s = bench.settings
        inputs = (bench.settled, bench.evidence, s.run, s.limits, s.plate, s.supply, s.heat, s.pwm, s.sensor, s.current_loop, s.circuit, s.resistance)
        if not self._work.want(inputs, lambda: plane_of(bench)) and self.found is not None:
            self._take(self.found)

    def _take(self, found: Plane) -> None:
        self.found = found
        rpm = RPM_PER_RAD_S
        lines = contours(found.map_speed * rpm, found.map_torque, found.efficiency, LEVELS)
        nan = np.full(1, np.nan)
        xs = np.concatenate([part for c in lines for part in (c.x, nan)]) if lines else np.empty(0)
        ys = np.concatenate([part for c in lines for part in (c.y, nan)]) if lines else np.empty(0)
        self.plot.set("map", xs, ys)
        self.plot.write([(*c.at, f"{100 * c.level:.0f}") for c in lines])
        self.plot.set("peak", found.peak.speed * rpm, found.peak.torque)
        self.plot.set("lasting", found.lasting.speed * rpm, found.lasting.torque)
        shown = found.load <= 1.1 * float(np.nanmax(found.peak.torque))
        self.plot.set("load", found.peak.speed[shown] * rpm, found.load[shown])
        p = found.point
        self.plot.set("point", [p.speed * rpm], [p.torque])
        self.plot.fit()
        self._say(found)

    def _say(self, found: Plane) -> None:
        p = found.point
        peak, by, lasting, by_lasting = found.at(p.speed)
        if math.isnan(peak):
            head, rest = "No torque", f"at {speed_text(self.seen, p.speed)}: {by} ends before"
        else:
            head, rest = show(peak, "N·m", 3), f"for a moment at {speed_text(self.seen, p.speed)}: {by}; {show(lasting, 'N·m', 3)} for ever: {by_lasting}"
        self.answer.show_answer(head, rest, f"The highest speed is {speed_text(self.seen, found.top)}: {found.top_binds}.")
        self.rows.show_rows([
            ("load", show(p.torque, "N·m", 3)), ("it takes", f"{show(p.current, 'A', 3)} peak"), ("lost in copper", show(p.copper, "W", 3)), ("iron, bearings", show(p.friction, "W", 3)),
            ("bridge", show(p.bridge, "W", 3)), ("efficiency", f"{100 * p.efficiency:.0f} %" if p.torque else "–"), ("highest speed", speed_text(self.seen, found.top)), ("ends by", found.top_binds.removeprefix("the ")),
        ], note="Torque at the shaft: friction as measured counts as the motor's own. Iron beyond that is not known.")  # fmt: skip
        self.findings.show_findings(found.findings)
