"""Drive, terminals: what goes where, what the inputs do, and what a broken wire does."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QHBoxLayout, QHeaderView, QMenu, QPushButton, QTableWidgetItem, QVBoxLayout

from crisp_compass.app.document import Document
from crisp_compass.app.page.lists_page import ListsPage, one_of
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.settings.terminals import Axis, DigitalInput, Function, TerminalSettings
from crisp_compass.drive.description import Entry
from crisp_compass.errors import Refusal
from crisp_compass.preparation.terminals import (
    FUNCTIONS,
    GROUPS,
    broken_wire,
    findings_of,
    function_of,
    truth_table,
    with_group,
    with_input,
)
from crisp_compass.quantities import parse

_TERMINAL = ("terminal", "to", "wire", "lug", "torque", "note")
_INPUT = ("terminal", "function", "active")
_AXIS = ("name", "address", "terminated")
_LIVE = 3


class TerminalsPage(ListsPage):
    """Three tables that are typed into (terminals, inputs, drives on the link) and the truth table that the inputs make."""

    key = "drive"
    topic = "terminals"
    section = "Terminals"
    question = "What goes where, and if a wire breaks?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.session = document.drive
        self.terminals = Table("Terminals of the drive", ("Terminal", "Goes to", "Wire, mm²", "Lug", "Torque, N·m", "Note"), widths={0: 56, 2: 74, 3: 52, 4: 88, 5: 64}, row_height=26)
        self.inputs = Table("Digital inputs", ("Input", "Function", "Given by", "Now", "A broken wire"), widths={0: 50, 1: 112, 2: 66, 3: 46}, row_height=26)
        self.truth = Table("Truth table of the inputs", ("The shaft",), row_height=24)
        self.axes = Table("Drives on the link, in the order of the wire", ("Drive on the link", "Address", "Terminated"), widths={1: 84, 2: 96}, row_height=26)
        for table, slot in ((self.terminals, self._on_terminal), (self.inputs, self._on_input), (self.axes, self._on_axis)):
            table.itemChanged.connect(slot)
        row = QHBoxLayout()
        row.setSpacing(8)
        for left, right, (upper, lower) in ((self.terminals, self.axes, (5, 2)), (self.inputs, self.truth, (3, 4))):
            half = QVBoxLayout()
            half.setSpacing(8)
            half.addWidget(left, upper)
            half.addWidget(right, lower)
            row.addLayout(half, 11 if left is self.terminals else 10)
        self.truth.horizontalHeader().setStretchLastSection(True)
        self.column.addLayout(row, 1)
        self.add_group, self.add_input, self.add_axis, self.take_out = QPushButton("Add terminals…"), QPushButton("Add input…"), QPushButton("Add drive"), QPushButton("Take out")
        self._menus = {self.add_group: QMenu(self.add_group), self.add_input: QMenu(self.add_input)}
        for key, (title, _, _) in GROUPS.items():
            self._menus[self.add_group].addAction(title, partial(self._on_group, key))
        for function, name in FUNCTIONS.items():
            self._menus[self.add_input].addAction(name, partial(self._on_add_input, function))
        for opener, menu in self._menus.items():
            opener.clicked.connect(lambda _=False, b=opener, m=menu: m.popup(b.mapToGlobal(QPoint(0, -m.sizeHint().height()))))
        self.add_axis.clicked.connect(self._on_add_axis)
        self.take_out.setToolTip("Takes the marked rows out")
        self.switch = QPushButton("Switch")
        self.switch.setToolTip("Switches the marked inputs of the simulated drive, as a switch on the bench would; a real drive's are switched at the bench")
        self.switch.clicked.connect(lambda: self.attempt(self._on_switch))
        self.session.changed.connect(self._show_live)
        self.take_out.clicked.connect(self._on_take_out)
        self.finish("", self.add_group, self.add_input, self.add_axis, self.take_out, self.switch)
        self.session.telemetry.connect(self._show_live)

    @property
    def _own(self) -> TerminalSettings:
        return self.document.bench.settings.terminals

    # ---- what is changed

    def _on_group(self, key: str) -> None:
        self.change_lists("add terminals", lambda s: with_group(s, key))

    def _on_add_input(self, function: Function) -> None:
        self.change_lists("add an input", lambda s: with_input(s, function))

    def _on_add_axis(self) -> None:
        axes = self._own.axes
        self.add("add a drive", "axes", Axis(name=f"axis {len(axes) + 1}", address=min((axes[-1].address if axes else 0) + 1, 247)))

    def _on_take_out(self) -> None:
        self.take_out_of({"rows": self.terminals.marked(), "inputs": self.inputs.marked(), "axes": self.axes.marked()})

    def _on_switch(self) -> None:
        """Turn the levels of the marked inputs round."""
        word, switches = self._levels(), self._switches()
        marked = [self._own.inputs[n].terminal for n in self.inputs.marked()]
        bits = [int(b) for b, name in (switches.bits or {}).items() if name in marked] if switches is not None else []
        if switches is None or word is None or not bits:
            raise Refusal("no input of the simulated drive is marked", "connect to the simulated drive of this bench, and mark inputs in the table")
        for bit in bits:
            word ^= 1 << bit
        self.session.talk().send(switches.name, float(word))

    def _switches(self) -> Entry | None:
        told = self.session.description if self.session.state == "connected" and self.session.simulated else None
        return next((e for e in told.commands if e.name == "inputs" and e.bits), None) if told is not None else None

    def _levels(self) -> int | None:
        return round(self.session.now["inputs"]) if "inputs" in self.session.now else None

    def _on_terminal(self, item: QTableWidgetItem) -> None:
        field, text = _TERMINAL[item.column()], item.text().strip()
        value: Any = text
        if field in ("wire", "torque"):
            value = (lambda: _figure(text)) if text else (lambda: None)
        self.put("rows", item.row(), field, value)

    def _on_input(self, item: QTableWidgetItem) -> None:
        if item.column() >= len(_INPUT):
            return
        field, text = _INPUT[item.column()], item.text().strip()
        value: Any = text
        if field == "function":
            value = lambda: function_of(text)  # noqa: E731 - asked when it is put, where a refusal is said
        elif field == "active":
            value = lambda: one_of(text, ("high", "low"))  # noqa: E731
        self.put("inputs", item.row(), field, value)

    def _on_axis(self, item: QTableWidgetItem) -> None:
        field, text = _AXIS[item.column()], item.text().strip()
        value: Any = text
        if field == "address":
            value = lambda: int(parse(text, ""))  # noqa: E731
        elif field == "terminated":
            value = lambda: one_of(text, ("yes", "no")) == "yes"  # noqa: E731
        self.put("axes", item.row(), field, value)

    # ---- what is shown

    def refresh(self) -> None:
        s = self._own
        self.terminals.show_rows([[Cell(_text(getattr(r, f)), editable=True, right=f in ("wire", "torque"), tip=_text(getattr(r, f))) for f in _TERMINAL] for r in s.rows])
        self.axes.show_rows([[Cell(x.name, editable=True), Cell(str(x.address), editable=True, right=True), Cell("yes" if x.terminated else "no", editable=True)] for x in s.axes])
        self.inputs.show_rows([self._input_cells(i) for i in s.inputs])
        rows = truth_table(s.inputs)
        heads = [*(i.terminal for i in s.inputs), "The shaft"]
        self.truth.setColumnCount(len(heads))
        self.truth.setHorizontalHeaderLabels(heads)
        for n in range(len(s.inputs)):
            self.truth.horizontalHeader().setSectionResizeMode(n, QHeaderView.ResizeMode.Fixed)
            self.truth.setColumnWidth(n, 58 if len(s.inputs) < 5 else 46)
        self.truth.show_rows([[*(Cell(level or "–", "ink" if level else "soft", centred=True) for level in r.levels), Cell(r.does, bold=True, tip=r.does)] for r in rows])
        unsafe = [i for i in s.inputs if not broken_wire(i)[1]]
        if not s.inputs:
            said = f"{len(s.rows)} terminals written down" if s.rows else "add terminals and inputs below; those of motor and sensor are on Plate, Wiring"
            self.answer.show_answer("No input is assigned", said)
        elif unsafe:
            self.answer.show_answer(f"{len(unsafe)} of {len(s.inputs)} go unseen", f"when their wire breaks: {', '.join(i.terminal for i in unsafe)}", stale=True)
        else:
            self.answer.show_answer("Nothing unsafe", f"when one of the {len(s.inputs)} wires breaks: an open input reads low")
        self.findings.show_findings(tuple(findings_of(self.document.bench)))
        self.take_out.setEnabled(bool(s.rows or s.inputs or s.axes))
        self.switch.setVisible(self._switches() is not None)

    def _input_cells(self, one: DigitalInput) -> list[Cell]:
        text, safe = broken_wire(one)
        return [
            Cell(one.terminal, editable=True), Cell(FUNCTIONS[one.function], editable=True), Cell(one.active, editable=True), Cell(self._live(one), bold=True),
            Cell(text, "soft" if safe else "ochre", bold=not safe),
        ]  # fmt: skip

    def _live(self, one: DigitalInput) -> str:
        """Return the level that the drive tells of an input, by a bit of its telemetry that has the terminal's name."""
        told = self.session.description
        for entry in told.telemetry if told is not None and self.session.state == "connected" else ():
            bit = next((int(b) for b, name in (entry.bits or {}).items() if name.lower() == one.terminal.lower()), None)
            if bit is not None and entry.name in self.session.now:
                return "high" if round(self.session.now[entry.name] / entry.scale) >> bit & 1 else "low"
        return ""

    def _show_live(self) -> None:
        if not self.isVisible():
            return
        self.switch.setVisible(self._switches() is not None)
        for row, one in enumerate(self._own.inputs):
            item, level = self.inputs.item(row, _LIVE), self._live(one)
            if item is not None and item.text() != level:
                blocked = self.inputs.blockSignals(True)
                item.setText(level)
                self.inputs.blockSignals(blocked)


def _text(value: object) -> str:
    return "" if value is None else f"{value:g}" if isinstance(value, float) else str(value)


def _figure(text: str) -> float:
    return parse(text.removesuffix("mm²").removesuffix("N·m").removesuffix("Nm").strip(), "")
