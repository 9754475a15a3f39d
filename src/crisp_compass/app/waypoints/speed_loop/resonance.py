"""Speed loop, resonance: how does the shaft twist, and what keeps the loop calm on it?"""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

from PySide6.QtWidgets import QPushButton

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import Evaluated
from crisp_compass.course.resonance import proposed_notch, taken, with_notch
from crisp_compass.errors import Refusal
from crisp_compass.views.picture import Pane, Said
from crisp_compass.views.resonance import loop_pane


class ResonancePage(CapturePage):
    """The measured response with its model, the open loop on this shaft; what is taken into the simulation, and the filters of the torque current."""

    key = "speed_loop"
    section = "Resonance"
    settles = False
    always_plots = True
    question = "How does the shaft twist, and what keeps the loop calm on it?"
    caution = "Shaking a shaft at its resonance can break a coupling and loosen what hangs on it: begin small, people clear, an emergency stop within reach; follow your local rules."
    fields = (
        Entry("coupling.resonance_hz", "Resonance", "Hz", width=100, group="Shaft", tip="Where motor and load swing against each other, in the simulated drive and the design; rigid if empty"),
        Entry("coupling.load_share", "Load's share", "%", width=100, group="Shaft", tip="Part of the whole inertia that stands behind the coupling; rigid if empty"),
        Entry("coupling.damping", width=80, plain=True, group="Shaft", tip="Damping ratio of the resonance: 0.01 to 0.05 is usual of steel couplings (common practice)"),
        Entry("coupling.backlash", "Play", "deg", width=84, group="Shaft", tip="Whole backlash of the coupling at the motor's shaft, in the simulated drive only: the linear design does not know it"),
        Entry("low_pass_hz", width=92, group="Torque current", tip="Corner of a low-pass of the torque current; none if empty"),
        Entry("notch_hz", width=92, group="Torque current", tip="Its frequency; none if empty"),
        Entry("notch_width", "wide", "", width=72, plain=True, group="Notch", tip="Width between the −3 dB points over the frequency: wider bears a resonance that moves, and costs more margin"),
        Entry("notch_depth", "left", "%", width=72, group="Notch", tip="What is left at its frequency"),
    )  # fmt: skip

    def build(self) -> None:
        self.take_shaft = QPushButton("Take the shaft")
        self.take_shaft.setToolTip("Let the simulated drive and the design have the shaft that this capture tells")
        self.take_shaft.clicked.connect(self._on_shaft)
        self.take_notch = QPushButton("Take the notch")
        self.take_notch.setToolTip("Put a notch on the resonance; its zeros lie on it")
        self.take_notch.clicked.connect(self._on_notch)

    def buttons(self) -> Sequence[QPushButton]:
        return self.take_shaft, self.take_notch

    def _on_shaft(self) -> None:
        evidence = self.evidence()
        if evidence is not None:
            self._change(lambda bench: taken(bench, evidence), "shaft of the capture")

    def _on_notch(self) -> None:
        def put(bench: Bench) -> Bench:
            notch = proposed_notch(self.seen, self.evidence())
            if notch is None:
                raise Refusal("there is no resonance that a notch of this loop could reach", "load a capture, or enter the resonance")
            return with_notch(bench, notch)

        self._change(put, "notch on the resonance")

    def said(self, evidence: Evidence | None) -> Said:
        try:
            notch = proposed_notch(self.seen, evidence)
        except Refusal:
            notch = None
        self.take_notch.setEnabled(notch is not None)
        self.take_shaft.setVisible(evidence is not None)
        return super().said(evidence)

    def panes(self, evaluated: Evaluated | None) -> Sequence[Pane]:
        shown = list(super().panes(evaluated)) if evaluated is not None else []
        with contextlib.suppress(Refusal):  # the answer says why
            shown.append(loop_pane(self.seen))
        return shown

    def refresh(self) -> None:
        super().refresh()
        s = self.seen.settings
        made_from = (s.coupling, s.speed_loop, self.seen.settled)
        if made_from != getattr(self, "_drawn_for", None):
            self._drawn_for = made_from
            self._draw(self.reading.evaluated)
