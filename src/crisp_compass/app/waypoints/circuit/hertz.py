"""Circuit, volts per hertz: what voltage at which frequency, and what does load do to the speed?"""

from __future__ import annotations

import math

from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.errors import Refusal
from crisp_compass.motor import pole_pairs_of
from crisp_compass.plant.simulation import READY
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.hertz import HertzOutlook, hertz_outlook
from crisp_compass.views.picture import DialView

_CAUTION = "First run: uncoupled and bolted down, a few hertz, watch the direction: exchange two leads with the power off if it is wrong. A hoist's load is blocked and its brake checked first."


class HertzPage(Page):
    """The voltage line with its limit, and a slow run of the plant under load, with and without slip compensation."""

    key = "circuit"
    section = "Volts per hertz"
    question = "What voltage at which frequency?"
    fields = (
        Pick(
            "firmware",
            "Firmware",
            {"field-oriented": "field orientation", "volts-per-hertz": "volts per hertz"},
            width=150,
            tip="What Run simulates; volts per hertz needs no current or speed loop",
        ),
        Entry("boost_share", "Boost, of I0·Rs", "%", width=112),
        Entry("slip_share", "Slip compensated", "%", width=124),
        Entry("speed_loop.ramp", width=104),
        Entry("plate.rated_voltage", "Rated voltage", "V", width=112, base="rms"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._work = Computation(self, self._on_done)
        self.found: HertzOutlook | None = None
        self.line = Plot(("frequency", "Hz"), ("voltage, phase peak", "V"), name="voltage over frequency")
        self.line.curve("wanted", "deep", width=1.6, dash="dash", title="line asked for")
        self.line.curve("given", "magenta", width=2.2, title="what the bus gives")
        self.run_plot = Plot(("time", "s"), ("speed", "rpm"), name="slow run under load")
        self.run_plot.curve("plain", "deep", width=1.6, dash="dash", title="without slip compensation")
        self.run_plot.curve("compensated", "magenta", width=2.0, title="as set")
        self.rows = Rows("The slow run", width=330)
        self.column.addWidget(beside(QWidget(), (self.line, self.run_plot), (self.rows,)), 1)
        self.finish()

    def refresh(self) -> None:
        if not READY.is_set():
            raise Refusal("The simulation is being prepared; this happens once, at the first start")
        bench = self.seen
        s = bench.settings
        inputs = (
            bench.settled,
            s.circuit,
            s.plate,
            s.pwm,
            s.speed_loop.ramp,
            s.run,
            s.current_loop.delay_samples,
            s.sensor,
        )
        self._work.want(inputs, lambda: hertz_outlook(bench))

    def show_nothing(self, refusal: Refusal) -> None:
        super().show_nothing(refusal)
        self.show_dial(DialView(caption="The voltage turns at the frequency that is set"))

    def _on_done(self, found: HertzOutlook) -> None:
        self.found = found
        self.line.set("wanted", found.frequency, found.wanted)
        self.line.set("given", found.frequency, found.given)
        self.run_plot.set("plain", found.time, found.plain * RPM_PER_RAD_S)
        self.run_plot.set("compensated", found.time, found.compensated * RPM_PER_RAD_S)
        for plot in (self.line, self.run_plot):
            plot.fit()
        law, p = found.law, pole_pairs_of(self.seen.settings.plate)
        knee = law.knee / (2 * math.pi)
        rated = self.seen.settings.plate
        reach = f"the bus ends at {knee:.1f} Hz, {grouped(knee * 60 / p)} rpm; above it torque falls"
        trip = f" The run trips: {found.fault}." if found.fault else ""
        self.answer.show_answer(
            f"{show(law.boost, 'V')} + {show(law.volts_per_rad * 2 * math.pi, 'V')} per Hz",
            reach,
            f"{_CAUTION}{trip}",
            stale=bool(trip),
        )
        synchronous = found.reference * RPM_PER_RAD_S
        self.rows.show_rows([
            ("frequency", f"{found.reference * p / (2 * math.pi):.1f} Hz"), ("turns at most", f"{grouped(synchronous)} rpm"),
            ("load from then on", show(found.load, "N·m")), ("falls, not compensated", f"{grouped(found.fall[0] * RPM_PER_RAD_S)} rpm"),
            ("falls, as set", f"{grouped(found.fall[1] * RPM_PER_RAD_S)} rpm"), ("rated current", f"{show(rated.rated_current, 'A')} {rated.current_base}"),
        ], note="Half the torque of rated current. Slip compensation near 100 % runs away with a rotor colder than settled; with a warmer one the speed falls.")  # fmt: skip
        self.show_dial(
            DialView(
                caption="The voltage turns at the frequency that is set", voltage=(60.0, 0.7), current=(20.0, 0.7)
            )
        )
