"""PWM, command: what does the drive's command input see, and what speed does it ask for?"""

from __future__ import annotations

from collections.abc import Sequence

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.course.captures import Evaluated
from crisp_compass.errors import Refusal
from crisp_compass.views.command import map_pane
from crisp_compass.views.picture import Pane


class CommandPage(CapturePage):
    """Frequency, duty and jitter of a captured command; duty to speed, and what happens outside."""

    key = "pwm"
    section = "Command"
    settles = False
    always_plots = True
    question = "What speed does the command ask for?"
    fields = (
        Pick("command_by", "Speed by", {"duty": "duty", "frequency": "frequency"}, width=104, tip="What of the command asks for the speed"),
        Entry("band_low", "Legal from", "Hz", width=96),
        Entry("band_high", "to", "Hz", width=92),
        Entry("command_low", "Turns from", "%", width=96, tip="Lowest duty that turns the motor"),
        Entry("command_high", "Top at", "%", width=88, tip="Duty of the highest speed allowed"),
        Entry("command_step", "Duty step", "%", width=92, tip="Finest step of whatever commands"),
    )

    def panes(self, evaluated: Evaluated | None) -> Sequence[Pane]:
        try:
            first = map_pane(self.seen, self.evidence())
        except Refusal:  # the answer says why
            return ()
        return (first, *super().panes(evaluated))
