"""The one table of the program: rows of cells that say how they look."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from crisp_compass.app.theme import THEME, font
from crisp_compass.app.widgets.at_load import AT_LOAD
from crisp_compass.app.widgets.parts import unmarked


@dataclass(frozen=True)
class Cell:
    """A cell: ``token`` colours it, ``ticked`` makes it one to tick, ``editable`` one to type into."""

    text: str
    token: str = "ink"
    bold: bool = False
    size: int = 13
    tip: str = ""
    centred: bool = False
    right: bool = False
    editable: bool = False
    ticked: bool | None = None


class Table(QTableWidget):
    """Columns of fixed ``widths`` (by number), the others share the rest; whole rows are marked."""

    def __init__(
        self, name: str, heads: Sequence[str], *, widths: Mapping[int, int] | None = None, row_height: int = 0
    ) -> None:
        super().__init__(0, len(heads))
        self.setAccessibleName(name)
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.verticalHeader().hide()
        self.setHorizontalHeaderLabels(list(heads))
        if not any(heads):
            self.horizontalHeader().hide()
        for column in range(len(heads)):
            if widths and column in widths:
                self.setColumnWidth(column, widths[column])
            else:
                self.horizontalHeader().setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)
        if row_height:
            self.verticalHeader().setMinimumSectionSize(min(row_height, 21))
            self.verticalHeader().setDefaultSectionSize(row_height)
        self._rows: Sequence[Sequence[Cell]] = ()
        THEME.changed.connect(self._restyle)

    def _restyle(self) -> None:
        self.show_rows(self._rows)

    def show_rows(self, rows: Sequence[Sequence[Cell]]) -> None:
        """Fill the table without telling anybody; a row of one cell spans the table."""
        self._rows = rows
        blocked = self.blockSignals(True)
        self.clearSpans()
        self.setRowCount(len(rows))
        for row, cells in enumerate(rows):
            for column, cell in enumerate(cells):
                self._show(row, column, cell)
            if len(cells) == 1:
                self.setSpan(row, 0, 1, self.columnCount())
        self.blockSignals(blocked)
        self.viewport().update()

    def _show(self, row: int, column: int, cell: Cell) -> None:
        item = self.item(row, column)
        if item is None:
            item = QTableWidgetItem()
            self.setItem(row, column, item)
        item.setText(cell.text)
        item.setForeground(THEME.color(cell.token))
        item.setFont(font(cell.size, bold=cell.bold))
        item.setToolTip(unmarked(cell.tip) or AT_LOAD.told(cell.text))
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        if cell.centred:
            item.setTextAlignment(Qt.AlignmentFlag.AlignCenter)
        elif cell.right:
            item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if cell.editable:
            flags |= Qt.ItemFlag.ItemIsEditable
        if cell.ticked is not None:
            flags |= Qt.ItemFlag.ItemIsUserCheckable
            item.setCheckState(Qt.CheckState.Checked if cell.ticked else Qt.CheckState.Unchecked)
        item.setFlags(flags)

    def marked(self) -> list[int]:
        """Return the rows that are marked."""
        return sorted({index.row() for index in self.selectedIndexes()})

    def ticked(self) -> list[int]:
        """Return the rows whose first cell is ticked."""
        items = [self.item(row, 0) for row in range(self.rowCount())]
        return [row for row, item in enumerate(items) if item and item.checkState() == Qt.CheckState.Checked]
