"""Speed loop: what gains hold the speed?"""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout

from crisp_compass.app.dial import DialView
from crisp_compass.app.document import Document
from crisp_compass.app.legs.base import LegPage
from crisp_compass.app.widgets.lever import Choice, Lever
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.errors import Refusal
from crisp_compass.loops.speed import SpeedDesign
from crisp_compass.quantities import show
from crisp_compass.voyage.course import BY_KEY, missing
from crisp_compass.voyage.design import SPEED_INPUTS, design_speed, speed_values
from crisp_compass.voyage.outlook import bode, predict_speed_step


class SpeedLoopPage(LegPage):
    """Predicted speed step with and without set-point filter, Bode with margins."""

    key = "speed_loop"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.step = Plot(("time", "s"), ("speed, part of the step", ""), name="predicted speed step")
        self.step.rule(y=1.0, token="ink", dash="dash")
        self.step.curve("no filter", "magenta", width=2.2)
        self.step.curve("with filter", "magenta", width=1.6, dash="dash")
        self.gain = Plot(("frequency", "Hz"), ("gain", "dB"), name="open loop gain", log_x=True)
        self.gain.rule(y=0.0, token="ink")
        self.phase = Plot(("frequency", "Hz"), ("phase", "°"), name="open loop phase", log_x=True)
        self.phase.rule(y=-180.0, token="ink")
        for plot in (self.gain, self.phase):
            plot.curve("open loop", "magenta", width=1.8)
            plot.curve("crossover", "ink", symbol="o", size=8)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(self.gain)
        row.addWidget(self.phase)
        self.column.addWidget(self.step, 6)
        self.column.addLayout(row, 5)
        self._levers: dict[str, Lever | Choice] = {
            "method": Choice(
                "Method", {"symmetric-optimum": "symmetrical optimum", "bandwidth": "by bandwidth"}, width=172
            ),
            "a": Lever("Spread a", "", width=76, plain=True),
            "bandwidth_hz": Lever("Bandwidth", "Hz", width=100),
            "filter_hz": Lever("Speed filter", "Hz", width=100),
            "divider": Lever("Current steps per step", "", width=146, whole=True),
            "ramp": Lever("Ramp", "rad/s²", width=112),
        }
        self.add_levers(*self._levers.values())
        for field, lever in self._levers.items():
            self.bind(lever, field)
        self.finish("Settle gains…")

    def refresh(self) -> None:
        bench = self.document.bench
        levers = bench.levers.speed_loop
        for field, lever in self._levers.items():
            lever.show_value(getattr(levers, field))
        self._levers["bandwidth_hz"].setVisible(levers.method == "bandwidth")
        self._levers["a"].setVisible(levers.method != "bandwidth")
        assert self.main_button is not None
        waiting = missing(bench, self.leg)
        try:
            if waiting:
                raise Refusal(f"Waits for {', '.join(BY_KEY[t].name.lower() for t in waiting)}")
            design = design_speed(bench)
        except Refusal as refusal:
            self.main_button.setEnabled(False)
            self.answer.show_answer("–", "", refusal.sentence, stale=True)
            self.findings.show_findings(())
            for plot in (self.step, self.gain, self.phase):
                plot.clear_data()
            return
        self.main_button.setEnabled(not any(f.level == "stop" for f in design.findings))
        self._show_texts(design)
        time, plain, filtered = predict_speed_step(design)
        self.step.set("no filter", time, plain)
        self.step.set("with filter", time, filtered)
        curve = bode(design)
        self.gain.set("open loop", curve.frequency, curve.gain_db)
        self.phase.set("open loop", curve.frequency, curve.phase_deg)
        m = design.margins
        at = [m.crossover_hz] if m.crossover_hz == m.crossover_hz else []
        self.gain.set("crossover", at, [0.0] * len(at))
        self.phase.set("crossover", at, [m.phase_margin_deg - 180.0] * len(at))
        for plot in (self.step, self.gain, self.phase):
            plot.keep_in_view()
        self.show_dial(
            DialView(caption="Torque current stands 90° ahead of the rotor", rotor=35.0, current=(125.0, 0.8))
        )

    def _show_texts(self, design: SpeedDesign) -> None:
        m = design.margins
        figures = f"{m.phase_margin_deg:.1f}° and {m.gain_margin_db:.1f} dB margin, crossover {show(m.crossover_hz, 'Hz')}; overshoot {design.overshoot_pct:.0f} %, with set-point filter {design.overshoot_filtered_pct:.0f} % (dashed)"
        stale = self.stale_text()
        text = f"{design.method[:1].upper()}{design.method[1:]}; small lags add up to {show(design.t_sigma, 's')}, integral time {show(design.integral_time, 's')}."
        self.answer.show_answer(
            f"Kp {show(design.kp, 'A/(rad/s)').replace('A/(rad/s)', 'A·s/rad')}   Ki {show(design.ki, 'A/rad')}",
            figures,
            stale or text,
            stale=bool(stale),
        )
        self.findings.show_findings(design.findings)

    def on_main(self) -> None:
        design = design_speed(self.document.bench)
        what = f"Kp {show(design.kp, 'A/(rad/s)')}, Ki {show(design.ki, 'A/rad')}"
        self.settle(
            "speed_loop",
            what,
            f"{design.method}, {design.margins.phase_margin_deg:.0f}° margin",
            values=speed_values(self.document.bench, design),
            method=design.method,
            rests_on=SPEED_INPUTS,
        )
