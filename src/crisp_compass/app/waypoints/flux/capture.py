"""Flux: how much does the rotor carry?"""

from __future__ import annotations

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry

_TURNS = "Whole turns of the shaft by hand over the capture: tells the pole pairs"


class FluxPage(CapturePage):
    """Open-circuit voltage with its fit, the frequency that falls, and the residual."""

    key = "flux"
    section = "Capture"
    fields = (Entry("turns", "Turns counted", width=116, plain=True, tip=_TURNS),)
