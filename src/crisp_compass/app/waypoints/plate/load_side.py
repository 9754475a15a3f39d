"""Plate, load side: what does a turn of the shaft move?"""

from __future__ import annotations

import contextlib
import math

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.envelope import Plane, plane_of
from crisp_compass.course.load_side import Moved, as_load, moved, velocity_text
from crisp_compass.errors import Refusal
from crisp_compass.quantities import from_si, grouped, show

_UNITS = {"mm/s": "mm/s", "m/s": "m/s", "m/min": "m/min", "ft/min": "ft/min", "km/h": "km/h"}


class LoadSidePage(Page):
    """Mechanism and load; force over velocity as motor and drive allow it; what that is at the shaft. Every speed field then takes velocities, too."""

    key = "plate"
    section = "Load side"
    question = "What does a turn of the shaft move?"
    has_dial = False
    fields = (
        Pick("load_side.kind", "Mechanism", {"none": "not said", "wheel": "drum, wheel, pulley", "screw": "screw"}, width=148),
        Entry("load_side.ratio", "Motor turns for one", width=128, plain=True, tip="Turns of the motor for one of drum or screw"),
        Entry("load_side.diameter", "Diameter", "m", width=96, tip="To the middle of rope or belt"),
        Entry("load_side.falls", width=64, plain=True, tip="Falls of rope that carry the load"),
        Entry("load_side.lead", "Lead", "m", width=96, tip="Travel for one turn of the screw"),
        Entry("load_side.efficiency", "Efficiency", "%", width=92, tip="Of all between shaft and load; without loss if empty"),
        Entry("load_side.mass", "Mass", "kg", width=92, tip="That moves"),
        Pick("load_side.way", "Way", {"level": "level", "vertical": "vertical"}, width=96, tip="A mass that moves vertically hangs on the shaft"),
        Entry("load_side.force", "Force", "N", width=96, tip="Friction or work against the motion"),
        Entry("load_side.velocity", "Wanted", "m/s", width=96, tip="Velocity of the load: type it like 10 m/min"),
        Pick("load_side.unit", "Shown in", _UNITS, width=88, tip="Unit in which velocities are shown beside rpm"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._work = Computation(self, self._take, self._none)
        self.plane: Plane | None = None
        self.plot = Plot(("velocity of the load", "m/min"), ("force at the load", "N"), name="force over velocity")
        self.plot.curve("peak", "magenta", width=2.2, title="for a moment")
        self.plot.curve("lasting", "moss", width=2.0, title="for ever")
        self.plot.curve("load", "ink", symbol="o", size=11, title="wanted")
        self.rows = Rows("At the motor's shaft", width=330)
        self.column.addWidget(beside(QWidget(), (self.plot,), (self.rows,), (1,)), 1)
        self.finish("Use as load of Run")

    def on_main(self) -> None:
        self._change(as_load, "load of Run by the load side")

    def refresh(self) -> None:
        bench = self.document.bench
        s = bench.settings.load_side
        for name, shown in (("diameter", s.kind == "wheel"), ("falls", s.kind == "wheel"), ("lead", s.kind == "screw")):
            self._fields[f"load_side.{name}"].setVisible(shown)
        found = moved(bench)
        self._say(found)
        inputs = (bench.settled, bench.evidence, bench.settings)
        self._work.want(inputs, lambda: plane_of(bench))
        self._draw()

    def show_nothing(self, refusal: Refusal) -> None:
        super().show_nothing(refusal)
        self.rows.show_rows(())
        self.plot.clear_data()
        if self.main_button is not None:
            self.main_button.setEnabled(False)

    def _take(self, found: Plane) -> None:
        self.plane = found
        self._draw()

    def _none(self, _: Refusal) -> None:
        self.plane = None
        self._draw()

    def _draw(self) -> None:
        """Draw torque over speed as force over velocity."""
        bench = self.document.bench
        with contextlib.suppress(Refusal):
            found, unit = moved(bench), bench.settings.load_side.unit
            scale = from_si(found.side.travel, unit)
            self.plot.set_axes(("velocity of the load", unit), ("force at the load", "N"))
            for name in ("peak", "lasting"):
                curve = getattr(self.plane, name) if self.plane is not None else None
                force = curve.torque * found.side.efficiency / found.side.travel if curve is not None else np.empty(0)
                self.plot.set(name, curve.speed * scale if curve is not None else [], force)
            told = math.isfinite(found.speed)
            self.plot.set("load", [found.speed * scale] if told else [], [found.up * found.side.efficiency / found.side.travel] if told else [])
            self.plot.fit()

    def _say(self, found: Moved) -> None:
        bench, rpm = self.document.bench, RPM_PER_RAD_S
        s = bench.settings.load_side
        turn = show(2 * math.pi * found.side.travel, "m", 4)
        if math.isfinite(found.speed):
            self.answer.show_answer(f"{grouped(found.speed * rpm)} rpm", f"for {velocity_text(bench, found.speed)}: a turn of the shaft moves {turn}", f"Every field of a speed takes {s.unit} from now on, and hertz; hovering shows both.")
        else:
            self.answer.show_answer(turn, "for a turn of the motor's shaft", "Enter the velocity that is wanted, to see the speed that it takes.")
        shown = [("electrical", show(found.hertz, "Hz", 3) if math.isfinite(found.hertz) else "–"), ("torque to move it", show(found.up, "N·m", 3))]
        if s.way == "vertical":
            shown.append(("torque it gives back, lowering", show(found.down, "N·m", 3) if not found.holds else "none: it holds by itself"))
        shown += [
            ("power at the load", show(found.power, "W", 3) if found.power else "–"), ("inertia of the mass at the shaft", show(found.inertia, "kg·m²", 3) if found.inertia else "–"),
            ("over the motor's", f"{found.ratio:.2g}" if math.isfinite(found.ratio) else "–"),
        ]  # fmt: skip
        self.rows.show_rows(shown, note="The curves are the torque of Run, Envelope, behind the mechanism.")
        self.findings.show_findings(found.findings)
        if self.main_button is not None:
            self.main_button.setEnabled(found.up > 0)
