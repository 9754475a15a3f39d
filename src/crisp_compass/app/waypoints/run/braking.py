"""Run, braking: where does the energy of a stop go?"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, ClassVar

from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.quantities import show
from crisp_compass.studies.braking_outlook import Braking, braking_of
from crisp_compass.views.picture import DialView


class BrakingPage(PlayedPage):
    """A stop of the simulated drive: the bus with its levels, the power given back and burnt; energies and what the resistor must be."""

    key = "run"
    section = "Braking"
    question = "Where does the energy of a stop go?"
    has_dial = False
    dial: ClassVar[DialView] = DialView()
    fields = (
        Entry("speed", "Speed", "rpm", width=108, tip="From which it stops, along the ramp of the speed loop"),
        Entry("bus.capacitance", "Link capacitor", "farad", width=112, group="Bus", tip="Of the drive's link; the supply holds the bus, whatever comes back, if empty"),
        Pick("bus.rectifier", "Rectifier", {"none": "none", "one-phase": "one phase", "three-phase": "three phases"}, width=112, group="Bus", tip="A rectifier on the mains: its voltage ripples, and it takes nothing back"),
        Entry("bus.source_ohm", "Source", "Ω", width=92, group="Bus", tip="Resistance of supply and leads"),
        Pick("bus.sinks", "Takes power back", {"by-kind": "as its kind", "yes": "yes", "no": "no"}, width=124, group="Bus", tip="A battery does; a bench supply and a rectifier do not"),
        Entry("bus.brake_ohm", "Brake resistor", "Ω", width=108, group="Brake", tip="None if empty"),
        Entry("bus.brake_on", "On above", "V", width=88, group="Brake", tip="Bus at which the resistor is switched on"),
        Entry("bus.brake_most", "Switch bears", "A", width=100, group="Brake", tip="Current of the brake's switch"),
        Entry("bus.brake_watt", "Rated", "W", width=84, group="Brake", tip="Power that the resistor takes for ever"),
        Entry("bus.stops_every", "A stop every", "s", width=100, group="Brake", tip="For the mean power; rarely if empty"),
        Entry("bus.fold_start", "Less from", "V", width=88, group="Fold-back", tip="Bus from which braking torque is taken back; not folded back if empty"),
        Entry("bus.fold_end", "none at", "V", width=88, group="Fold-back", tip="Bus at which nothing of the braking torque is left: the stop takes longer then"),
        Entry("v_max", width=104, tip="Bus above which it trips; none if empty"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.bus = Plot(("time", "s"), ("bus", "V"), name="bus during the stop")
        self.bus.curve("bus", "magenta", width=2.0, title="bus")
        for name, token, dash, title in (
            ("trip", "brick", "dash", "trips"), ("on", "ochre", "dash", "resistor on"), ("fold", "moss", "dot", "no braking left"), ("all", "ink", "dot", "all energy in the capacitor"),
        ):  # fmt: skip
            self.bus.curve(name, token, width=1.2, dash=dash, title=title)
        self.power = Plot(("time", "s"), ("power", "W"), name="power during the stop")
        self.power.rule(y=0.0, token="ink")
        self.power.curve("given", "magenta", width=1.8, title="given to the bus")
        self.power.curve("burnt", "ochre", width=1.6, title="in the resistor")
        self.speed = Plot(("time", "s"), ("speed", "rpm"), name="speed during the stop")
        self.speed.curve("speed", "magenta", width=1.8)
        self.rows = Rows("The stop", width=300)
        self.column.addWidget(beside(QWidget(), (self.bus, self.power, self.speed), (self.rows,), (6, 4, 3)), 1)
        self.finish()

    def refresh(self) -> None:
        self._fields["bus.sinks"].setVisible(self.seen.settings.bus.rectifier == "none")  # a rectifier never does
        super().refresh()

    def rests_on(self, bench: Bench) -> object:
        s = bench.settings
        return (super().rests_on(bench), s.bus, s.supply, s.coupling, s.current_loop, s.stepping)

    def question_for(self, bench: Bench) -> Callable[[], Any]:
        return lambda: braking_of(bench)

    def show_found(self) -> None:
        found: Braking = self.found
        stop, t = found.stop, found.stop.time
        self.bus.set("bus", t, stop.bus)
        ends = [0.0, float(t[-1])]
        rises = not math.isnan(stop.closed_form) and not found.sinks and stop.returned > 0.05 * stop.kinetic
        for name, level in (("trip", found.trip), ("on", found.on), ("fold", found.fold), ("all", stop.closed_form if rises else None)):
            self.bus.set(name, ends if level is not None else [], [level, level] if level is not None else [])
        self.power.set("given", t, stop.given)
        self.power.set("burnt", t if stop.resistor > 0 else [], stop.burnt if stop.resistor > 0 else [])
        self.speed.set("speed", t, stop.speed * RPM_PER_RAD_S)
        for plot in (self.bus, self.power, self.speed):
            plot.keep_in_view()
        self.answer.show_answer(*found.words)
        self.findings.show_findings(found.findings)
        rows = [
            ("in the shaft", show(stop.kinetic, "J", 3)), ("given to the bus", show(stop.returned, "J", 3)),
            ("of it in the resistor", show(stop.resistor, "J", 3) if stop.resistor > 0 else "–"),
            ("in the capacitor at most", show(stop.capacitor, "J", 3) if not math.isnan(stop.closed_form) else "–"),
            *((("ripple while it runs", show(stop.ripple, "V", 3)),) if self.seen.settings.bus.rectifier != "none" else ()),
            ("peak power to the bus", show(stop.peak_power, "W", 3)), ("at rest after", show(stop.seconds, "s", 3) if not math.isnan(stop.seconds) else "not"),
        ]  # fmt: skip
        if (r := found.resistor) is not None:
            rows += [
                ("resistor at most", show(r.most, "Ω", 3)), ("at least, for its switch", show(r.least, "Ω", 3) if not math.isnan(r.least) else "not entered"),
                ("power while on", show(r.power, "W", 3) if not math.isnan(r.power) else "–"), ("energy a stop", show(r.pulse, "J", 3)),
                ("mean power", show(r.mean, "W", 3) if not math.isnan(r.mean) else "not entered"),
            ]  # fmt: skip
        self.rows.show_rows(rows, note="The rest of the shaft's energy goes into friction, copper and the bridge.")
