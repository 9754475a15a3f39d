"""Circuit, decay: how fast does the rotor's flux fade?"""

from __future__ import annotations

from crisp_compass.app.page.capture_page import CapturePage


class DecayPage(CapturePage):
    """The open stator's voltage after cut-off."""

    key = "circuit"
    section = "Decay"
    question = "How fast does the rotor's flux fade?"
    settles = False
    caution = "The open terminals carry a voltage as long as the rotor turns and its flux lasts: keep hands off, switch nothing back onto it."
