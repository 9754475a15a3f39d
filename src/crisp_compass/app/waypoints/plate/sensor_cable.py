"""Plate, sensor cable: which wire is which?"""

from __future__ import annotations

import math

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.parts import button, frame, label
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import CableWire
from crisp_compass.errors import Refusal
from crisp_compass.preparation.sensor_cable import FRAME, ROLE_NAMES, drop_wire, identify_cable, set_reading
from crisp_compass.quantities import show
from crisp_compass.views.picture import DialView

_SCOPES = {
    "flat": "flat", "square": "square wave", "square-with-pull-up": "square with pull-up", "opposite": "opposite of another", "pulse": "one pulse a turn", "sine": "sine",
}  # fmt: skip
_OPEN = 1e12
_EMPTY = (
    "Coloured wires and no drawing: the roles follow from readings, each of them repeated where it matters.\n\n"
    "1  Resistance of every wire to the motor's frame, then of the wires to each other.\n"
    "2  Diode test between the wires, both ways: it tells 0 V from supply. What is known from a drawing can be entered.\n"
    "3  5 V with a current limit once both are certain, then the scope on what is left, while the shaft is turned by hand."
)


class CablePage(Page):
    """Readings on an unknown cable in; roles, reasons and the next reading out."""

    key = "plate"
    section = "Sensor cable"
    question = "Which wire of the sensor cable is which?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        heads = ("wire", "it is", "read so far", "because")
        self.table = Table("Wires of the sensor cable", heads, widths={0: 90, 1: 150, 2: 230})
        self.table.setWordWrap(True)
        empty = label(_EMPTY, "info")
        empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        empty.setWordWrap(True)
        sheet = frame("sheet")
        QVBoxLayout(sheet).addWidget(empty)
        self.stack = QStackedWidget()
        self.stack.addWidget(sheet)
        self.stack.addWidget(self.table)
        self.column.addWidget(self.stack, 1)
        caution = label(
            "Feed 5 V only where this page names both wires, with a current limit; never a wire that may be an output.",
            "caution",
        )
        caution.setWordWrap(True)
        self.column.addWidget(caution)
        self.wire = Line()
        self.wire.setPlaceholderText("colour")
        self.wire.setAccessibleName("New wire's colour")
        self.wire.setFixedSize(92, 32)
        self.wire.returnPressed.connect(self._on_wire)
        self.first = Choice("Read at", {}, width=98)
        self.other = Choice("against", {FRAME: FRAME}, width=98)
        self.ohms = NumberField("Resistance", "Ω", width=104, optional=True, reading=True, tip="OL or open where the meter shows it")
        self.diode = NumberField(
            "Diode test",
            "V",
            width=92,
            optional=True,
            reading=True,
            tip="Red probe on the first wire, black on the other",
        )
        self.known = Choice(
            "Known as", {"": "–", **ROLE_NAMES}, width=104, tip="A role from a drawing or the drive's terminals"
        )
        self.current = NumberField("Current at 5 V", "A", width=104, optional=True, reading=True)
        self.scope = Choice("Scope shows", {"": "–", **_SCOPES}, width=146)
        self.other_key, self.first_key = FRAME, ""
        self.first.moved.connect(self._on_first)
        self.other.moved.connect(self._on_other)
        self.ohms.moved.connect(self._on_ohms)
        self.current.moved.connect(self._on_current)
        self.diode.moved.connect(self._on_diode)
        self.known.moved.connect(self._on_known)
        self.scope.moved.connect(self._on_scope)
        box = QVBoxLayout()
        box.setSpacing(3)
        box.addWidget(label("Add a wire", "label"))
        box.addWidget(self.wire)
        holder = QWidget()
        holder.setLayout(box)
        box.setContentsMargins(0, 0, 0, 0)
        self.open = button("Open", "small")
        self.open.setToolTip("The meter shows an open circuit between the two")
        self.open.clicked.connect(lambda: self._on_ohms(_OPEN))
        self.blocks = button("Blocks", "small")
        self.blocks.setToolTip("The diode test shows nothing in this direction")
        self.blocks.clicked.connect(lambda: self._on_diode(_OPEN))
        self.remove = button("Remove", "small")
        self.remove.clicked.connect(self._on_remove)
        self.add_fields(holder, self.first, self.other, self.ohms)
        self.field_row.add(self.open)
        self.add_fields(self.diode)
        self.field_row.add(self.blocks)
        self.break_row()
        self.add_fields(self.current, self.scope, self.known)
        self.finish("", self.remove)

    # ---- showing

    def refresh(self) -> None:
        bench = self.document.bench
        answer = identify_cable(bench.cable)
        self.stack.setCurrentIndex(1 if bench.cable else 0)
        names = [w.name for w in bench.cable]
        if self.first_key not in names:
            self.first_key = names[0] if names else ""
        if self.other_key not in (*names, FRAME) or self.other_key == self.first_key:
            self.other_key = FRAME
        self.first.set_options({n: n for n in names} or {"": "–"}, self.first_key)
        self.other.set_options({FRAME: FRAME, **{n: n for n in names if n != self.first_key}}, self.other_key)
        reading = next((w for w in bench.cable if w.name == self.first_key), None)
        stored = reading.ohms.get(self.other_key) if reading else None
        self.ohms.show_value(None if stored is None or stored >= _OPEN else stored)
        tested = reading.diode.get(self.other_key) if reading else None
        self.diode.show_value(None if tested is None or tested >= _OPEN else tested)
        self.known.show_value(reading.known if reading else "")
        self.current.show_value(reading.supply_current if reading else None)
        self.scope.show_value(reading.scope if reading else "")
        for widget in (
            self.first,
            self.other,
            self.ohms,
            self.open,
            self.diode,
            self.blocks,
            self.current,
            self.scope,
            self.known,
            self.remove,
        ):
            widget.setEnabled(bool(names))
        decided = sum(1 for w in answer.wires if w.role)
        if not names:
            self.answer.show_answer(
                "No wire yet",
                "",
                "Type the colour of every wire of the cable, one after the other; the page then says what to measure.",
            )
        elif answer.conflict:
            self.answer.show_answer("Contradiction", "", answer.conflict, stale=True)
        elif answer.complete:
            self.answer.show_answer(
                "All known", f"{decided} wires decided", "Write them into the wiring chart before the cable is moved."
            )
        else:
            said = " ".join(x for x in (f"Next: {answer.next_reading}", answer.doubtful) if x)
            self.answer.show_answer(f"{decided} of {len(names)}", "wires decided", said)
        self._fill(
            bench,
            {
                w.name: (
                    ROLE_NAMES[w.role]
                    if w.role
                    else " or ".join(ROLE_NAMES[r] for r in w.roles)
                    if len(w.roles) < 5
                    else "undecided",
                    "; ".join(w.reasons),
                    bool(w.role),
                )
                for w in answer.wires
            },
        )
        self.show_dial(DialView(caption="Turn the shaft by hand while you look at a channel"))

    def _fill(self, bench: Bench, roles: dict[str, tuple[str, str, bool]]) -> None:
        rows = []
        for wire in bench.cable:
            role, why, decided = roles[wire.name]
            name, read = Cell(wire.name, "ink", True, 13, tip=wire.name), self._read(wire)
            it_is = Cell(role, "magenta" if decided else "soft", decided, 13, tip=role)
            rows.append((name, it_is, Cell(read, "deep", False, 12, tip=read), Cell(why, "soft", False, 12, tip=why)))
        self.table.show_rows(rows)
        names = [wire.name for wire in bench.cable]
        if self.first_key in names:
            self.table.selectRow(names.index(self.first_key))
        self.table.resizeRowsToContents()

    @staticmethod
    def _read(wire: CableWire) -> str:
        parts = [f"{other} {'open' if r >= _OPEN else show(r, 'Ω')}" for other, r in wire.ohms.items()]
        parts += [
            f"diode to {other} {'blocks' if v >= _OPEN else show(v, 'V', 2)}" for other, v in wire.diode.items()
        ]
        if wire.supply_current is not None:
            parts.append(f"{show(wire.supply_current, 'A', 2)} at 5 V")
        if wire.scope:
            parts.append(_SCOPES[wire.scope])
        if wire.again:
            parts.append(f"{len(wire.again)} repeated")
        return ", ".join(parts)

    # ---- readings

    def _on_wire(self) -> None:
        name = self.wire.text().strip().lower()
        if not name:
            return
        if name == FRAME or any(w.name == name for w in self.document.bench.cable):
            self.refuse(Refusal(f"“{name}” is there already", "give every wire a name of its own, e.g. white-black"))
            return
        self.first_key = name
        self._change(lambda bench: set_reading(bench, name))
        self.wire.clear()

    def _on_first(self, name: str) -> None:
        self.first_key = name
        self.refresh()

    def _on_other(self, name: str) -> None:
        self.other_key = name
        self.refresh()

    def _on_ohms(self, value: float) -> None:
        if not math.isnan(value) and self.first_key:
            self._change(lambda bench: set_reading(bench, self.first_key, other=self.other_key, ohms=value))

    def _on_diode(self, value: float) -> None:
        if not math.isnan(value) and self.first_key:
            self._change(lambda bench: set_reading(bench, self.first_key, other=self.other_key, diode=value))

    def _on_known(self, role: str) -> None:
        if self.first_key:
            self._change(lambda bench: set_reading(bench, self.first_key, known=role))

    def _on_current(self, value: float) -> None:
        if not math.isnan(value) and self.first_key:
            self._change(lambda bench: set_reading(bench, self.first_key, current=value))

    def _on_scope(self, shape: str) -> None:
        if self.first_key:
            self._change(lambda bench: set_reading(bench, self.first_key, scope=shape))

    def _on_remove(self) -> None:
        if self.first_key:
            self._change(lambda bench: drop_wire(bench, self.first_key))
