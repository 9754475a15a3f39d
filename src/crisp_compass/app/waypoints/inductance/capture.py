"""Inductance: how much has one phase?"""

from __future__ import annotations

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.number_field import Choice
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import Evaluated
from crisp_compass.motor import family_of, three_phases
from crisp_compass.views.inductance import SHOWN
from crisp_compass.views.picture import Said

_TIP = "d: rotor aligned to the A–B axis by a current from A to B; q: turned on by 90° electrical. The note “axis” in a capture decides where it goes."


class InductancePage(CapturePage):
    """Steps, the fitted current and its residual; one capture for both axes, or one each for d and q."""

    key = "inductance"
    section = "Capture"
    fields = tuple(
        Entry(pair, f"LCR {pair[0].upper()}–{pair[1].upper()}", "H", width=104, tip="Between two terminals, the rotor left where it stands; all three pairs give Ld and Lq")
        for pair in ("uv", "vw", "wu")
    )

    def build(self) -> None:
        self._kind: str | None = None
        self.shown = Choice("Shown capture", SHOWN, width=140, tip=_TIP)
        self.shown.moved.connect(self._on_shown)
        self.add_fields(self.shown)

    def _on_shown(self, kind: str) -> None:
        self._kind = kind
        self.refresh()

    def evidence(self) -> Evidence | None:
        items = self.seen.evidence.get("inductance", ())
        chosen = [e for e in items if e.kind == self._kind]
        return chosen[-1] if chosen else (items[-1] if items else None)

    def said(self, evidence: Evidence | None) -> Said:
        self.shown.setVisible(len(self.kinds) > 1)
        for pair in self.fields:
            self._fields[pair.setting].setVisible(three_phases(self.seen) and not family_of(self.seen).own_circuit)
        if evidence is not None:
            self.shown.show_value(evidence.kind)
        return super().said(evidence)

    def on_taken(self, evaluated: Evaluated) -> None:
        if evaluated.topic == self.key:
            self._kind = evaluated.kind.key
        super().on_taken(evaluated)
