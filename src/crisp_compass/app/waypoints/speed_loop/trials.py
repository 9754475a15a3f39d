"""Speed loop, trials: which gains were tried, how did they do, and what next?"""

from __future__ import annotations

from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.trials_page import TrialsPage
from crisp_compass.course.speed_trials import TRIALS


class SpeedTrialsPage(TrialsPage):
    """Trials of the speed loop."""

    key = "speed_loop"
    trials = TRIALS
    fields = (
        Entry("trial_kp", "Kp", "A/(rad/s)", width=128, tip="Proportional gain that ran; the settled one if empty"),
        Entry("trial_ki", "Ki", "A/rad", width=120, tip="Integral gain that ran; the settled one if empty"),
    )
