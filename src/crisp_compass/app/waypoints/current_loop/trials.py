"""Current loop, trials: which gains were tried, how did they do, and what next?"""

from __future__ import annotations

from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.trials_page import TrialsPage
from crisp_compass.course.gain_trials import TRIALS


class CurrentTrialsPage(TrialsPage):
    """Trials of the current loop."""

    key = "current_loop"
    trials = TRIALS
    fields = (
        Entry("trial_kp", "Kp", "V/A", width=112, tip="Proportional gain that ran"),
        Entry("trial_ki", "Ki", "V/(A·s)", width=132, tip="Integral gain that ran"),
        Entry("trial_current", "Test current", "A", width=108, base="peak"),
    )
