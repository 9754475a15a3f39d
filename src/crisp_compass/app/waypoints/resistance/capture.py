"""Resistance: how much has one phase?"""

from __future__ import annotations

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry, Pick


class ResistancePage(CapturePage):
    """Staircase, levels on the fitted line, residual of each level."""

    key = "resistance"
    section = "Capture"
    fields = (
        Entry("temperature", "Winding temperature", "degC", width=124),
        Entry("reference", "Refer to", "degC", width=94),
        Pick("rule", "Copper rule", {"iec": "IEC 235", "ieee": "IEEE 234.5"}, width=124),
        Entry("cable", "Cable, one lead", "Ω", width=116),
    )
