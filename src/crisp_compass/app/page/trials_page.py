"""The shape of a page of trials: which gains were tried, how did they do, and what next?"""

from __future__ import annotations

import math
from typing import ClassVar

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QGridLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.theme import font
from crisp_compass.app.widgets.answer import Waiting
from crisp_compass.app.widgets.parts import Text, frame, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.trials import TrialRow, Trials
from crisp_compass.errors import Refusal
from crisp_compass.quantities import grouped, show
from crisp_compass.views.picture import DialView

_LINES = 12
_HEADS = ("trial", "Kp", "Ki", "bandwidth", "margin", "rise", "overshoot", "within ±5 %", "rings at")


class TrialsPage(Page):
    """The list of trials, their steps on top of each other, and advice for the next one; ``trials`` says of which loop."""

    section = "Trials"
    question = "Which gains were tried, and what next?"
    arranges_fields = True
    trials: ClassVar[Trials]

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.rows: list[TrialRow] = []
        self.plot = Plot(("time from the step", "s"), ("part of the step", ""), name="steps of all trials")
        for k in range(_LINES):
            self.plot.curve(f"trial {k + 1}", "soft", width=1.2)
        self.plot.curve("last", "magenta", width=2.4, title="last trial")
        self.plot.rule(y=1.0, token="ink", dash="dash")
        sheet = frame("sheet")
        self.grid = QGridLayout(sheet)
        self.grid.setContentsMargins(14, 8, 14, 8)
        self.grid.setVerticalSpacing(2)
        self.cells: list[list[Text]] = []
        for column, text in enumerate(_HEADS):
            side = Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight
            self.grid.addWidget(label(text, "label"), 0, column, side)
        area = QWidget()
        column_box = QVBoxLayout(area)
        column_box.setContentsMargins(0, 0, 0, 0)
        column_box.setSpacing(8)
        column_box.addWidget(self.plot, 1)
        column_box.addWidget(sheet)
        self.waiting = Waiting()
        self.stack = QStackedWidget()
        self.stack.addWidget(self.waiting)
        self.stack.addWidget(area)
        self.column.addWidget(self.stack, 1)
        self.automatic = QCheckBox("found by the drive itself")
        self.add_fields(*self._fields.values())
        self.field_row.add(self.automatic)
        self.clear = QPushButton("Clear list")
        self.clear.clicked.connect(
            lambda: self._change(lambda bench: bench.model_copy(update={self.trials.kept_in: ()}), "clear trials")
        )
        self.finish("Add trial", self.clear)

    def refresh(self) -> None:
        bench = self.seen
        self.show_dial(DialView(caption="Small steps, look for ringing, come down", rotor=35.0, current=(125.0, 0.6)))
        self.clear.setEnabled(bool(getattr(bench, self.trials.kept_in)))
        assert self.main_button is not None
        try:
            self.check_ready(self.waiting, self.stack)
            self.rows = self.trials.rows(bench)
            text, findings = self.trials.advise(bench, self.rows)
        except Refusal as refusal:
            self.main_button.setEnabled(False)
            self.answer.show_answer("Not yet", "", refusal.sentence, stale=True)
            self.findings.show_findings(())
            return
        self.main_button.setEnabled(True)
        self.findings.show_findings(findings)
        count = len(self.rows)
        self.answer.show_answer(f"{count} trial{'s' if count != 1 else ''}" if count else "No trial yet", "", text)
        self._draw()
        self._fill()

    def _draw(self) -> None:
        for k in range(_LINES):
            row = self.rows[k] if k < len(self.rows) - 1 else None
            self.plot.set(f"trial {k + 1}", row.time if row else [], row.response if row else [])
        last = self.rows[-1] if self.rows else None
        stable = last is not None and (last.margins.stable or last.kind == "measured")
        self.plot.set("last", last.time if last and stable else [], last.response if last and stable else [])
        self.plot.fit()

    def _fill(self) -> None:
        while len(self.cells) < len(self.rows):
            cells = [Text() for _ in _HEADS]
            for column, cell in enumerate(cells):
                side = Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight
                self.grid.addWidget(cell, len(self.cells) + 1, column, side)
            self.cells.append(cells)
        for k, cells in enumerate(self.cells):
            for cell in cells:
                cell.setVisible(k < len(self.rows))
            if k >= len(self.rows):
                continue
            for cell, text in zip(cells, self._texts(k), strict=True):
                cell.setText(text)
                cell.setFont(font(13, bold=k == len(self.rows) - 1))

    def _texts(self, k: int) -> tuple[str, ...]:
        row, (kp, ki, size) = self.rows[k], self.trials.units
        figures, m = row.figures, row.margins
        at = "" if not row.at else f" at {show(row.at, size, 2)}" if size != "rpm" else f" at {grouped(row.at * RPM_PER_RAD_S)} rpm"
        told = m.stable or row.kind == "measured"
        return (
            f"{k + 1}  {row.kind}{at}", show(row.kp, kp), show(row.ki, ki), show(row.bandwidth_hz, "Hz"),
            f"{m.phase_margin_deg:.0f}°" if m.stable else "unstable", show(figures.rise, "s") if math.isfinite(figures.rise) else "–",
            f"{figures.overshoot:.0f} %" if told else "–", show(figures.settling, "s") if math.isfinite(figures.settling) else "–",
            show(figures.ringing, "Hz") if figures.ringing else "–",
        )  # fmt: skip

    def on_main(self) -> None:
        automatic = self.automatic.isChecked()
        self._change(lambda bench: self.trials.add(bench, now(), automatic), "add trial")
