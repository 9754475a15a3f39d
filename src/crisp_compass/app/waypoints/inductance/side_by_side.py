"""Inductance, side by side."""

from __future__ import annotations

from crisp_compass.app.page.agreement import AgreementPage, tuned


class InductanceAgreement(AgreementPage):
    """Ld and Lq of plate, captures and auto-tune."""

    key = "inductance"
    constants = ("ld", "lq")
    fields = tuned("inductance", "H")
    question = "Do all values of the inductance agree?"
