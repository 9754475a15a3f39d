"""Commutation, alignment: where is the encoder's zero, by a current held at known angles?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from PySide6.QtWidgets import QPushButton

from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.outlook_page import OutlookPage
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import Evaluated
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically
from crisp_compass.motor import pole_pairs_of
from crisp_compass.studies.zero_search import AlignOutlook, align_outlook, align_table
from crisp_compass.views.alignment import expected, pane, said_with
from crisp_compass.views.picture import Pane, Said


class AlignPage(OutlookPage):
    """How far short of the field the rotor rests, from both sides; what current and angles to use."""

    key = "commutation"
    section = "Alignment"
    question = "Where is the encoder's zero, by a held current?"
    caution = "The rotor jumps to the field: clamp the motor, load off the shaft (a hoist blocked mechanically), hands clear. The held current heats one winding: only seconds at a time."
    fields = (
        Entry("lag", "Lag allowed", "deg", width=104, tip="How far friction may hold the rotor short of the field"),
        Entry("sensor.counts_per_rev", "Counts a turn", width=108, tip="Encoder counts of one turn at ×4"),
    )

    def buttons(self) -> Sequence[QPushButton]:
        self.write_button = QPushButton("Write table…")
        self.write_button.setToolTip("A table of the angles to hold, to fill in and to drop here")
        self.write_button.clicked.connect(self._ask_table)
        return (self.write_button,)

    def work_out(self, bench: Bench) -> AlignOutlook:
        return align_outlook(bench)

    def rests_on(self, bench: Bench) -> object:
        return bench.settings.commutation.lag

    def said(self, evidence: Evidence | None) -> Said:
        self.write_button.setEnabled(self.outlook is not None)
        said = said_with(self.seen, evidence, self.outlook)
        if evidence is None and self.why_not:
            return replace(said, reason=f"{self.why_not} Then current and angles are proposed.")
        return said

    def panes(self, evaluated: Evaluated | None) -> Sequence[Pane]:
        found = super().panes(evaluated) or (pane(),)
        if self.outlook is None:
            return found if evaluated is not None else ()
        return (replace(found[0], curves=(expected(self.outlook), *found[0].curves)),)

    def _ask_table(self) -> None:
        start = self.document.base / "alignment.csv"
        path = ask_save_path(self, "Write table", start, "Tables (*.csv)", suffixes=(".csv",))
        if path is not None:
            self.write_table(path)

    def write_table(self, path: Path) -> None:
        """Write the table to fill in."""
        if self.outlook is None:
            return
        try:
            write_atomically(path, align_table(self.outlook, pole_pairs_of(self.seen.settings.plate)))
        except Refusal as refusal:
            self.refuse(refusal)
