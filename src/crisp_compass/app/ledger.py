"""The ledger: time-stamped lines, newest at the bottom, with an entry line that takes readings without the mouse."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.theme import THEME, font
from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.parts import label
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
        self._list = QTableWidget(0, 3)
        self._list.setAccessibleName("Ledger")
        self._list.horizontalHeader().hide()
        self._list.verticalHeader().hide()
        self._list.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self._list.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self._list.setShowGrid(False)
        self._list.setTabKeyNavigation(False)
        self._list.setWordWrap(True)
        self._list.setColumnWidth(0, 44)
        self._list.setColumnWidth(1, 56)
        self._list.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self._list.verticalHeader().setMinimumSectionSize(20)
        self._list.verticalHeader().setDefaultSectionSize(21)
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
        THEME.changed.connect(self._restyle)
        self.refresh()

    def refresh(self, *, force: bool = False) -> None:
        """Show the document's ledger."""
        lines = self._document.bench.ledger
        if lines is self._shown and not force:
            return
        self._shown = lines
        rows: list[LedgerEntry | str] = []
        day = ""
        for line in lines:
            if line.when[:10] != day:
                day = line.when[:10]
                rows.append(day)
            rows.append(line)
        self._list.clearSpans()
        self._list.setRowCount(len(rows))
        for row, entry in enumerate(rows):
            if isinstance(entry, str):
                self._put(row, 0, entry, "soft", bold=True, tip=entry)
                self._list.setSpan(row, 0, 1, 3)
                continue
            token = {"settled": "magenta"}.get(entry.kind, "deep")
            tip = f"{entry.when.replace('T', ' ')}\n{entry_text(entry)}"
            self._put(row, 0, entry.when[11:16], "soft", tip=tip)
            self._put(row, 1, entry.kind, token, bold=True, tip=tip)
            self._put(row, 2, entry_text(entry), "ink", tip=tip)
        self._settle.start()

    def _put(self, row: int, column: int, text: str, token: str, *, bold: bool = False, tip: str = "") -> None:
        item = QTableWidgetItem(text)
        item.setForeground(THEME.color(token))
        item.setFont(font(11 if column == 0 else 12, bold=bold))
        item.setToolTip(tip)
        self._list.setItem(row, column, item)

    def _restyle(self) -> None:
        self.refresh(force=True)

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
