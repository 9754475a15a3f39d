"""Start-up, measured run: what does the estimator say of a capture?"""

from __future__ import annotations

from crisp_compass.app.page.capture_page import CapturePage


class MeasuredPage(CapturePage):
    """The estimator run over measured currents and voltages."""

    key = "start_up"
    section = "Measured run"
    question = "What does the estimator see in a measured run?"
    settles = False
