"""Drive, commissioning: what comes next in putting the drive into service?"""

from __future__ import annotations

import math

from PySide6.QtWidgets import QLineEdit, QPushButton

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.waypoints.drive.watched import WatchedPage
from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.app.widgets.parts import label
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import CommissioningRecord, LedgerEntry
from crisp_compass.drive.commissioning import (
    Crept,
    Line,
    Look,
    Task,
    creep,
    look,
    plan,
    recorded,
    standing,
    values_to_write,
)
from crisp_compass.drive.conversation import Occupied
from crisp_compass.drive.hand import Hand
from crisp_compass.errors import Refusal

_ACTIONS = {
    "restore": "Restore factory values", "motor": "Write the constants", "limits": "Write the limits", "restart": "Restart the drive", "creep": "Turn slowly each way", "gains": "Write the gains",
}  # fmt: skip
_COLOURS = {"ok": "ink", "wrong": "magenta", "open": "soft"}


class CommissioningPage(WatchedPage):
    """The plan, what each step should read and reads now, and what was done or skipped, with the reason."""

    key = "drive"
    section = "Commissioning"
    question = "What comes next in putting the drive into service?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._tasks: tuple[Task, ...] = ()
        self._crept: Crept | None = None
        self._row = 0
        self._shown: object = None
        self.table = Table("Steps of the commissioning", ("Step", "State", "Should read", "Reads", "min"), widths={0: 230, 1: 74, 3: 280, 4: 44}, row_height=27)  # fmt: skip
        self.table.currentCellChanged.connect(lambda row, *_: self._on_row(row))
        self.table.setMinimumHeight(190)
        self.column.addWidget(self.table, 1)
        self.rows = Rows("This step", prose=True)
        self.column.addWidget(self.rows)
        self.tacho = NumberField("Tachometer", "rpm", width=110)
        self.tacho.setToolTip("What a tachometer at the shaft reads while the drive turns at creep speed")
        self.tacho.moved.connect(self._on_tacho)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("why it is skipped")
        self.reason.setAccessibleName("Reason for skipping")
        self.reason.setMinimumWidth(220)
        self.skip = QPushButton("Skip")
        self.skip.clicked.connect(lambda: self.attempt(self._skip))
        self.again = QPushButton("Open again")
        self.again.clicked.connect(lambda: self._record(None))
        self.act = QPushButton("Do it")
        self.act.clicked.connect(lambda: self.attempt(self._act))
        self.add_fields(self.tacho)
        for widget in (label("Skip, because", "info"), self.reason):
            self.field_row.add(widget)
        self.finish("Done", self.skip, self.again, self.act, self.stop)
        self.session.telemetry.connect(self.follow)
        self.session.values.connect(self.follow)
        self.session.written.connect(lambda _: self.follow())

    # ---- what is asked

    @property
    def task(self) -> Task | None:
        """The step that is marked."""
        return self._tasks[self._row] if self._row < len(self._tasks) else None

    def choose(self, key: str) -> None:
        """Mark a step."""
        row = next((k for k, t in enumerate(self._tasks) if t.key == key), None)
        if row is not None:
            self.table.setCurrentCell(row, 0)

    def _on_row(self, row: int) -> None:
        if row >= 0 and row != self._row:
            self._row = row
            self._shown = None
            self.show_document()

    def _act(self) -> None:
        task, told = self.task, self.session.description
        assert task is not None
        talk = self.session.talk()
        assert told is not None
        if task.action in ("restore", "restart"):
            talk.send(task.action)
            self.session.read_parameters()
            return
        if task.action != "creep":
            talk.write(values_to_write(self.document.bench, told, task.action))
            return
        self.may_move()
        bench = self.document.bench

        def work(hand: Hand, busy: Occupied) -> None:
            busy.tell(creep(hand, bench))

        self.session.occupy(work)
        self.began()

    def _on_tacho(self, value: float) -> None:
        task = self.task
        if task is None or task.key != "creep":
            return
        old = self.document.bench.commissioning.get("creep")
        self._record(CommissioningRecord(done=old.done if old is not None else False, value=None if math.isnan(value) else value, when=now()))

    def on_main(self) -> None:
        """The step is done; what the drive said is kept with it."""
        task = self.task
        if task is None:
            return
        seen = look(task, self.document.bench, self._line(), self._crept)
        if seen.state == "wrong":
            self.refuse(Refusal(f"{task.name} reads {seen.text}", f"it should read {task.should}: mend it, or skip the step with a reason"))
            return
        old = self.document.bench.commissioning.get(task.key)
        self._record(CommissioningRecord(done=True, read=seen.text[:400], value=old.value if old is not None else None, when=now()))

    def _skip(self) -> None:
        reason = self.reason.text().strip()
        if not reason:
            raise Refusal("no reason is given", "say in a few words why the step is skipped")
        self.reason.clear()
        self._record(CommissioningRecord(skipped=reason[:400], when=now()))

    def _record(self, record: CommissioningRecord | None) -> None:
        task = self.task
        if task is None:
            return

        def make(bench: Bench) -> Bench:
            changed = recorded(bench, task.key, record)
            if record is None or not (record.done or record.skipped):
                return changed
            text = f"{task.name}: {'done' if record.done else 'skipped'}{f', {record.skipped or record.read}' if record.skipped or record.read else ''}"
            return changed.model_copy(update={"ledger": (*bench.ledger, LedgerEntry(when=record.when, kind="drive", text=text[:400]))})

        if self._change(make, "commissioning") and record is not None and (record.done or record.skipped):
            following = standing(self.document.bench, self._tasks)[2]
            if following is not None:
                self.choose(following.key)

    # ---- what comes back

    def take(self, told: object) -> None:
        """Take what a slow turn read."""
        if isinstance(told, Crept):
            self._crept = told

    def _on_freed(self, refused: str) -> None:
        if refused and self.mine and self.isVisible():
            self.refused.emit(refused)
        super()._on_freed(refused)

    # ---- what is shown

    def _line(self) -> Line | None:
        session = self.session
        if session.state != "connected" or session.description is None:
            return None
        return Line(session.description, session.held, session.now)

    def refresh(self) -> None:
        bench, line, busy = self.document.bench, self._line(), self.session.busy
        self._tasks = plan(bench, line)
        looks = [look(t, bench, line, self._crept) for t in self._tasks]
        task = self.task
        shown = (self._tasks, tuple(looks), bench.commissioning, self._row, line is not None, busy)
        if shown == self._shown:
            return  # twenty times a second nothing changes
        first, self._shown = self._shown is None, shown
        self.table.blockSignals(True)
        self.table.show_rows([self._cells(t, seen, bench.commissioning.get(t.key)) for t, seen in zip(self._tasks, looks, strict=True)])
        if first or self.table.currentRow() != self._row:
            self.table.setCurrentCell(self._row, 0)
        self.table.blockSignals(False)
        done, skipped, following = standing(bench, self._tasks)
        head = following.name if following is not None else "In service"
        rest = f"{done} done" + (f", {skipped} skipped" if skipped else "") + f" of {len(self._tasks)}, {sum(t.minutes for t in self._tasks if t.key not in bench.commissioning)} minutes to go"
        self.answer.show_answer(head, rest if following is not None else f"{done} done{f', {skipped} skipped with a reason' if skipped else ''}")
        self.findings.show_findings(())
        record = bench.commissioning.get(task.key) if task is not None else None
        assert self.main_button is not None
        self.main_button.setEnabled(task is not None and not busy)
        self.again.setEnabled(record is not None)
        self.act.setText(_ACTIONS.get(task.action, "Nothing to do from here") if task is not None else "")
        self.act.setEnabled(task is not None and bool(task.action) and line is not None and not busy)
        self.stop.setEnabled(busy)
        self.tacho.setVisible(task is not None and task.key == "creep")
        self.tacho.show_value(record.value if record is not None and task is not None and task.key == "creep" else None)
        self.offer_stop(on=busy)
        if task is not None:
            rows = [("Do", task.do), ("Clear", task.clear or "–"), ("Reads", looks[self._row].text or "only a person can tell")]
            self.rows.show_rows(rows, heading=task.name)

    def _cells(self, task: Task, seen: Look, record: CommissioningRecord | None) -> list[Cell]:
        state = "done" if record is not None and record.done else "skipped" if record is not None and record.skipped else ""
        text = record.skipped if record is not None and record.skipped else seen.text or (record.read if record is not None else "")
        return [
            Cell(task.name, tip=task.do), Cell(state, "ink" if state == "done" else "ochre", bold=bool(state)), Cell(task.should, "soft", tip=task.should),
            Cell(text, _COLOURS[seen.state], bold=seen.state == "wrong", tip=text), Cell(str(task.minutes), "soft", right=True),
        ]  # fmt: skip
