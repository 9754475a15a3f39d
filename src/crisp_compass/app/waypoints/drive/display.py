"""Drive, display: what does the drive show, and what does an existing controller do beside its loop?"""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QTableWidgetItem, QVBoxLayout

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.lists_page import ListsPage, one_of
from crisp_compass.app.widgets.parts import label
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.settings.display import DisplaySettings, Ramp, Trim
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.drive.display import display_of, findings_of, ramp_rate, time_to_top
from crisp_compass.quantities import grouped, parse, show

_TRIM, _RAMP = ("name", "found", "neutral", "stands"), ("where", "seconds", "speed")


class DisplayPage(ListsPage):
    """The display's figure at some speeds and as a factor of whole numbers; trims with where they stood; ramps one behind the other."""

    key = "drive"
    topic = "display"
    section = "Display"
    question = "What does the drive show at a speed?"
    fields = (
        Entry("display.shows", width=96, plain=True, tip="figure on the display at the speed beside it"), Entry("display.at", "at the motor's", "rpm", width=104, group="Display"),
        Entry("display.decimals", width=80, plain=True), Entry("display.figures", width=80, plain=True, tip="of the display, decimals counted"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.rows = Rows("The display", width=0)
        self.trims = Table("Trims of an existing controller", ("Trim", "Found at", "Neutral at", "Stands"), widths={1: 96, 2: 96, 3: 96}, row_height=26)
        self.ramps = Table("Ramps, from the command to the loop", ("Ramp", "Seconds", "over, rpm", "Rate"), widths={1: 84, 2: 92, 3: 110}, row_height=26)
        self.trims.itemChanged.connect(self._on_trim)
        self.ramps.itemChanged.connect(self._on_ramp)
        row, half = QHBoxLayout(), QVBoxLayout()
        for layout in (row, half):
            layout.setSpacing(8)
        half.addWidget(self.trims, 3)
        half.addWidget(self.ramps, 2)
        row.addWidget(self.rows, 3)
        row.addLayout(half, 4)
        self.column.addLayout(row, 1)
        self.unit = QLineEdit()
        self.unit.setMaximumWidth(90)
        self.unit.setMaxLength(12)
        self.unit.setAccessibleName("Unit of the display")
        self.unit.editingFinished.connect(self._on_unit)
        self.add_fields(*(self._fields[f.setting] for f in self.fields[:1]))
        self.field_row.add(label("in", "info"))
        self.field_row.add(self.unit)
        self.add_fields(*(self._fields[f.setting] for f in self.fields[1:]))
        self.add_trim, self.add_ramp, self.take_out = QPushButton("Add trim"), QPushButton("Add ramp"), QPushButton("Take out")
        self.add_trim.clicked.connect(lambda: self.add("add a trim", "trims", Trim(name=f"trim {len(self._own.trims) + 1}")))
        self.add_ramp.clicked.connect(lambda: self.add("add a ramp", "ramps", Ramp(where=("command", "controller", "drive")[len(self._own.ramps) % 3])))
        self.take_out.clicked.connect(lambda: self.take_out_of({"trims": self.trims.marked(), "ramps": self.ramps.marked()}))
        self.finish("", self.add_trim, self.add_ramp, self.take_out)

    @property
    def _own(self) -> DisplaySettings:
        return self.document.bench.settings.display

    def _on_unit(self) -> None:
        if self.unit.text().strip() != self._own.unit:
            self.document.set_field("display", "unit", self.unit.text().strip())

    def _on_trim(self, item: QTableWidgetItem) -> None:
        field, text = _TRIM[item.column()], item.text().strip()
        value: Any = (lambda: one_of(text, ("as found", "neutral", "put back"))) if field == "stands" else text
        self.put("trims", item.row(), field, value)

    def _on_ramp(self, item: QTableWidgetItem) -> None:
        if item.column() >= len(_RAMP):
            return
        field, text = _RAMP[item.column()], item.text().strip()
        value: Any = text
        if field == "seconds":
            value = lambda: parse(text, "s")  # noqa: E731 - asked when it is put, where a refusal is said
        elif field == "speed":
            value = lambda: parse(text, "rpm") if text else None  # noqa: E731
        self.put("ramps", item.row(), field, value)

    def refresh(self) -> None:
        bench, s = self.document.bench, self._own
        display, top = display_of(bench), bench.settings.plate.top_speed
        if not self.unit.hasFocus():
            self.unit.setText(s.unit)
        run = bench.settings.run.speed
        at = run if run else s.at or top
        self.answer.show_answer(display.shown(at), f"at {grouped(at * RPM_PER_RAD_S)} rpm of the motor", stale=abs(at) > display.most)
        self.findings.show_findings(tuple(findings_of(bench)))
        speeds = [("a tenth of the top", 0.1 * top), ("half the top", 0.5 * top), ("top speed", top)]
        rows = [(f"{name}, {grouped(w * RPM_PER_RAD_S)} rpm", display.shown(w)) for name, w in speeds]
        rows += [
            ("factor, shown for one rpm", f"{display.factor:.6g} {s.unit}"), ("as whole numbers, counts for rpm", f"{display.ratio.numerator}/{display.ratio.denominator}"),
            ("off by that", f"{100 * abs(display.error):.2g} %" if abs(display.error) > 1e-6 else "nothing"), ("one count is", f"{display.count * RPM_PER_RAD_S:.3g} rpm"),
            ("ends at", f"{grouped(display.most * RPM_PER_RAD_S)} rpm"),
        ]  # fmt: skip
        if s.ramps:
            rows.append(("top speed is reached after", show(time_to_top(bench), "s")))
        self.rows.show_rows(rows, note="" if s.shows is not None else "It shows rpm until you enter what it shows at a speed.")
        self.trims.show_rows([[Cell(getattr(t, f), editable=True) for f in _TRIM] for t in s.trims])
        self.ramps.show_rows([
            [
                Cell(r.where, editable=True), Cell(f"{r.seconds:g}", editable=True, right=True), Cell("" if r.speed is None else f"{r.speed * RPM_PER_RAD_S:.6g}", editable=True, right=True),
                Cell("none" if r.seconds == 0 else f"{ramp_rate(bench, r) * RPM_PER_RAD_S:.4g} rpm/s", "soft", right=True),
            ]
            for r in s.ramps
        ])  # fmt: skip
        self.take_out.setEnabled(bool(s.trims or s.ramps))
