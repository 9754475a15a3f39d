"""Speed loop: what gains hold the speed?"""

from __future__ import annotations

from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.loop_page import LoopPage, figure
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.block import in_blocks, waveform
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.course.speed_design import (
    armature_droop,
    armature_findings,
    armature_tells,
    design_speed,
    filter_of,
    lowest_wanted_speed,
    rated_load_step,
    sensor_delay,
    sensor_lowest_speed,
    timed_by_edges,
)
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.step_prediction import predict_speed_step
from crisp_compass.views.picture import DialView


class SpeedLoopPage(LoopPage):
    """Predicted speed step with and without set-point filter."""

    key = "speed_loop"
    section = "Design"
    fields = (
        Pick(
            "method", "Method", {"symmetric-optimum": "symmetrical optimum", "bandwidth": "by crossover"}, width=172
        ),
        Entry(
            "a",
            "Factor a",
            width=76,
            plain=True,
            tip="Of the symmetrical optimum: 2 is the textbook value, larger is calmer",
        ),
        Entry("bandwidth_hz", "Crossover", "Hz", width=100),
        Entry("filter_hz", "Speed filter", "Hz", width=100, tip="Empty: 300 Hz, or what the armature's voltage allows where that tells the speed"),
        Entry("divider", "Current steps per step", width=146),
        Entry("ramp", "Ramp", "rad/s²", width=112),
        Pick("set_point", "Set-point", {"plain": "as it is", "filtered": "filtered"}, width=104, tip="Filtered by the loop's own Ti, the reference makes little overshoot; load steps are answered as before"),
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

    def make_step_plot(self) -> Plot:
        plot = Plot(("time", "s"), ("speed, part of the step", ""), name="predicted speed step")
        plot.rule(y=1.0, token="ink", dash="dash")
        plot.curve("no filter", "magenta", width=2.2, title="without set-point filter")
        plot.curve("with filter", "magenta", width=1.6, dash="dash", title="with set-point filter")
        return plot

    def predict(self) -> None:
        by_bandwidth = self.seen.settings.speed_loop.method == "bandwidth"
        self._fields["bandwidth_hz"].setVisible(by_bandwidth)
        self._fields["a"].setVisible(not by_bandwidth)
        bench = self.seen
        self._fields["lowest_speed"].setVisible(timed_by_edges(bench))
        design = design_speed(bench)
        time, plain, filtered = predict_speed_step(design)
        self.step.set("no filter", time, plain)
        self.step.set("with filter", time, filtered)
        self.show_loop(design, [*design.findings, *armature_findings(bench, design)])
        m = design.margins
        figures = (
            f"{figure(m.phase_margin_deg, 1)}° and {figure(m.gain_margin_db, 1)} dB margin, crossover {show(m.crossover_hz, 'Hz')}; "
            f"overshoot {figure(design.overshoot_pct)} %, {figure(design.overshoot_filtered_pct)} % with set-point filter"
        )
        text = (
            f"{design.method[:1].upper()}{design.method[1:]}; small lags add up to {show(design.t_sigma, 's')}, "
            f"integral time {show(design.integral_time, 's')}."
        )
        loaded = rated_load_step(bench, design)
        if loaded is not None:
            torque, step = loaded
            dip = f"{grouped(float(f'{step.dip * torque * RPM_PER_RAD_S:.3g}'))} rpm"
            text += f" A sudden load of {show(torque, 'N·m')}, the rated torque, dips the speed by {dip}; a tenth of that is left after {show(step.recovery, 's', 2)}, and the shaft has fallen {show(torque / step.stiffness, 'rad', 2)} behind."
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
        self.show_figures(f"Kp {kp}   Ki {show(design.ki, 'A/rad')}", figures, text)
        caption = "Torque current stands 90° ahead of the rotor"
        self.show_dial(DialView(caption=caption, rotor=35.0, current=(125.0, 0.8)))
