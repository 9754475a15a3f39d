"""Motion, points: can the motor run this table, and how long does a cycle take?"""

from __future__ import annotations

import math
from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar

from PySide6.QtCore import QEvent, QObject
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QFileDialog, QPushButton, QTableWidgetItem, QWidget

from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.points import reader, rows_of, with_rows
from crisp_compass.errors import Refusal
from crisp_compass.files import read_text, write_atomically
from crisp_compass.motion.points import COLUMNS, Row, read_table, write_table
from crisp_compass.quantities import show
from crisp_compass.studies.cycle import Cycle, Run, cycle_of, run_table
from crisp_compass.views.picture import DialView

_KEYS = (*COLUMNS, "begins", "needs", "there")
_HEADS = ("row", "target\nturn", "kind", "speed\nrpm", "acc.\nrad/s²", "dwell\ns", "next", "limit\nN·m", "branch", "begins\ns", "takes\nN·m", "has\nN·m")


def _short(text: str) -> str:
    """Return a figure as it fits a column; the table keeps all of it."""
    try:
        return f"{float(text):.5g}"
    except ValueError:
        return text


class PointsPage(PlayedPage):
    """The rows, editable as a spreadsheet's, each with the torque that it takes and what there is; the cycle run by the simulated drive."""

    key = "motion"
    section = "Points"
    question = "Does the motor run this table, and how long does a cycle take?"
    has_dial = False
    dial: ClassVar[DialView] = DialView()
    fields = (
        Entry("low", "Least place", "turn", width=100, tip="Below which no point may lie; any if empty"),
        Entry("high", "Largest place", "turn", width=104, tip="Above which no point may lie; any if empty"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.run: Run | None = None
        self.plot = Plot(("time", "s"), ("place", "turns"), name="place over the cycle")
        self.plot.curve("profile", "ink", width=1.2, dash="dash", title="profile")
        self.plot.curve("shaft", "magenta", width=2.0, title="shaft, simulated")
        self.table = Table("points", _HEADS, widths={0: 34, 1: 64, 2: 40, 3: 62, 4: 62, 5: 48, 6: 42, 7: 50, 8: 54, 9: 58, 10: 58}, row_height=24)
        self.table.itemChanged.connect(self._on_typed)
        self.table.installEventFilter(self)
        self.rows = Rows("The cycle", width=250)
        self.column.addWidget(beside(QWidget(), (self.plot, self.table), (self.rows,), (4, 5)), 1)
        buttons = []
        for text, slot, tip in (
            ("Add row", self._on_add, "Below the marked one, or at the end"), ("Take out", self._on_take_out, "The marked rows"), ("Import…", self._on_import, "A table with commas, semicolons or tabs; Ctrl+V pastes one"),
            ("Export…", self._on_export, "As CSV; Ctrl+C copies the marked rows"),
        ):  # fmt: skip
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(slot)
            buttons.append(button)
        self.finish("", *buttons)

    # ---- what is typed

    def _texts(self) -> list[list[str]]:
        return [line.split(",") for line in write_table(rows_of(self.seen)).splitlines()[1:]]

    def _on_typed(self, item: QTableWidgetItem) -> None:
        at, column = item.row(), item.column() - 1
        texts = self._texts()
        if not 0 <= column < len(COLUMNS) or at >= len(texts):
            return
        texts[at][column] = item.text().strip().replace(",", ".")
        self._enter(lambda bench: read_table("\n".join("\t".join(t) for t in texts), reader(bench)), "edit point")

    def _enter(self, rows: Callable[[Bench], list[Row]], text: str) -> None:
        self._change(lambda bench: with_rows(bench, rows(bench)), text)

    def _on_add(self) -> None:
        rows = rows_of(self.seen)
        marked = self.table.marked()
        at = marked[-1] + 1 if marked else len(rows)
        rows.insert(at, Row(rows[at - 1].target if at else 0.0))
        self._enter(lambda _: rows, "add point")
        self.table.setCurrentCell(at, 1)

    def _on_take_out(self) -> None:
        gone = set(self.table.marked())
        rows = [r for k, r in enumerate(rows_of(self.seen)) if k not in gone]
        if gone:
            self._enter(lambda _: rows, "take out points")

    def take(self, path: Path) -> None:
        """Take the table of a file in the place of this one."""
        try:
            text = read_text(path)
        except OSError as error:
            self.refuse(Refusal(f"it cannot be read ({error.strerror})", "choose another file", where=path.name))
            return
        try:
            rows = read_table(text, reader(self.seen))
        except Refusal as refusal:
            self.refuse(refusal.at(path.name))
            return
        self._enter(lambda _: rows, f"points of {path.name}")

    def _on_import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A table of points", str(self.document.base), "Tables (*.csv *.tsv *.txt);;All files (*)")
        if name:
            self.take(Path(name))

    def _on_export(self) -> None:
        path = ask_save_path(self, "Save the points", self.document.base / "points.csv", "Tables (*.csv)", suffixes=(".csv",))
        if path is not None:
            write_atomically(path, write_table(rows_of(self.seen)))
            self.done.emit(f"saved as {path.name}")

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.table and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.matches(QKeySequence.StandardKey.Paste):
                text = QGuiApplication.clipboard().text()
                self._enter(lambda bench: rows_of(bench) + read_table(text, reader(bench)), "paste points")
                return True
            if event.matches(QKeySequence.StandardKey.Copy):
                rows = rows_of(self.seen)
                marked = self.table.marked() or range(len(rows))
                QGuiApplication.clipboard().setText(write_table([rows[k] for k in marked]))
                return True
            if event.matches(QKeySequence.StandardKey.Delete):
                self._on_take_out()
                return True
        return super().eventFilter(watched, event)

    # ---- what is shown

    def question_for(self, bench: Bench) -> Callable[[], Any]:
        def work() -> tuple[Cycle, Run | None]:
            found = cycle_of(bench)
            fails = any(f.level == "stop" for f in found.findings)
            return found, None if fails or found.seconds > 90.0 else run_table(bench, found)

        return work

    def rests_on(self, bench: Bench) -> object:
        s = bench.settings
        return (super().rests_on(bench), bench.points, s.motion, s.stepping, s.current_loop, s.coupling, s.bus, s.pwm, s.limits, s.supply, s.heat, s.resistance)

    def refresh(self) -> None:
        self._fill(None)
        super().refresh()

    def _fill(self, found: Cycle | None) -> None:
        steps = {s.index: s for s in found.steps} if found is not None else {}
        shown = []
        for k, texts in enumerate(self._texts()):
            step = steps.get(k)
            bad = step is not None and bool(step.reason)
            tip = f"Row {k + 1} {step.reason}" if step is not None and step.reason else ""
            told = ("", "", "") if step is None else (f"{step.begin:.3f}", f"{step.needed:.3g}" if step.move.distance else "–", f"{step.there:.3g}" if step.move.distance else "–")
            shown.append([
                Cell(str(k + 1), "brick" if bad else "ink", bold=bad, tip=tip), *(Cell(_short(t), editable=True, right=n not in (1,), tip=tip or t * (_short(t) != t)) for n, t in enumerate(texts)),
                *(Cell(t, "brick" if bad else "soft", right=True, tip=tip) for t in told),
            ])  # fmt: skip
        self.table.show_rows(shown)

    def show_found(self) -> None:
        found, self.run = self.found
        self._fill(found)
        turn = 2 * math.pi
        if self.run is not None:
            self.plot.set("profile", self.run.time, self.run.wanted / turn)
            self.plot.set("shaft", self.run.time, self.run.angle / turn)
        else:
            self.plot.set("profile", found.time, found.position / turn)
            self.plot.set("shaft", [], [])
        self.plot.keep_in_view()
        bad = [s for s in found.steps if s.reason]
        failing = self.table.item(bad[0].index, 0) if bad else None
        if failing is not None:
            self.table.scrollToItem(failing)
        run = self.run
        if bad:
            head, rest = f"row {bad[0].index + 1} fails", f"{bad[0].reason}" + (f"; {len(bad) - 1} more rows fail" if len(bad) > 1 else "")
        elif run is not None and run.lost:
            head, rest = f"{abs(run.lost)} steps lost", "in one cycle: the field is where it is commanded, the shaft is not"
        elif run is not None and run.fault:
            head, rest = "trips", run.fault
        else:
            head, rest = show(found.seconds, "s", 4), f"a cycle of {len(found.steps)} rows"
        self.answer.show_answer(head, rest, self.stale_text() or ("One cycle of the simulated drive with the load of the run leg." if run is not None else "The cycle by its profiles."), stale=bool(self.stale_text()))
        self.findings.show_findings(found.findings)
        worst = min((s.there / s.needed for s in found.steps if s.move.distance and s.needed > 0), default=math.inf)
        self.rows.show_rows([
            ("cycle", show(found.seconds, "s", 4)), ("rows that run", f"{len(found.steps)} of {len(rows_of(self.seen))}"), ("ends in", "a ring" if found.order.ring else "its last row"),
            ("rms torque", show(found.rms, "N·m", 3)), ("that may last", show(found.lasting, "N·m", 3)), ("peak torque", show(found.peak, "N·m", 3)),
            *((("winding, cycle after cycle", (f"{found.winding:.0f} °C" if math.isfinite(found.winding) else "without end") + (f" of {found.limit:.0f}" if math.isfinite(found.limit) else "")),) if not math.isnan(found.winding) else ()),
            ("there over needed", f"{worst:.2g} times" if math.isfinite(worst) and worst < 1e3 else "plenty"), ("braking gives back", show(found.braking, "J", 3)),
            *((("off after a dwell", show(max((abs(x) for x in run.off), default=0.0), "deg", 2)),) if run is not None else ()),
            *((("steps lost", str(abs(run.lost))),) if run is not None and steps_open(self.seen) else ()),
            ("fastest row", f"{max(s.move.trapezoid.peak_speed for s in found.steps) * RPM_PER_RAD_S:.0f} rpm"),
        ])  # fmt: skip
