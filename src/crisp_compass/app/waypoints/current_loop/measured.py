"""Current loop, measured step: does the loop do what was designed, and what differs?"""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QPushButton

from crisp_compass.app.autosave import now
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry
from crisp_compass.bench.records import Evidence
from crisp_compass.course.gain_trials import add_trial
from crisp_compass.course.waypoints.current_loop import gains_that_ran
from crisp_compass.loops.step_fit import StepFit
from crisp_compass.views.current_step import expected
from crisp_compass.views.picture import Pane, Said

_TIP = "Settled or designed if empty; notes kp and ki of the file come first"


class MeasuredPage(CapturePage):
    """Measured step on the prediction, the fit and what is left; effective R, L and delay; the likeliest cause."""

    key = "current_loop"
    section = "Measured step"
    settles = False
    always_plots = True
    question = "Does the loop do what was designed?"
    fields = (
        Entry("trial_kp", "Kp that ran", "V/A", width=120, tip=_TIP),
        Entry("trial_ki", "Ki that ran", "V/(A·s)", width=136),
    )

    def buttons(self) -> Sequence[QPushButton]:
        self.keep_button = QPushButton("Keep as trial")
        self.keep_button.clicked.connect(self._on_keep)
        return (self.keep_button,)

    def said(self, evidence: Evidence | None) -> Said:
        self.keep_button.setEnabled(evidence is not None)
        return super().said(evidence)

    def foreseen(self) -> Sequence[Pane]:
        return expected(self.seen)

    def _on_keep(self) -> None:
        read = self.reading.evaluated
        if read is not None and isinstance(read.result, StepFit):
            fit, notes = read.result, read.capture.notes
            self._change(
                lambda bench: add_trial(bench, now(), *gains_that_ran(bench, notes), measured=fit), "keep trial"
            )
