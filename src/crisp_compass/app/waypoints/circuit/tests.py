"""Circuit: what two tests of an induction motor say together."""

from __future__ import annotations

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry


class CircuitTestsPage(CapturePage):
    """The newest test's traces under the circuit that both tests make."""

    key = "circuit"
    section = "Tests"
    caution = "Locked rotor: below ten seconds, then let it cool; it heats many times faster than at rated load. After cut-off the terminals keep a voltage."
    fields = (
        Entry(
            "magnetizing_current",
            width=150,
            base="peak",
            tip="What rated voltage and frequency give where empty",
        ),
    )
