"""The ledger: time-stamped lines, newest at the bottom, with an entry line that takes readings without the mouse."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.parts import label
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.readings import entry_text, parse_reading
from crisp_compass.bench.records import LedgerEntry
from crisp_compass.errors import Refusal
from crisp_compass.preparation.checks import record_typed


class Ledger(QWidget):
    """List and entry line; ``refused`` carries a sentence for the notice line."""

    refused = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._shown: tuple[LedgerEntry, ...] | None = None
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.timeout.connect(self._lay_out)
        self._list = Table("Ledger", ("", "", ""), widths={0: 44, 1: 56}, row_height=21)
        self._list.setTabKeyNavigation(False)
        self._list.setWordWrap(True)
        self._list.verticalScrollBar().rangeChanged.connect(self._list.scrollToBottom)
        self._list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.entry = Line(placeholderText="type a reading:  ruv 0.84   temp 24   note …")
        self.entry.setAccessibleName("Reading: ruv, rvw, rwu, lead, temp, vbus or note, then the value")
        self.entry.returnPressed.connect(self._on_entry)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 0, 10, 8)
        column.setSpacing(4)
        column.addWidget(label("Ledger", "heading"))
        column.addWidget(self._list, 1)
        column.addWidget(self.entry)
        document.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the document's ledger."""
        lines = self._document.bench.ledger
        if lines is self._shown:
            return
        self._shown = lines
        rows: list[tuple[Cell, ...]] = []
        day = ""
        for line in lines:
            if line.when[:10] != day:
                day = line.when[:10]
                rows.append((Cell(day, "soft", True, 11, tip=day),))
            tip = f"{line.when.replace('T', ' ')}\n{entry_text(line)}"
            token = {"settled": "magenta"}.get(line.kind, "deep")
            when, kind = Cell(line.when[11:16], "soft", False, 11, tip=tip), Cell(line.kind, token, True, 12, tip=tip)
            rows.append((when, kind, Cell(entry_text(line), "ink", False, 12, tip=tip)))
        self._list.show_rows(rows)
        self._settle.start()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._settle.start()

    def _lay_out(self) -> None:
        """Fit the rows to their wrapped text once the column's width is known, newest in view."""
        self._list.resizeRowsToContents()
        self._list.scrollToBottom()

    def _on_entry(self) -> None:
        text = self.entry.text()
        if not text.strip():
            return
        try:
            line = parse_reading(text, now())
            self._document.edit(f"reading {line.kind}", record_typed(self._document.bench, line))
        except Refusal as refusal:
            self.refused.emit(refusal.sentence)
            return
        self.entry.setText("")  # clear() would be a step to undo of its own
