"""Speed loop, measured response: does the loop do what was designed, and what differs?"""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QPushButton

from crisp_compass.app.autosave import now
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry
from crisp_compass.bench.records import Evidence
from crisp_compass.course.speed_measured import MeasuredSpeed
from crisp_compass.course.speed_trials import add_speed_trial
from crisp_compass.views.picture import Pane, Said
from crisp_compass.views.speed_response import expected

_TIP = "Settled or designed if empty; notes kp and ki of the file come first"


class SpeedResponsePage(CapturePage):
    """Measured speed beside the design's and the simulated drive's over the very reference; the likeliest cause of a difference and one change."""

    key = "speed_loop"
    section = "Measured response"
    settles = False
    always_plots = True
    question = "Does the speed loop do what was designed?"
    caution = "The shaft steps between speeds: people clear, load blocked or safe, an emergency stop within reach; follow your local rules."
    fields = (
        Entry("trial_kp", "Kp that ran", "A/(rad/s)", width=136, tip=_TIP),
        Entry("trial_ki", "Ki that ran", "A/rad", width=120, tip=_TIP),
    )

    def buttons(self) -> Sequence[QPushButton]:
        self.keep_button = QPushButton("Keep as trial")
        self.keep_button.clicked.connect(self._on_keep)
        return (self.keep_button,)

    def said(self, evidence: Evidence | None) -> Said:
        self.keep_button.setEnabled(evidence is not None)
        return super().said(evidence)

    def _on_keep(self) -> None:
        read = self.reading.evaluated
        if read is not None and isinstance(read.result, MeasuredSpeed):
            found = read.result
            self._change(lambda bench: add_speed_trial(bench, now(), measured=found), "keep trial")

    def foreseen(self) -> Sequence[Pane]:
        return expected(self.seen)
