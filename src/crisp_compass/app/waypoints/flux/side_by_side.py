"""Flux, side by side."""

from __future__ import annotations

from typing import ClassVar

from crisp_compass.app.page.agreement import AgreementPage, tuned


class FluxAgreement(AgreementPage):
    """ψ of plate, captures and auto-tune."""

    key = "flux"
    constants = ("flux_linkage",)
    channels: ClassVar[dict[str, str]] = {"v_gain": "Volts, u"}
    fields = tuned("flux", "Wb")
    question = "Do all values of the flux agree?"
