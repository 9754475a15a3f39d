"""Current loop: what gains hold the current, with this delay?"""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout

from crisp_compass.app.dial import DialView
from crisp_compass.app.document import Document
from crisp_compass.app.legs.base import LegPage
from crisp_compass.app.widgets.lever import Choice, Lever
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import CurrentDesign
from crisp_compass.quantities import show
from crisp_compass.voyage.course import BY_KEY, missing
from crisp_compass.voyage.design import CURRENT_INPUTS, current_values, design_current
from crisp_compass.voyage.outlook import bode, predict_current_step


class CurrentLoopPage(LegPage):
    """Levers re-run the compiled plant while they move: predicted step with its band, Bode with margins."""

    key = "current_loop"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.step = Plot(("time", "s"), ("current i_q", "A"), name="predicted current step")
        self.step.curve("band low", "magenta", width=0.8)
        self.step.curve("band high", "magenta", width=0.8)
        self.step.curve("reference", "ink", dash="dash")
        self.step.curve("predicted", "magenta", width=2.2)
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
                "Method", {"bandwidth": "pole cancellation", "modulus-optimum": "modulus optimum"}, width=160
            ),
            "bandwidth_hz": Lever("Bandwidth", "Hz", width=112),
            "delay_samples": Lever("Delay, periods", "", width=104, plain=True),
            "step": Lever("Shown step", "A", width=96),
        }
        self.add_levers(*self._levers.values())
        for field, lever in self._levers.items():
            self.bind(lever, field)
        self.finish("Settle gains…")

    def refresh(self) -> None:
        bench = self.document.bench
        levers = bench.levers.current_loop
        for field, lever in self._levers.items():
            lever.show_value(getattr(levers, field))
        self._levers["bandwidth_hz"].setEnabled(levers.method == "bandwidth")
        assert self.main_button is not None
        waiting = missing(bench, self.leg)
        if waiting:
            self._show_blocked(f"Waits for {', '.join(BY_KEY[t].name.lower() for t in waiting)}.")
            return
        try:
            design = design_current(bench)
            prediction = predict_current_step(bench, design)
        except Refusal as refusal:
            self._show_blocked(refusal.sentence)
            return
        self.main_button.setEnabled(not any(f.level == "stop" for f in design.findings))
        self._show_texts(design)
        self.step.set("reference", prediction.reference_time, prediction.reference)
        self.step.set("predicted", prediction.time, prediction.response)
        self.step.set("band low", prediction.time, prediction.low)
        self.step.set("band high", prediction.time, prediction.high)
        curve = bode(design.q)
        self.gain.set("open loop", curve.frequency, curve.gain_db)
        self.phase.set("open loop", curve.frequency, curve.phase_deg)
        m = design.q.margins
        at = [m.crossover_hz] if m.crossover_hz == m.crossover_hz else []
        self.gain.set("crossover", at, [0.0] * len(at))
        self.phase.set("crossover", at, [m.phase_margin_deg - 180.0] * len(at))
        for plot in (self.step, self.gain, self.phase):
            plot.keep_in_view()
        self.show_dial(
            DialView(
                caption=f"q step of {show(levers.step, 'A')} at standstill, rotor held",
                rotor=35.0,
                current=(125.0, 0.8),
                voltage=(125.0, 0.55),
            )
        )

    def _show_blocked(self, reason: str) -> None:
        assert self.main_button is not None
        self.main_button.setEnabled(False)
        self.answer.show_answer("–", "", reason, stale=True)
        self.findings.show_findings(())
        for plot in (self.step, self.gain, self.phase):
            plot.clear_data()

    def _show_texts(self, design: CurrentDesign) -> None:
        q, d = design.q, design.d
        figures = f"{q.margins.phase_margin_deg:.1f}° and {q.margins.gain_margin_db:.1f} dB margin, crossover {show(q.margins.crossover_hz, 'Hz')}, {q.overshoot_pct:.1f} % overshoot, rise {show(q.rise_time_s, 's')}"
        stale = self.stale_text()
        salient = f"d axis: Kp {show(d.kp, 'V/A')}. " if abs(d.kp / q.kp - 1) > 1e-6 else ""
        self.answer.show_answer(
            f"Kp {show(q.kp, 'V/A')}   Ki {show(q.ki, 'V/(A·s)')}",
            figures,
            stale or f"{salient}{design.method[:1].upper()}{design.method[1:]}.",
            stale=bool(stale),
        )
        self.findings.show_findings(design.findings)

    def on_main(self) -> None:
        design = design_current(self.document.bench)
        what = f"Kp {show(design.q.kp, 'V/A')}, Ki {show(design.q.ki, 'V/(A·s)')}"
        self.settle(
            "current_loop",
            what,
            f"{design.q.margins.phase_margin_deg:.0f}° margin is enough here",
            values=current_values(self.document.bench, design),
            method=design.method,
            rests_on=CURRENT_INPUTS,
        )
