"""Mechanics: what are inertia and friction?"""

from __future__ import annotations

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry


class MechanicsPage(CapturePage):
    """Run-up and coast with the fitted speed; until a capture is settled the plate's figures stand in."""

    key = "mechanics"
    section = "Capture"
    fields = (
        Entry("plate.inertia", "Plate: inertia", "kg·m²", width=150, plain=True),
        Entry("plate.viscous", "viscous friction", "N·m·s/rad", width=140),
        Entry("plate.coulomb", width=118),
    )
