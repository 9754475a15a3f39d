"""Plate, leads of a stepper: which make a pair, and what does each connection give?"""

from __future__ import annotations

import itertools

from PySide6.QtWidgets import QHBoxLayout, QTableWidgetItem, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.models import Bench
from crisp_compass.errors import Refusal
from crisp_compass.preparation.stepper_leads import OPEN, LeadsFound, connected, key_of, pairs, read_leads
from crisp_compass.quantities import parse, show
from crisp_compass.views.picture import DialView

_NAMES = {"series": "both coils in series", "parallel": "both coils in parallel", "half": "one coil of each phase"}


class StepperLeadsPage(Page):
    """Ohmmeter readings between the leads on the left, what every connection is on the right."""

    key = "plate"
    section = "Leads"
    question = "Which leads make a pair, and what does each connection give?"
    has_dial = False
    fields = (
        Pick("stepping.leads", "Leads", {"4": "4", "6": "6", "8": "8"}, width=72),
        Pick(
            "stepping.given", "Data sheet is of",
            {"series": "coils in series", "parallel": "coils in parallel", "half": "one coil a phase"}, width=150,
        ),
        Entry("r", "R", "Ω", width=96, tip="Resistance of a winding from the data sheet"),
        Entry("inductance", "L", "H", width=96, tip="Inductance of a winding from the data sheet"),
        Entry("rated_current", width=112, tip="Continuous current of a winding, in the base that the plate says"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.readings = Table("Ohmmeter readings", ("leads", "reading"), widths={0: 90}, row_height=26)
        self.readings.setFixedWidth(260)
        self.readings.itemChanged.connect(self._on_item)
        self.forms = Table(
            "Connections",
            ("connection", "R", "L", "current", "flux", "torque", "L/R"),
            widths={0: 190},
            row_height=32,
        )
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(self.readings)
        row.addWidget(self.forms, 1)
        holder = QWidget()
        holder.setLayout(row)
        self.column.addWidget(holder, 1)
        self._pairs: list[tuple[int, int]] = []
        self.finish()

    def refresh(self) -> None:
        bench = self.document.bench
        plate, settings = bench.settings.plate, bench.settings.stepping
        self.number("rated_current").base = plate.current_base
        self._pairs = list(itertools.combinations(range(1, settings.leads + 1), 2))
        self.readings.show_rows(
            [
                [Cell(f"{a} – {b}", "soft"), Cell(_read(bench, a, b), editable=True, tip="Ω, or OL for open")]
                for a, b in self._pairs
            ]
        )
        forms = connected(
            getattr(plate, "r", None),
            getattr(plate, "inductance", None),
            plate.rated_current,
            settings.given,
            leads=settings.leads,
        )
        self.forms.show_rows([
            [
                Cell(_NAMES[f.connection], bold=True), Cell(show(f.r, "Ω") if f.r else "–"), Cell(show(f.inductance, "H") if f.inductance else "–"),
                Cell(show(f.current, "A")), Cell(f"× {f.flux:.3g}"), Cell(f"× {f.torque:.3g}"), Cell(show(f.time_constant, "s") if f.time_constant else "–"),
            ]
            for f in forms
        ])  # fmt: skip
        found = pairs(settings.ohms, settings.leads)
        self.findings.show_findings(found.findings)
        self._say(found, settings.leads)
        self.show_dial(DialView())

    def _say(self, found: LeadsFound, leads: int) -> None:
        whole = [g for g in found.groups if len(g) > 1]
        said = ", ".join(
            "–".join(map(str, g)) + (f" (tap {t})" if (t := next((t for t in found.taps if t in g), 0)) else "")
            for g in whole
        )
        hint = "Power off, all leads free: read the resistance between any two, and type OL where it is open."
        note = "Series has four times one coil's inductance and is slow at speed; parallel takes twice the current of series for the same torque."
        self.answer.show_answer(
            said or "No pair found yet",
            "all told" if found.complete else f"of {leads} leads; go on reading" if whole else "",
            note if found.complete else hint,
        )

    def _on_item(self, item: QTableWidgetItem) -> None:
        first, second = self._pairs[item.row()]
        text = item.text().strip()
        try:
            value = parse(text, "Ω")
            self.document.edit(
                "lead reading",
                read_leads(self.document.bench, first, second, value),
                f"leads.{key_of(first, second)}",
            )
        except Refusal as refusal:
            self.refuse(refusal)
            self.refresh()


def _read(bench: Bench, first: int, second: int) -> str:
    value = bench.settings.stepping.ohms.get(key_of(first, second))
    return "" if value is None else "OL" if value >= OPEN else show(value, "Ω")
