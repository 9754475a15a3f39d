"""Commutation: where do the halls switch?"""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from crisp_compass.app.dial import DialView, Sector
from crisp_compass.app.document import Document
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.theme import font
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.bench.records import HallRecord
from crisp_compass.commutation.halls import HallTable
from crisp_compass.commutation.lead_fix import lead_fixes
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.course.waypoints.commutation import offset_of

_HEADS = ("code", "enters ahead at", "centre", "enters back at", "forward pair", "reverse pair", "edge error")
_OPPOSITE = str.maketrans("+-", "−+")
_MINUS = str.maketrans("-", "−")


class CommutationPage(CapturePage):
    """Codes over electrical angle, the table, and the sectors on the dial, where the rotor can be turned by hand."""

    key = "commutation"
    section = "Hand turn"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._angle = 0.0

    def build(self, area: QWidget) -> None:
        self.codes = Plot(("electrical angle", "°"), ("hall code", ""), name="hall codes")
        self.codes.curve("codes", "deep", symbol="s", size=3, title="hall code")
        self.codes.curve("edges", "magenta", width=1.4, title="edges found")
        self.codes.curve("rotor", "ink", width=2.4, title="rotor")
        self.codes.getAxis("bottom").setTicks([[(a, f"{a}") for a in range(0, 361, 60)]])
        self.table = QTableWidget(6, len(_HEADS))
        self.table.setAccessibleName("Hall table")
        self.table.setHorizontalHeaderLabels(_HEADS)
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.setShowGrid(False)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.verticalHeader().setDefaultSectionSize(26)
        self.table.setFixedHeight(26 * 6 + 32)
        self.table.itemSelectionChanged.connect(self._on_row)
        column = QVBoxLayout(area)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(self.codes, 1)
        column.addWidget(self.table)

    def _record(self) -> HallRecord | None:
        evidence = self.evidence()
        if evidence is not None:
            return evidence.halls
        settled = self.seen.settled.get("commutation")
        return settled.halls if settled else None

    def show_texts(self) -> None:
        evidence, halls = self.evidence(), self._record()
        assert self.main_button is not None
        self.main_button.setEnabled(evidence is not None)
        if halls is None or evidence is None:
            self.answer.show_answer(
                self.empty_answer,
                "",
                "Drop a capture of the hand-turned shaft here (hall_1 to hall_3 and two line voltages).",
            )
            self.findings.show_findings(())
            self.show_dial(DialView(caption="Turn the shaft by hand, drive off", rotor=20.0))
            return
        way = "forward (A → B → C)" if halls.direction > 0 else "backward (A → C → B)"
        worst = max(abs(e) for e in halls.edge_errors_deg)
        ways = lead_fixes({code: s.drive for code, s in halls.states.items()})
        fix = f" For the common 120° table: {ways[0].text}." if ways else ""
        self.answer.show_answer(
            f"{halls.spacing_deg}° halls",
            f"edges from {offset_of(halls):.1f}°, the worst {worst:.1f}° off its place; captured turning {way}",
            f"{evidence.method[:1].upper()}{evidence.method[1:]}.{fix}",
        )
        self.main_button.setText("Settle hall table…")
        self.findings.show_findings(findings_of(evidence))
        self._fill_table(halls)
        self.show_turn(self._angle)

    def _fill_table(self, halls: HallRecord) -> None:
        rows = sorted(halls.states.items(), key=lambda item: item[1].from_deg)
        for row, ((code, s), error) in enumerate(zip(rows, halls.edge_errors_deg, strict=True)):
            texts = (
                code,
                f"{s.from_deg:.1f}°",
                f"{s.center_deg:.1f}°",
                f"{s.to_deg:.1f}°",
                s.drive.translate(_MINUS),
                s.drive.translate(_OPPOSITE),
                f"{error:+.1f}°".replace("-", "−"),
            )
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setTextAlignment(Qt.AlignmentFlag.AlignCenter)
                item.setFont(font(13, bold=column in (0, 4)))
                self.table.setItem(row, column, item)

    def _on_row(self) -> None:
        halls, row = self._record(), self.table.currentRow()
        if halls is not None and row >= 0:
            rows = sorted(halls.states.values(), key=lambda s: s.from_deg)
            self.show_turn(rows[row].center_deg)

    def on_dial(self, angle: float) -> None:
        """Follow the rotor turned on the dial."""
        self.show_turn(angle)

    def show_turn(self, angle: float) -> None:
        """Show sector, code, pair, table row and place on the plot at a rotor angle in electrical degrees."""
        halls = self._record()
        if halls is None:
            return
        self._angle = angle
        sectors = tuple(Sector(s.from_deg, s.to_deg, code) for code, s in halls.states.items())
        here = next(
            ((c, s) for c, s in halls.states.items() if (angle - s.from_deg) % 360 < (s.to_deg - s.from_deg) % 360),
            None,
        )
        self.codes.set("rotor", [angle % 360] * 2, [0.0, 7.0])
        if here is not None:
            order = sorted(halls.states, key=lambda code: halls.states[code].from_deg)
            self.table.blockSignals(True)
            self.table.selectRow(order.index(here[0]))
            self.table.blockSignals(False)
        text = f"θe {angle:.0f}°: code {here[0]}, drive {here[1].drive.translate(_MINUS)}" if here else ""
        self.show_dial(
            DialView(
                caption=text + "  (drag the rotor, or ← →)",
                rotor=angle,
                sectors=sectors,
                hexagon=False,
                draggable=True,
            )
        )

    def draw(self, evaluated: Evaluated) -> None:
        table = evaluated.result
        if not isinstance(table, HallTable):
            return
        x, y = table.code_points()
        self.codes.set("codes", x, y)
        edges = np.array([s.from_deg for s in table.states.values()])
        self.codes.set("edges", np.repeat(edges, 3), np.tile([0.0, 7.0, np.nan], len(edges)))
