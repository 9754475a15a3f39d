"""The shape of a loop page: settings re-run the prediction while they move; step above, Bode with margins below."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PySide6.QtWidgets import QGridLayout, QStackedWidget, QWidget

from crisp_compass.app.page.base import Page
from crisp_compass.app.widgets.answer import Waiting
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.estimates import Finding
from crisp_compass.loops.current import AxisLoop
from crisp_compass.loops.speed import SpeedDesign
from crisp_compass.studies.step_prediction import bode


def figure(value: float, digits: int = 0) -> str:
    """Return a figure of a loop; a dash where there is none, as an unstable loop has no overshoot."""
    return f"{value:.{digits}f}" if math.isfinite(value) else "–"


class LoopPage(Page):
    """Base of the loop pages. Subclasses make the step plot and the settings, and predict in :meth:`predict`."""

    def setup(self) -> None:
        """Build the plots and the row of fields."""
        self.step = self.make_step_plot()
        self.gain = Plot(("frequency", "Hz"), ("gain", "dB"), name="open loop gain", log_x=True)
        self.gain.rule(y=0.0, token="ink")
        self.phase = Plot(("frequency", "Hz"), ("phase", "°"), name="open loop phase", log_x=True)
        self.phase.rule(y=-180.0, token="ink")
        self.phase.getAxis("left").setTickSpacing(90.0, 45.0)
        for plot in (self.gain, self.phase):
            plot.curve("open loop", "magenta", width=1.8)
            plot.curve("crossover", "ink", symbol="o", size=8)
        plots = QWidget()
        grid = QGridLayout(plots)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(8)
        grid.addWidget(self.step, 0, 0, 1, 2)
        grid.addWidget(self.gain, 1, 0)
        grid.addWidget(self.phase, 1, 1)
        grid.setRowStretch(0, 6)
        grid.setRowStretch(1, 5)
        self.waiting = Waiting()
        self.stack = QStackedWidget()
        self.stack.addWidget(self.waiting)
        self.stack.addWidget(plots)
        self.column.addWidget(self.stack, 1)
        self.finish("Settle gains…")

    def make_step_plot(self) -> Plot:
        """Return the plot of the predicted step with its curves declared."""
        raise NotImplementedError

    def predict(self) -> None:
        """Design, predict and show; a Refusal leaves the page empty with its sentence."""
        raise NotImplementedError

    def refresh(self) -> None:
        self.check_ready(self.waiting, self.stack)
        self.predict()
        for plot in (self.step, self.gain, self.phase):
            plot.keep_in_view()

    def show_loop(self, loop: AxisLoop | SpeedDesign, findings: Sequence[Finding]) -> None:
        """Draw the Bode plots with the crossover marked, show the findings and allow settling a stable loop."""
        curve, m = bode(loop), loop.margins
        self.gain.set("open loop", curve.frequency, curve.gain_db)
        self.phase.set("open loop", curve.frequency, curve.phase_deg)
        crosses = math.isfinite(m.crossover_hz)
        self.gain.set("crossover", [m.crossover_hz] if crosses else [], [0.0] if crosses else [])
        self.phase.set(
            "crossover", [m.crossover_hz] if crosses else [], [m.phase_margin_deg - 180] if crosses else []
        )
        self.findings.show_findings(findings)
        assert self.main_button is not None
        self.main_button.setEnabled(not any(f.level == "stop" for f in findings))

    def show_figures(self, answer: str, figures: str, otherwise: str) -> None:
        """Show gains and figures; what staleness would change goes before any other explanation."""
        stale = self.stale_text()
        self.answer.show_answer(answer, figures, stale or otherwise, stale=bool(stale))
