"""What the capture sections of the commutation leg share: each shows the newest capture of its own kind."""

from __future__ import annotations

from crisp_compass.app.legs.capture_leg import CaptureLeg
from crisp_compass.bench.models import Evidence
from crisp_compass.voyage.angle_evidence import SECTIONS
from crisp_compass.voyage.evidence import Evaluated


class AngleLeg(CaptureLeg):
    """A capture section of the commutation leg; ``slot`` is the kind of evidence it shows."""

    key = "commutation"
    slot = ""

    def evidence(self) -> Evidence | None:
        """Return the newest capture of this section's kind."""
        items = [e for e in self.document.bench.evidence.get("commutation", ()) if e.slot == self.slot]
        return items[-1] if items else None

    def _on_loaded(self, evaluated: Evaluated) -> None:
        super()._on_loaded(evaluated)
        if evaluated.evidence.slot != self.slot:
            self.section_chosen.emit(SECTIONS[evaluated.evidence.slot])
