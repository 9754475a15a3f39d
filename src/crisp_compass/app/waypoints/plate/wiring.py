"""Plate, wiring chart: which lead goes where, and what does that mean?"""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPageLayout, QPainter
from PySide6.QtPrintSupport import QPrintDialog, QPrinter
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QPushButton,
    QTableWidgetItem,
    QVBoxLayout,
)

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.theme import THEME
from crisp_compass.app.widgets.chart import WiringChart
from crisp_compass.app.widgets.parts import label
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.records import Lead
from crisp_compass.errors import Refusal
from crisp_compass.preparation.wiring import COLOURS, consequence, default_leads, leads_of, set_lead, swap_leads
from crisp_compass.sensing import SENSORS
from crisp_compass.views.picture import DialView

_FIELDS = ("name", "colour", "pin", "terminal")


def _cell(lead: Lead, field: str) -> Cell:
    """Return a cell of the chart: the lead's name is fixed, colours are shown by name."""
    text = getattr(lead, field)
    if field == "colour" and text in COLOURS:
        text = COLOURS[text][0]
    fixed = field == _FIELDS[0]
    return Cell(text, "soft" if fixed else "ink", editable=not fixed)


class WiringPage(Page):
    """The chart as a picture and as a table; two marked rows change places, and the page says what that does."""

    key = "plate"
    section = "Wiring"
    question = "Which lead goes where, and what does that mean?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.chart = WiringChart()
        self.table = Table("Wiring chart", ("lead", "colour", "pin", "terminal"), row_height=30)
        self.table.setFixedWidth(372)
        self.table.itemChanged.connect(self._on_item)
        self.table.itemSelectionChanged.connect(self._on_selection)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(self.chart, 1)
        side = QVBoxLayout()
        side.setSpacing(6)
        side.addWidget(self.table, 1)
        note = label(
            "Colours by name or IEC 60757 code. Never pull a motor or sensor lead under power; the link keeps its charge.",
            "caution",
        )
        note.setWordWrap(True)
        side.addWidget(note)
        row.addLayout(side)
        self.column.addLayout(row, 1)
        self.printing = QPushButton("Print…")
        self.printing.clicked.connect(self._print)
        self.copying = QPushButton("Copy picture")
        self.copying.clicked.connect(lambda: QApplication.clipboard().setPixmap(self.chart.picture()))
        self.finish("Swap marked two", self.copying, self.printing)

    def refresh(self) -> None:
        bench = self.document.bench
        leads = leads_of(bench)
        self.table.show_rows([[_cell(lead, field) for field in _FIELDS] for lead in leads])
        sensor = bool(SENSORS[bench.settings.sensor.kind].leads)
        self.chart.show_leads(leads, [lead.terminal for lead in default_leads(bench)], sensor=sensor)
        meaning = consequence(bench)
        answer = {1: "Forward", -1: "Backward", 0: "Not known"}[meaning.direction]
        colours = sum(1 for lead in leads if lead.colour)
        self.answer.show_answer(
            answer,
            meaning.texts[0],
            " ".join(meaning.texts[1:]) or f"{colours} of {len(leads)} colours are written down.",
        )
        self._on_selection()
        shift = meaning.shift_deg if meaning.direction else 0
        self.show_dial(
            DialView(
                caption=f"Where the field points with current into {leads[0].name}" if meaning.direction else "",
                rotor=float(shift),
            )
        )

    def _on_item(self, item: QTableWidgetItem) -> None:
        try:
            bench = set_lead(self.document.bench, item.row(), **{_FIELDS[item.column()]: item.text()})
            self.document.edit("wiring chart", bench, f"lead.{item.row()}.{item.column()}")
        except Refusal as refusal:
            self.refuse(refusal)
            self.refresh()

    def _on_selection(self) -> None:
        assert self.main_button is not None
        self.main_button.setEnabled(len(self.table.marked()) == 2)

    def on_main(self) -> None:
        rows = self.table.marked()
        try:
            self.document.edit("swap leads", swap_leads(self.document.bench, rows[0], rows[1], now()))
        except Refusal as refusal:
            self.refuse(refusal)

    def _print(self) -> None:
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        if QPrintDialog(printer, self).exec():
            self.print_to(printer)

    def print_to(self, printer: QPrinter) -> None:
        """Paint the chart over a page, always in the light colours."""
        night = THEME.name
        THEME.name = "light"
        try:
            printer.setPageOrientation(QPageLayout.Orientation.Landscape)
            painter = QPainter(printer)
            scale = printer.resolution() / 96
            painter.scale(scale, scale)
            page = printer.pageRect(QPrinter.Unit.DevicePixel)
            self.chart.draw(painter, QRectF(0, 0, page.width() / scale, page.height() / scale))
            painter.end()
        finally:
            THEME.name = night
