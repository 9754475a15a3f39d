"""The description of a drive in a table: rows added, typed, read from the drive on trial, saved or kept in the library."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.jobs import Job
from crisp_compass.app.widgets.flow import FlowRow
from crisp_compass.app.widgets.parts import button, label
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.drive.description import Description, save_description
from crisp_compass.drive.editing import COLUMNS, Head, built, head_of, next_place, read_once, rows_of
from crisp_compass.drive.library import keep
from crisp_compass.errors import Refusal

#: Columns of the table; what was read stands beside the name, where it is looked for.
_READS = "reads"
KEYS = ("list", "name", _READS, *(k for k in COLUMNS if k not in ("list", "name")))
_WIDTHS = {"list": 96, "name": 150, "place": 84, "table": 70, "type": 70, "scale": 74, "unit": 66, "access": 60, "reads": 120, "min": 92, "max": 92, "factory": 92, "restart": 64, "bench": 170, "signal": 74, "role": 86, "bits": 170, "masks": 70, "limit": 90, "group": 70, "text": 200}  # fmt: skip
_PROTOCOLS = ("modbus tcp", "modbus rtu", "canopen")
#: Heads typed into a line: their name, what stands before them, width.
_TYPED = (("name", "Name", 180), ("unit_id", "Unit", 44), ("baud", "Baud", 70), ("watchdog", "Watchdog, s", 46), ("stop", "at rest, s", 46))
_CHOSEN = (("protocol", "over", _PROTOCOLS), ("parity", "Parity", ("N", "E", "O")), ("stop_bits", "Stop bits", ("1", "2")), ("word_order", "Words", ("high-first", "low-first")))


class Editor(QDialog):
    """``accepted`` with ``description`` set where it is to be used."""

    said = Signal(str)

    def __init__(self, base: Description | None, link: str, start: Path, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Description of a drive")
        self.resize(1120, 640)
        self.description: Description | None = None
        self._base, self._link, self._start = base, link, start
        self.rows = rows_of(base) if base else []
        self._read: dict[str, str] = {}
        head = head_of(base) if base else Head("", "modbus tcp", "1")
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 16, 20, 14)
        column.setSpacing(8)
        self._typed: dict[str, QLineEdit] = {}
        self._chosen: dict[str, QComboBox] = {}
        top = FlowRow()
        for key, text, width in _TYPED[:1]:
            self._add_typed(top, key, text, width, value=getattr(head, key))
        for key, text, options in _CHOSEN:
            self._add_chosen(top, key, text, options, value=getattr(head, key))
        for key, text, width in _TYPED[1:]:
            self._add_typed(top, key, text, width, value=getattr(head, key))
        column.addLayout(top)
        heads = ["Reads" if k == _READS else COLUMNS[k][0] for k in KEYS]
        self.table = Table("Entries of the description", heads, widths={n: _WIDTHS[k] for n, k in enumerate(KEYS)}, row_height=28)
        self.table.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        for n, key in enumerate(KEYS):
            item = self.table.horizontalHeaderItem(n)
            if item is not None:
                item.setToolTip("what the drive gave on trial" if key == _READS else COLUMNS[key][1])
        self.table.itemChanged.connect(self._on_typed)
        column.addWidget(self.table, 1)
        self.notice = label("", "info")
        self.notice.setWordWrap(True)
        column.addWidget(self.notice)
        self.said.connect(self.notice.setText)
        self._job = Job(self)
        self._job.done.connect(self._on_read)
        self._job.refused.connect(self._on_refused)
        column.addLayout(self._buttons())
        self._show()

    def _add_typed(self, row: FlowRow, key: str, text: str, width: int, value: str) -> None:
        edit = QLineEdit(value)
        edit.setFixedWidth(width)
        edit.setAccessibleName(text)
        row.add(label(text, "info"))
        row.add(edit)
        self._typed[key] = edit

    def _add_chosen(self, row: FlowRow, key: str, text: str, options: tuple[str, ...], value: str) -> None:
        box = QComboBox()
        box.setObjectName("plain")
        box.setAccessibleName(text)
        box.addItems(options if value in options else (*options, value))
        box.setCurrentText(value)
        row.add(label(text, "info"))
        row.add(box)
        self._chosen[key] = box

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(8)
        self.add, self.take_out, self.test = QPushButton("Add entry"), QPushButton("Take out"), QPushButton("Test read")
        self.test.setToolTip("Reads the marked entries, or all, over the link; nothing is written")
        self.save, self.keep = QPushButton("Save…"), QPushButton("Keep in library")
        self.keep.setToolTip("Then it stands in the menu of Description…, under its name")
        self.use = button("Use it", "main")
        for part, slot in (
            (self.add, self._on_add), (self.take_out, self._on_take_out), (self.test, self._on_test), (self.save, self._on_save), (self.keep, self._on_keep), (self.use, self._on_use),
        ):  # fmt: skip
            part.clicked.connect(slot)
            part.setAutoDefault(False)
            if part is self.save:
                row.addStretch(1)
            row.addWidget(part)
        return row

    # ---- what is asked

    def _on_typed(self, item: QTableWidgetItem) -> None:
        key = KEYS[item.column()]
        if key != _READS:
            self.rows[item.row()][key] = item.text().strip()
            self.notice.setText("")
            try:
                self._built()
            except Refusal as refusal:
                self._on_refused(refusal)

    def _on_add(self) -> None:
        marked = self.table.marked()
        lot = self.rows[marked[-1]]["list"] if marked else self.rows[-1]["list"] if self.rows else "parameters"
        at = marked[-1] + 1 if marked else len(self.rows)
        self.rows.insert(at, {**dict.fromkeys(COLUMNS, ""), "list": lot, "type": "uint16", "place": next_place(self.rows, lot)})
        self._show()
        self.table.setCurrentCell(at, KEYS.index("name"))
        item = self.table.item(at, KEYS.index("name"))
        if item is not None:
            self.table.editItem(item)

    def _on_take_out(self) -> None:
        for at in reversed(self.table.marked()):
            self.rows.pop(at)
        self._show()

    def _built(self) -> Description:
        typed = {k: e.text().strip() for k, e in self._typed.items()} | {k: b.currentText() for k, b in self._chosen.items()}
        return built(replace(Head("", "", ""), **typed), self.rows, self._base)

    def _on_test(self) -> None:
        try:
            description = self._built()
            if not self._link:
                raise Refusal("there is no link to read from", "type one on the page, then open this again")
        except Refusal as refusal:
            self._on_refused(refusal)
            return
        marked = [self.rows[at]["name"] for at in self.table.marked()] or [r["name"] for r in self.rows]
        self.notice.setText("reading…")
        self.test.setEnabled(False)
        link = self._link
        self._job.ask(lambda: read_once(link, description, marked))

    def _on_read(self, found: dict[str, float | None]) -> None:
        units = {r["name"]: r["unit"] for r in self.rows}
        self._read = {n: "not to be read" if v is None else f"{v:.6g} {units.get(n, '')}".rstrip() for n, v in found.items()}
        refused = sum(v is None for v in found.values())
        self.test.setEnabled(True)
        self.notice.setText(f"{len(found) - refused} of {len(found)} read" + (f"; {refused} the drive does not let be read: look at place and list" if refused else ""))
        self._show()

    def _on_save(self) -> None:
        try:
            description = self._built()
            path = ask_save_path(self, "Save the description", self._start / f"{description.name or 'drive'}.json", "Descriptions (*.json)", suffixes=(".json",))
            if path is not None:
                save_description(path, description)
                self.notice.setText(f"saved as {path.name}")
        except OSError as error:
            self.notice.setText(f"It cannot be written ({error.strerror}); choose another folder.")
        except Refusal as refusal:
            self._on_refused(refusal)

    def _on_keep(self) -> None:
        try:
            self.notice.setText(f"kept in the library as {keep(self._built()).stem}")
        except Refusal as refusal:
            self._on_refused(refusal)

    def _on_use(self) -> None:
        try:
            self.description = self._built()
        except Refusal as refusal:
            self._on_refused(refusal)
            return
        self.accept()

    def _on_refused(self, refusal: Refusal) -> None:
        self.test.setEnabled(True)
        self.notice.setText(refusal.sentence[:1].upper() + refusal.sentence[1:])

    # ---- what is shown

    def _show(self) -> None:
        self.table.show_rows([
            [Cell(self._read.get(row["name"], ""), "soft") if k == _READS else Cell(row[k], editable=True, tip=COLUMNS[k][1]) for k in KEYS] for row in self.rows
        ])  # fmt: skip
