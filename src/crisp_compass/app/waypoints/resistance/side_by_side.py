"""Resistance, side by side."""

from __future__ import annotations

from crisp_compass.app.page.agreement import AgreementPage, tuned


class ResistanceAgreement(AgreementPage):
    """R of plate, meter, captures and auto-tune."""

    key = "resistance"
    constants = ("resistance",)
    fields = tuned("resistance", "Ω")
    question = "Do all values of the resistance agree?"
