"""Commutation, alignment: where is the encoder's zero, by a current held at known angles?"""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from PySide6.QtWidgets import QPushButton, QWidget

from crisp_compass.app.dial import DialView
from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.outlook_page import OutlookPage
from crisp_compass.app.widgets.parts import beside, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.commutation.alignment import AlignmentResult
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.quantities import show
from crisp_compass.studies.zero_search import AlignOutlook, align_outlook, align_table

_SETTLED = ("counts_per_rev", "direction", "zero_offset", "offset_counts")
_CAUTION = "The rotor jumps to the field: clamp the motor, load off the shaft (a hoist blocked mechanically), hands clear. The held current heats one winding: only seconds at a time."


class AlignPage(OutlookPage):
    """How far short of the field the rotor rests, from both sides; what current and angles to use."""

    key = "commutation"
    section = "Alignment"
    question = "Where is the encoder's zero, by a held current?"
    fields = (
        Entry("lag", "Lag allowed", "deg", width=104, tip="How far friction may hold the rotor short of the field"),
        Entry("sensor.counts_per_rev", "Counts a turn", width=108, tip="Encoder counts of one turn at ×4"),
    )

    def build(self, area: QWidget) -> None:
        self.plot = Plot(("field, electrical", "°"), ("rotor rests at", "° from zero"), name="rest against field")
        self.plot.curve("expected", "soft", symbol="o", size=6, hollow=True)
        self.plot.curve("below", "deep", symbol="t1", size=10, title="approached from below")
        self.plot.curve("above", "magenta", symbol="t", size=10, title="approached from above")
        self.plot.rule(y=0.0, token="line")
        self.rows = Rows("What to do, what to expect", width=330)
        beside(area, (self.plot,), (self.rows,))

    def build_fields(self) -> None:
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        self.column.addWidget(caution)
        self.write_button = QPushButton("Write table…")
        self.write_button.setToolTip("A table of the angles to hold, to fill in and to drop here")
        self.write_button.clicked.connect(self._ask_table)

    def finish(self, main_text: str = "", *others: QPushButton) -> None:
        super().finish(main_text, self.write_button, *others)

    def work_out(self, bench: Bench) -> AlignOutlook:
        return align_outlook(bench)

    def rests_on(self, bench: Bench) -> object:
        return bench.settings.commutation.lag

    def on_outlook(self, outlook: AlignOutlook) -> None:
        self.outlook = outlook
        field, half = np.degrees(outlook.fields), math.degrees(outlook.lag)
        side = np.concatenate([[0.0], np.sign(np.diff(field))])
        self.plot.set("expected", field[1:], -half * side[1:])
        if self.evidence() is None:
            self.plot.fit()
        self.show_texts()

    def on_no_outlook(self, refusal: Refusal) -> None:
        self.outlook = None
        self.plot.set("expected", [], [])
        self.show_texts()
        if self.evidence() is None:
            self.answer.show_answer(
                "No positions yet", "", f"{refusal.sentence} Then current and angles are proposed."
            )

    def show_texts(self) -> None:
        evidence = self.evidence()
        assert self.main_button is not None
        self.main_button.setEnabled(evidence is not None)
        self.main_button.setText("Settle zero…")
        self.write_button.setEnabled(self.outlook is not None)
        self.findings.show_findings(findings_of(evidence) if evidence else ())
        self._show_rows()
        if evidence is None:
            self.show_dial(DialView(caption="The rotor follows the held field", rotor=0.0, current=(0.0, 1.0)))
            if self.outlook is not None:
                places = (len(self.outlook.fields) + 1) // 2
                self.answer.show_answer(
                    f"Hold {show(self.outlook.current, 'A', 2)}",
                    f"at {places} angles of one turn, up and back",
                    "Fill the table in with the encoder's angle at each rest and drop it here.",
                )
            return
        found = evidence.estimates
        zero, counts = found["zero_offset"], found["counts_per_rev"].value
        assert zero.interval95 is not None
        half = (zero.interval95[1] - zero.interval95[0]) / 2
        sense = "rises" if found["direction"].value > 0 else "falls"
        self.answer.show_answer(
            f"{math.degrees(zero.value):.2f}°",
            f"±{math.degrees(half):.2f}° electrical where the encoder reads zero",
            f"θe is 0 at count {found['offset_counts'].value:.1f} of {counts:.0f}; the count {sense} when the motor turns A → B → C. {evidence.method}.",
        )
        self.show_dial(
            DialView(
                caption=f"At count 0 the rotor's flux lies at {math.degrees(zero.value):.1f}°",
                rotor=math.degrees(zero.value),
            )
        )

    def _show_rows(self) -> None:
        bench, evidence = self.seen, self.evidence()
        p = pole_pairs_of(bench.settings.plate)
        rows = []
        if self.outlook is not None:
            rows += [
                ("current proposed", show(self.outlook.current, "A")),
                ("set by", self.outlook.why),
                ("friction leaves", f"{math.degrees(self.outlook.lag):.1f}° each side"),
                ("most that is sensible", show(self.outlook.limit, "A")),
            ]
        if evidence is not None and "friction_lag" in evidence.estimates:
            lag = evidence.estimates["friction_lag"]
            rows.append(("friction found", f"{math.degrees(lag.value):.1f}° each side"))
        counts = bench.settings.sensor.counts_per_rev
        rows.append(("counts, electrical turn", f"{counts / p:.4g}"))
        rows += family_of(bench).encoder_rows(bench.settings.plate, counts)
        note = (
            "Angles come from below (▲) and from above (▼): half their distance is friction, their middle the zero."
        )
        self.rows.show_rows(rows, note=note)

    def draw(self, evaluated: Evaluated) -> None:
        result = evaluated.result
        if not isinstance(result, AlignmentResult):
            return
        field, rest = np.degrees(result.commanded), -np.degrees(result.lag)
        for key, sign in (("below", 1), ("above", -1)):
            chosen = result.side == sign
            self.plot.set(key, field[chosen], rest[chosen])

    def _show_plots(self, evaluated: Evaluated | None) -> None:
        if evaluated is not None:
            super()._show_plots(evaluated)
            return
        for key in ("below", "above"):
            self.plot.set(key, [], [])

    def _ask_table(self) -> None:
        start = self.document.base / "alignment.csv"
        path = ask_save_path(self, "Write table", start, "Tables (*.csv)", (".csv",))
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
