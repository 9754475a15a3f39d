"""Drills: measure, decide, be judged. A window of its own, so that the bench stays as it is."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QButtonGroup,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QPushButton,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.autosave import now
from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.jobs import Job
from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.app.widgets.parts import button, empty, frame, label
from crisp_compass.app.widgets.plot import refusal_text
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically
from crisp_compass.trainer.drill import Case, Drill, Reading, case_of
from crisp_compass.trainer.drills import DRILLS
from crisp_compass.trainer.evidence import evidence_of, next_step
from crisp_compass.trainer.judge import Act, Verdict, dangerous, judge
from crisp_compass.trainer.own import load_drill
from crisp_compass.trainer.progress import Result, as_csv, best, default_file, keep_result, load_results

#: Seeds that are drawn.
_SEEDS = 1_000_000


class DrillsWindow(QDialog):
    """The drills with their best results, the bench of the open one, what can be measured, the notebook, and the conclusion; then the debrief."""

    judged = Signal(object)

    def __init__(self, parent: QWidget | None = None, *, kept_in: Path | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Drills – Crisp Compass")
        self.setWindowFlag(Qt.WindowType.WindowMaximizeButtonHint)
        self.resize(1220, 760)
        self._kept_in = kept_in or default_file()
        self.results = load_results(self._kept_in)
        self.drills: list[Drill] = list(DRILLS)
        self.case: Case | None = None
        self.acts: list[Act] = []
        self.verdict: Verdict | None = None
        self._numbers: dict[str, float] = {}
        self._job = Job(self)
        self._job.done.connect(self._on_judged)
        self._job.refused.connect(self._on_refused)
        self._build()
        for one in self.findChildren(QPushButton):  # Enter belongs to the tables
            one.setAutoDefault(False)
        self._show_list()

    # ---- building

    def _build(self) -> None:
        self.list = Table("Drills", ("drill", "best"), widths={1: 60}, row_height=26)
        self.list.cellActivated.connect(lambda row, _: self.begin(self.drills[row]))
        self.list.cellClicked.connect(lambda row, _: self.begin(self.drills[row]))
        self.title, self.story = label("Choose a drill", "title"), label("Each is a bench with something hidden: measure what tells it, say what it is. A wrong order that can hurt people or parts ends it, as on a bench.", "reason")
        self.story.setWordWrap(True)
        self.can = Table("What can be done", ("by", "what can be done", "min", ""), widths={0: 60, 2: 44, 3: 60}, row_height=25)
        self.can.cellActivated.connect(lambda row, _: self.do(row))
        self.can.cellDoubleClicked.connect(lambda row, _: self.do(row))
        self.notebook = Table("Notebook", ("what was done", "reading"), widths={1: 210}, row_height=25)
        self.debrief = Table("Debrief", ("what was done", "what it made likeliest", "an expert would next"), row_height=25)
        self.debrief.setWordWrap(True)
        self.debrief.hide()
        self.go = button("Do the marked one", "small")
        self.go.clicked.connect(lambda: self.do(self.can.currentRow()))
        self.hint = button("Hint (−8)", "small")
        self.hint.clicked.connect(self.ask_hint)
        for table in (self.list, self.can, self.notebook, self.debrief):
            table.setTabKeyNavigation(False)  # Tab goes on to what is next
        middle = QVBoxLayout()
        middle.setSpacing(8)
        for widget in (self.title, self.story):
            middle.addWidget(widget)
        middle.addWidget(self.can, 5)
        row = QHBoxLayout()
        self.said = label("", "caution")
        self.said.setWordWrap(True)
        row.addWidget(self.said, 1)
        row.addWidget(self.hint)
        row.addWidget(self.go)
        middle.addLayout(row)
        middle.addWidget(self.notebook, 4)
        middle.addWidget(self.debrief, 4)
        outer = QHBoxLayout(self)
        outer.setContentsMargins(14, 14, 14, 12)
        outer.setSpacing(14)
        outer.addLayout(self._build_list())
        outer.addLayout(middle, 1)
        outer.addWidget(self._build_conclusion())

    def _build_list(self) -> QVBoxLayout:
        column = QVBoxLayout()
        self.list.setFixedWidth(330)
        column.addWidget(self.list, 1)
        row = QHBoxLayout()
        for text, act in (("Open own drill…", self._ask_own), ("Export results…", self._ask_export)):
            made = button(text, "small")
            made.clicked.connect(act)
            row.addWidget(made)
        column.addLayout(row)
        return column

    def _build_conclusion(self) -> QWidget:
        panel = frame("sheet")
        panel.setFixedWidth(300)
        column = QVBoxLayout(panel)
        column.setContentsMargins(14, 12, 14, 12)
        column.addWidget(label("What is it?", "heading"))
        self._choices, self._asks = QVBoxLayout(), QVBoxLayout()
        self.group = QButtonGroup(self)
        column.addLayout(self._choices)
        column.addLayout(self._asks)
        self.conclude = button("Conclude", "main")
        self.conclude.setShortcut(QKeySequence("Ctrl+Return"))
        self.conclude.setToolTip("Ctrl+Enter")
        self.conclude.clicked.connect(self.finish)
        self.again = button("Another of these", "small")
        self.again.clicked.connect(self._begin_again)
        self.points, self.why = label("", "answer"), label("", "info")
        self.why.setWordWrap(True)
        for widget in (self.conclude, self.points, self.why, self.again):
            column.addWidget(widget)
        column.addStretch(1)
        for widget in (self.conclude, self.again, self.points):
            widget.hide()
        QShortcut(QKeySequence("Ctrl+H"), self).activated.connect(self.ask_hint)
        return panel

    # ---- showing

    def _show_list(self) -> None:
        rows = []
        for drill in self.drills:
            done = best(self.results, drill.key)
            mark = Cell("–", "soft", right=True) if done is None else Cell(f"{done.points:.0f}", "moss" if done.passed else "ochre", True, right=True, tip="passed" if done.passed else "not passed yet")
            open_ = self.case is not None and self.case.drill is drill
            rows.append((Cell(drill.title, "ink", open_, 12, tip=drill.title), mark))
        self.list.show_rows(rows)

    def begin(self, drill: Drill, seed: int | None = None) -> None:
        """Open a drill on a seed, a new one without."""
        self.case = case_of(drill, int(np.random.default_rng().integers(_SEEDS)) if seed is None else seed)
        self.acts, self.verdict, self._numbers = [], None, {}
        self.title.setText(drill.title)
        self.story.setText(self.case.story)
        self.said.setText("")
        rows = []
        for m in drill.measures:
            power = Cell("power", "brick", False, 12, tip="Needs power: what comes before it comes before") if m.power else Cell("")
            rows.append((Cell(m.tool, "soft", False, 12), Cell(m.title, "ink", False, 13, tip=m.title), Cell(f"{m.minutes:g}", "soft", False, 12, right=True), power))
        self.can.show_rows(rows)
        self.can.resizeRowsToContents()
        self.can.selectRow(0)
        self._fill_conclusion(drill)
        self.notebook.show_rows(())
        self.debrief.hide()
        self.points.hide()
        self.again.hide()
        self.why.setText("")
        self._enable(running=True)
        self._show_list()

    def _begin_again(self) -> None:
        if self.case is not None:
            self.begin(self.case.drill)

    def _fill_conclusion(self, drill: Drill) -> None:
        for old in (*self.group.buttons(), *self.findChildren(NumberField)):
            old.hide()  # Tab finds it no more, though it goes only later
        empty(self._choices)
        empty(self._asks)
        self.group = QButtonGroup(self)
        last: QWidget = self.notebook
        for k, cause in enumerate(drill.causes):
            choice = QRadioButton(cause.text[:1].upper() + cause.text[1:])
            choice.setToolTip(cause.text)
            choice.setMaximumWidth(272)
            choice.toggled.connect(lambda _: self._enable(running=True))
            self.group.addButton(choice, k)
            self._choices.addWidget(choice)
            self.setTabOrder(last, choice)
            last = choice
        for ask in drill.asks:
            number = NumberField(ask.title, ask.unit, width=272, optional=True, tip=f"Right {ask.bound}")
            number.moved.connect(partial(self._on_number, ask.key))
            number.refused.connect(self.said.setText)
            number.mended.connect(lambda: self.said.setText(""))
            self._asks.addWidget(number)
            self.setTabOrder(last, number.edit)
            last = number.edit
        self.conclude.show()
        self.setTabOrder(last, self.conclude)

    def _on_number(self, key: str, value: float) -> None:
        if math.isnan(value):
            self._numbers.pop(key, None)
        else:
            self._numbers[key] = value

    def _enable(self, *, running: bool) -> None:
        running = running and self.verdict is None and self.case is not None
        for widget in (self.go, self.hint, self.can):
            widget.setEnabled(running)
        self.conclude.setEnabled(running and self.group.checkedId() >= 0)

    @property
    def readings(self) -> list[Reading]:
        """What was read so far."""
        return [a.reading for a in self.acts if a.reading is not None]

    # ---- acting

    def do(self, row: int) -> None:
        """Do what a row says and write the reading down."""
        if self.case is None or self.verdict is not None or not 0 <= row < len(self.case.drill.measures):
            return
        measure = self.case.drill.measures[row]
        risky = dangerous(self.case, self.readings, measure.key)
        self.acts.append(Act(self.case.read(measure.key)))
        first = ", ".join(self.case.drill.measure(k).title.lower() for k in self.case.drill.first)
        self.said.setText(f"Dangerous: before power came {first}." if risky else "")
        self._show_notebook()

    def _show_notebook(self) -> None:
        assert self.case is not None
        rows = [(Cell(self.case.drill.measure(r.measure).title, "ink", False, 12, tip=self.case.drill.measure(r.measure).title), Cell(r.text, "deep", True, 13, tip=r.text)) for r in self.readings]
        self.notebook.show_rows(rows)
        self.notebook.scrollToBottom()

    def ask_hint(self) -> None:
        """Say what an expert would do next; it costs."""
        if self.case is None or self.verdict is not None:
            return
        self.acts.append(Act(None, hint=True))
        step = next_step(self.case, self.readings, evidence_of(self.case, self.readings))
        self.said.setText("Hint: the readings show the cause already." if step is None else f"Hint: {step[0].title}. {step[0].sees}")

    def finish(self) -> None:
        """Hand the conclusion to the judge."""
        if self.case is None or self.group.checkedId() < 0 or self.verdict is not None:
            return
        for number in self.findChildren(NumberField):
            if number.edit.hasFocus():
                number.commit()
        case, acts, numbers = self.case, list(self.acts), dict(self._numbers)
        cause = case.drill.causes[self.group.checkedId()].key
        self._enable(running=False)
        self.why.setText("Judging …")
        self._job.ask(lambda: (case, judge(case, acts, cause, numbers)))

    def _on_judged(self, found: tuple[Case, Verdict]) -> None:
        case, verdict = found
        if case is not self.case:
            return
        self.verdict = verdict
        self.points.setText(f"{verdict.points:.0f} of 100")
        self.points.show()
        passed = "Passed. " if verdict.passed else "Not passed. "
        self.why.setText(passed + " ".join(verdict.told) + f" {verdict.minutes:.0f} min; an expert took {verdict.expert_minutes:.0f}.")
        rows = [
            (Cell(m.done, "brick" if m.dangerous else "ink", m.dangerous, 12, tip=m.done), Cell(f"{100 * m.belief:.0f} %  {m.likeliest}", "ink", False, 12, tip=m.likeliest), Cell(m.expert or "conclude", "deep", False, 12, tip=m.expert))
            for m in verdict.moments
        ]  # fmt: skip
        self.debrief.show_rows(rows)
        self.debrief.resizeRowsToContents()
        self.debrief.setVisible(bool(rows))
        self.again.show()
        self.again.setFocus()
        result = Result(drill=case.drill.key, seed=case.seed, when=now(), points=verdict.points, passed=verdict.passed, minutes=verdict.minutes, hints=sum(a.hint for a in self.acts))
        self._attempt(lambda: self._keep(result))
        self._enable(running=False)
        self._show_list()
        self.judged.emit(verdict)

    def _keep(self, result: Result) -> None:
        self.results = [*self.results, result]
        self.results = keep_result(self._kept_in, result)

    def _on_refused(self, refusal: Refusal) -> None:
        self.said.setText(refusal_text(refusal))

    def _attempt(self, act: Callable[[], object]) -> None:
        try:
            act()
        except Refusal as refusal:
            self.said.setText(refusal_text(refusal))

    # ---- files

    def _ask_own(self) -> None:
        text, _ = QFileDialog.getOpenFileName(self, "Open own drill", "", "Drill (*.json)")
        if text:
            self._attempt(lambda: self.take(Path(text)))

    def take(self, path: Path) -> None:
        """Add a drill file to the list and begin it; raises Refusal."""
        drill = load_drill(path)
        self.drills = [d for d in self.drills if d.key != drill.key] + [drill]
        self.begin(drill)

    def _ask_export(self) -> None:
        path = ask_save_path(self, "Export results", Path("drills.csv"), "Table (*.csv)", suffixes=(".csv",))
        if path is not None:
            self._attempt(lambda: write_atomically(path, as_csv(self.results)))
