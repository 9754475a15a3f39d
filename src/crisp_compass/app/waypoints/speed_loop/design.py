"""Speed loop: what gains hold the speed?"""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.loop_page import LoopPage, figure
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.block import in_blocks, waveform
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.course.speed_design import (
    armature_droop,
    armature_findings,
    armature_tells,
    counts_of,
    design_speed,
    filter_of,
    lowest_wanted_speed,
    sensor_delay,
    sensor_lowest_speed,
    timed_by_edges,
)
from crisp_compass.errors import Refusal
from crisp_compass.loops.speed import SpeedDesign
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.speed_outlook import figures, filters_cost
from crisp_compass.studies.speed_trial import SpeedTrial, try_speed_loop
from crisp_compass.studies.step_prediction import predict_speed_step
from crisp_compass.views.picture import DialView


class SpeedLoopPage(LoopPage):
    """Predicted speed step with and without set-point filter."""

    key = "speed_loop"
    section = "Design"
    fields = (
        Pick(
            "method", "Method",
            {"symmetric-optimum": "symmetrical optimum", "bandwidth": "by crossover", "placement": "poles placed", "stiffest": "as stiff as the sensor allows"},
            width=206, tip="How gains are made from the settled inertia, flux and current loop",
        ),
        Entry(
            "a",
            width=76,
            plain=True,
            tip="Of the symmetrical optimum: 2 is the textbook value, larger is calmer",
        ),
        Entry("bandwidth_hz", "Frequency", "Hz", width=100, tip="By crossover: where the open loop crosses 0 dB; poles placed: their natural frequency"),
        Entry("damping", width=84, plain=True, tip="Of the placed pair of poles: 0.7 overshoots a little, 1 not by itself"),
        Entry("noise_share", "Current's ripple", "%", width=122, tip="Of the rated current, rms: what the sensor's steps may put into the torque current while the shaft turns"),
        Entry("slow_below", "Slower below", "rpm", width=104, tip="Below this speed the loop has only a part of its bandwidth, all of it from twice that on: where edges come late, or the load's friction asks for it. One set of gains if empty"),
        Entry("slow_share", "to", "%", width=64, tip="Share of the bandwidth there: Kp times it, Ki times its square"),
        Entry("filter_hz", "Speed filter", "Hz", width=100, tip="Empty: 300 Hz, or what the armature's voltage allows where that tells the speed"),
        Entry("divider", "Current steps per step", width=146),
        Entry(
            "compensation",
            "Drop compensated",
            "%",
            width=128,
            tip="Share of R·I that the firmware takes off; at most 80 %: with copper colder than settled more would be taken off than there is, and the speed runs away",
        ),
        Entry(
            "lowest_speed",
            "Lowest speed",
            "rpm",
            width=104,
            tip="To be held with halls; a tenth of top speed where empty",
        ),
    )

    def _armature_text(self) -> str:
        """Say what speed by armature voltage costs: how far it falls with load, cold and hot."""
        droop = armature_droop(self.seen)
        cold, hot = (d * RPM_PER_RAD_S for d in (droop.cold, droop.hot))
        return (
            f" The speed is told by the armature's voltage: at rated current it falls by {grouped(cold)} rpm, by {grouped(hot)} rpm with copper at "
            f"{show(droop.temperature, 'degC')}."
        )

    def setup(self) -> None:
        """Put the figures beside the plots."""
        super().setup()
        self.figures = Table("figures of the speed loop", ("", "designed", "simulated"), widths={1: 104, 2: 84}, row_height=23)
        self.figures.setFixedWidth(364)
        self.column.removeWidget(self.stack)
        self.column.addWidget(beside(QWidget(), (self.stack,), (self.figures,)), 1)
        self.trial: SpeedTrial | None = None
        self.waits = False
        self._try = Computation(self, self._on_trial, self._on_no_trial, pause=150)

    def _on_trial(self, trial: SpeedTrial | None) -> None:
        self.trial, self.waits = trial, False
        self._show_trial(design_speed(self.seen))

    def _on_no_trial(self, _: Refusal) -> None:
        self.trial, self.waits = None, False
        self._show_trial(design_speed(self.seen))

    def _show_trial(self, design: SpeedDesign) -> None:
        """Fill the table, and draw the simulated drive's step where there is one."""
        rows = figures(self.seen, design, self.trial, waits=self.waits)
        self.figures.show_rows([[Cell(n), Cell(d, right=True), Cell(s, "magenta", right=True)] for n, d, s in rows])
        if self.trial is None:
            self.step.set("simulated", [], [])
        else:
            shown = self.trial.time <= predict_speed_step(design)[0][-1]
            self.step.set("simulated", self.trial.time[shown], self.trial.speed[shown])
        self.step.keep_in_view()
        self.figures.setVisible(bool(rows))

    def show_nothing(self, refusal: Refusal) -> None:
        self._try.drop()
        self.figures.hide()
        super().show_nothing(refusal)

    def leave(self) -> None:
        self._try.drop()
        super().leave()

    def make_step_plot(self) -> Plot:
        plot = Plot(("time", "s"), ("speed, part of the step", ""), name="predicted speed step")
        plot.rule(y=1.0, token="ink", dash="dash")
        plot.curve("no filter", "magenta", width=2.2, title="without set-point filter")
        plot.curve("with filter", "magenta", width=1.6, dash="dash", title="with set-point filter")
        plot.curve("simulated", "ink", width=1.3, title="simulated drive")
        return plot

    def predict(self) -> None:
        bench = self.seen
        method = bench.settings.speed_loop.method
        for name, shown in (
            ("bandwidth_hz", method in ("bandwidth", "placement")), ("a", method == "symmetric-optimum"), ("damping", method == "placement"),
            ("noise_share", method == "stiffest" and counts_of(bench) is not None),
        ):  # fmt: skip
            self._fields[name].setVisible(shown)
        self._fields["lowest_speed"].setVisible(timed_by_edges(bench))
        self._fields["slow_share"].setVisible(bench.settings.speed_loop.slow_below is not None)
        design = design_speed(bench)
        time, plain, filtered = predict_speed_step(design)
        self.step.set("no filter", time, plain)
        self.step.set("with filter", time, filtered)
        self.show_loop(design, [*design.findings, *armature_findings(bench, design)])
        m = design.margins
        told = (
            f"{figure(m.phase_margin_deg, 1)}° and {figure(m.gain_margin_db, 1)} dB margin, crossover {show(m.crossover_hz, 'Hz')}; "
            f"overshoot {figure(design.overshoot_pct)} %, {figure(design.overshoot_filtered_pct)} % with set-point filter"
        )
        text = (
            f"{design.method[:1].upper()}{design.method[1:]}; small lags add up to {show(design.t_sigma, 's')}, "
            f"integral time {show(design.integral_time, 's')}."
        )
        text += f" {filters_cost(bench, design)}".rstrip()
        if timed_by_edges(bench):
            lowest = sensor_lowest_speed(bench, design) * RPM_PER_RAD_S
            wanted = lowest_wanted_speed(bench) * RPM_PER_RAD_S
            reach = f"down to {grouped(lowest)} rpm" if lowest < 1e6 else "at no speed"
            text += f" Designed for halls at {grouped(wanted)} rpm, where an edge comes every {show(sensor_delay(bench), 's')}; calm {reach}."
        if in_blocks(bench):
            text += f" Amperes are those through two phases; their torque rests on a back-EMF {waveform(bench)[1]}."
        armature = armature_tells(bench)
        if without_sensor(bench) and sensor_delay(bench) > 0:
            text += f" The estimated speed comes {show(sensor_delay(bench), 's')} late."
        self.number("filter_hz").edit.setPlaceholderText(f"{filter_of(bench):.3g}")
        self._fields["compensation"].setVisible(armature)
        if armature:
            text += self._armature_text()
        kp = show(design.kp, "A/(rad/s)")
        self.show_figures(f"Kp {kp}   Ki {show(design.ki, 'A/rad')}", told, text)
        if design.margins.stable:
            s = bench.settings
            if self._try.want((bench.settled, s.speed_loop, s.sensor, s.plate, s.run, s.start_up, s.current_loop), lambda: try_speed_loop(bench)):
                self.trial, self.waits = None, True
        else:
            self._try.drop()
            self.trial, self.waits = None, False
        self._show_trial(design)
        caption = "Torque current stands 90° ahead of the rotor"
        self.show_dial(DialView(caption=caption, rotor=35.0, current=(125.0, 0.8)))
