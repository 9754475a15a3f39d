"""Commutation, encoder: how many counts has a turn, and where is the rotor's zero?"""

from __future__ import annotations

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry

_TIP = "Turns of the shaft by hand over the capture"


class EncoderPage(CapturePage):
    """The running count, what it says of resolution and sense, and the electrical zero on the dial."""

    key = "commutation"
    section = "Encoder"
    question = "How many counts has a turn, and where is the rotor's zero?"
    fields = (Entry("revolutions", "Turns counted", width=116, plain=True, tip=_TIP),)
