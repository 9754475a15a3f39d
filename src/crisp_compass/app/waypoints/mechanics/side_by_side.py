"""Mechanics, side by side."""

from __future__ import annotations

from typing import ClassVar

from crisp_compass.app.page.agreement import AgreementPage


class MechanicsAgreement(AgreementPage):
    """J of several run-ups."""

    key = "mechanics"
    constants = ("inertia",)
    channels: ClassVar[dict[str, str]] = {"i_gain": "Amps, u", "speed_gain": "Speed, u"}
    question = "Do all values of the inertia agree?"
