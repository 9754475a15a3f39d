"""Commutation, lead orders: which of the six orders is right, judged from what was seen?"""

from __future__ import annotations

import math
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.widgets.chance_bar import ChanceBar
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.parts import button, frame, label
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.records import Trial
from crisp_compass.course.waypoints.commutation import known_halls
from crisp_compass.errors import Refusal
from crisp_compass.quantities import show
from crisp_compass.studies.lead_orders import (
    ORDERS,
    SEEN,
    ExpectedBehaviour,
    expect_orders,
    rank_orders,
    relative_order,
    set_trial,
    turn_round,
)
from crisp_compass.views.picture import DialView

_OPTIONS: dict[str, str] = {str(key): text for key, text in SEEN.items()}
_HEADS = ("U V W on", "forward", "backward", "current, fwd", "back", "speed, fwd", "back", "chance")
_READ = ("current_forward", "current_backward", "speed_forward", "speed_backward")


class _TrialRow:
    """Widgets of one order."""

    def __init__(self, page: OrdersPage, order: str, grid: QGridLayout, line: int) -> None:
        self.name = label(" ".join(order), "title")
        self.forward = Choice("forward", _OPTIONS, width=108, compact=True)
        self.backward = Choice("backward", _OPTIONS, width=108, compact=True)
        self.readings = tuple(
            NumberField(
                name.rpartition("_")[2],
                "A" if name.startswith("current") else "rpm",
                width=66 if name.startswith("current") else 76,
                optional=True,
                compact=True,
                hint="–",
                tip=f"Supply current at equal speed, {name.rpartition('_')[2]}"
                if name.startswith("current")
                else f"Speed of the shaft, {name.rpartition('_')[2]}",
            )
            for name in _READ
        )
        self.chance = ChanceBar()
        for widget, field in ((self.forward, "forward"), (self.backward, "backward")):
            widget.box.setAccessibleName(f"{order}, {field}: what was seen")
            widget.moved.connect(partial(page.on_seen, order, field))
        for number, field in zip(self.readings, _READ, strict=True):
            number.moved.connect(partial(page.on_reading, order, field))
            number.refused.connect(page.refused)
            number.mended.connect(page.mended)
            number.edit.setAccessibleName(f"{order}, {field.replace('_', ' ')}")
        for column, cell in enumerate((self.name, self.forward, self.backward, *self.readings, self.chance)):
            grid.addWidget(cell, line, column, Qt.AlignmentFlag.AlignVCenter)

    def show_trial(self, trial: Trial, chance: float, best: bool, following: bool) -> None:
        """Show what is logged and how likely this order is right."""
        self.forward.show_value(trial.forward)
        self.backward.show_value(trial.backward)
        for number, field in zip(self.readings, _READ, strict=True):
            number.show_value(getattr(trial, field))
        self.chance.show_chance(chance, best)
        role = "caution" if following else "title"
        if self.name.objectName() != role:
            self.name.setObjectName(role)
            self.name.style().unpolish(self.name)
            self.name.style().polish(self.name)


class OrdersPage(Page):
    """A log of trials; the simulated symptoms of all six orders weigh it."""

    key = "commutation"
    section = "Lead orders"
    question = "Which of the six lead orders is right?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.expected: dict[tuple[int, ...], ExpectedBehaviour] = {}
        self._work = Computation(self, self._on_expected, self._on_refused)
        sheet = frame("sheet")
        grid = QGridLayout(sheet)
        grid.setContentsMargins(14, 6, 14, 6)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(1)
        grid.setColumnStretch(7, 1)
        for column, text in enumerate(_HEADS):
            grid.addWidget(label(text, "label"), 0, column)
        self.rows = {order: _TrialRow(self, order, grid, line) for line, order in enumerate(ORDERS, 1)}
        for line in range(1, 7):
            grid.setRowMinimumHeight(line, 34)
        self.outlook = Rows("", prose=True)
        middle = QVBoxLayout()
        middle.setSpacing(8)
        middle.addWidget(sheet)
        middle.addWidget(self.outlook, 1)
        self.column.addLayout(middle, 1)
        caution = label(
            "Power off, link discharged, before a lead is moved. Set the supply's limit low: a wrong order draws all of it.",
            "caution",
        )
        caution.setWordWrap(True)
        foot = QHBoxLayout()
        foot.addWidget(caution, 1)
        self.clear = button("Clear log", "small")
        self.clear.clicked.connect(self._on_clear)
        foot.addWidget(self.clear, 0, Qt.AlignmentFlag.AlignVCenter)
        self.column.addLayout(foot)

    # ---- log

    def on_seen(self, order: str, field: str, symptom: str) -> None:
        """Keep a symptom."""
        self._change(lambda bench: set_trial(bench, order, now(), **{field: symptom}))

    def on_reading(self, order: str, field: str, value: float) -> None:
        """Keep a current or a speed; an emptied field forgets it."""
        self._change(lambda bench: set_trial(bench, order, now(), **{field: None if math.isnan(value) else value}))

    def _on_clear(self) -> None:
        self._change(lambda bench: bench.model_copy(update={"trials": {}}), "clear trial log")

    # ---- showing

    def refresh(self) -> None:
        bench = self.seen
        inputs = (
            bench.settings.plate,
            {k: s.values for k, s in bench.settled.items() if k in ("resistance", "inductance", "flux", "mechanics")},
        )
        self.show_dial(DialView(caption="A lead order turns the field against the sensor"))
        self.clear.setEnabled(bool(bench.trials))
        if self._work.want(inputs, lambda: expect_orders(bench)):
            self.expected = {}
        self._show()

    def _on_expected(self, expected: dict[tuple[int, ...], ExpectedBehaviour]) -> None:
        self.expected = expected
        self._show()

    def _on_refused(self, refusal: Refusal) -> None:
        self.expected = {}
        self.answer.show_answer("Not yet", "", refusal.sentence, stale=True)

    def _show(self) -> None:
        trials = self.seen.trials
        if not self.expected:
            for order, row in self.rows.items():
                row.show_trial(trials.get(order, Trial()), 1 / 6, False, False)
            self.outlook.show_rows((), heading="Simulating the six orders of this motor …")
            return
        ranking = rank_orders(trials, self.expected)
        best = ranking.best
        for order, row in self.rows.items():
            chance = ranking.probability[order]
            row.show_trial(
                trials.get(order, Trial()), chance, order == best and bool(trials), order == ranking.following
            )
        if trials:
            text = " ".join(f"{lead}→{terminal}" for lead, terminal in zip("UVW", best, strict=True))
            self.answer.show_answer(text, f"right with {100 * ranking.probability[best]:.0f} %", ranking.reason)
        else:
            halls = known_halls(self.seen)
            known = (
                "The hall table under Hand turn already tells the order: a trial would only confirm it. "
                if halls
                else ""
            )
            self.answer.show_answer(
                "No trial yet", "all six orders are equally likely so far", known + ranking.reason
            )
        self.outlook.show_rows(
            [(" ".join(order), self._expected_text(order, best)) for order in ORDERS],
            heading=f"What each order does if {' '.join(best)} is right (simulated, no load)",
            note=turn_round(self.seen),
        )

    def _expected_text(self, order: str, right: str) -> str:
        outlook = self.expected[relative_order(order, right)]
        ahead, back = outlook.symptoms
        seen = f"{SEEN[ahead]} both ways" if ahead == back else f"forward {SEEN[ahead]}, backward {SEEN[back]}"
        return f"{seen}, {show(outlook.currents[0], 'A')} and {show(outlook.currents[1], 'A')}"

    def leave(self) -> None:
        self._work.drop()
