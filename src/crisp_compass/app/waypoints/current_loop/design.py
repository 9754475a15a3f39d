"""Current loop: what gains hold the current, with this delay?"""

from __future__ import annotations

import math

from crisp_compass.app.document import Document
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.loop_page import LoopPage, figure
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.course.waypoints.current_loop import design_current
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import CurrentDesign
from crisp_compass.quantities import show
from crisp_compass.studies.step_band import Band, current_band
from crisp_compass.studies.step_prediction import predict_current_step
from crisp_compass.views.picture import DialView

PAUSE_MS = 250


class CurrentLoopPage(LoopPage):
    """The compiled plant's answer to a step, with the band over the inputs' error bars."""

    key = "current_loop"
    section = "Design"
    fields = (
        Pick(
            "method",
            "Method",
            {"bandwidth": "pole cancellation", "modulus-optimum": "modulus optimum", "placement": "placed poles"},
            width=126,
        ),
        Entry("bandwidth_hz", "Crossover", "Hz", width=98),
        Entry("damping", width=70, plain=True, tip="Of the placed pole pair"),
        Entry("delay_samples", "Delay, periods", width=84, plain=True),
        Entry("step", "Shown step", "A", width=82, base="peak"),
        Entry(
            "saturation",
            "Saturation, at most",
            "%",
            width=126,
            tip="Most that the iron's saturation takes at this step",
        ),
        Entry("sag", "Bus sags by", "%", width=78, tip="Most that the bus loses"),
        Entry("hot", "Winding to", "degC", width=80, tip="Hottest winding of the thousand runs"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.band: Band | None = None
        self._method = ""
        # while a number moves the runs wait, so that they take no time from the redrawing
        self._runs = Computation(self, self._on_band, self.refuse, pause=PAUSE_MS)

    def make_step_plot(self) -> Plot:
        plot = Plot(("time", "s"), ("current i_q", "A"), name="predicted current step")
        plot.curve("band low", "magenta", width=0.8, title="5 % to 95 % of a thousand runs")
        plot.curve("band high", "magenta", width=0.8, title="")
        plot.curve("reference", "ink", dash="dash")
        plot.curve("predicted", "magenta", width=2.2)
        return plot

    def predict(self) -> None:
        bench = self.seen
        settings = bench.settings.current_loop
        self._fields["bandwidth_hz"].setEnabled(settings.method != "modulus-optimum")
        self._fields["damping"].setVisible(settings.method == "placement")
        design = design_current(bench)
        prediction = predict_current_step(bench, design)
        self.step.set("reference", prediction.reference_time, prediction.reference)
        self.step.set("predicted", prediction.time, prediction.response)
        self._ask_band(design)
        self.show_loop(design.q, design.findings)
        q, d = design.q, design.d
        figures = (
            f"{figure(q.margins.phase_margin_deg, 1)}° and {figure(q.margins.gain_margin_db, 1)} dB margin, crossover "
            f"{show(q.margins.crossover_hz, 'Hz')}, {figure(q.overshoot_pct, 1)} % overshoot, rise {show(q.rise_time_s, 's')}, sensitivity peak {q.sensitivity:.2f}"
        )
        salient = f"d axis: Kp {show(d.kp, 'V/A')}. " if abs(d.kp / q.kp - 1) > 1e-6 else ""
        text = f"{salient}{design.method[:1].upper()}{design.method[1:]}."
        self._method = text
        self.show_figures(f"Kp {show(q.kp, 'V/A')}   Ki {show(q.ki, 'V/(A·s)')}", figures, text)
        self._say_band()
        caption = f"q step of {show(settings.step, 'A')} at standstill, rotor held"
        self.show_dial(DialView(caption=caption, rotor=35.0, current=(125.0, 0.8), voltage=(125.0, 0.55)))

    def _ask_band(self, design: CurrentDesign) -> None:
        """Start the thousand runs where something that they rest on is another."""
        bench = self.seen
        inputs = (bench.settled, bench.settings.current_loop, bench.settings.resistance.reference)
        if self._runs.want(inputs, lambda: current_band(bench, design)):
            self.band = None

    def _on_band(self, band: Band) -> None:
        self.band = band
        for name in ("low", "high"):
            self.step.set(f"band {name}", band.time, getattr(band, name))
        self._say_band()

    def _say_band(self) -> None:
        if self.band is None or self.stale_text():
            return
        band = self.band
        rise = f"rise up to {show(band.rise, 's')} " if math.isfinite(band.rise) else ""
        self.answer.show_reason(
            f"{self._method} Over {band.runs} runs, cold to hot: overshoot up to {band.overshoot:.0f} %, {rise}in 95 of 100; worst {band.worst_overshoot:.0f} % with {band.worst_text}."
        )

    def show_nothing(self, refusal: Refusal) -> None:
        self._forget_band()
        super().show_nothing(refusal)

    def _forget_band(self) -> None:
        self._runs.drop()
        self.band = None

    def leave(self) -> None:
        self._forget_band()
