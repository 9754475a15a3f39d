"""Commutation: where do the halls switch?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.records import HallRecord
from crisp_compass.course.captures import Evaluated
from crisp_compass.views.picture import Curve, DialView, Pane, Sector

_HEADS = ("code", "enters ahead at", "centre", "enters back at", "forward pair", "reverse pair", "edge error")
_OPPOSITE = str.maketrans("+-", "−+")
_MINUS = str.maketrans("-", "−")


class CommutationPage(CapturePage):
    """Codes over electrical angle, the table, and the sectors on the dial, where the rotor can be turned by hand."""

    key = "commutation"
    section = "Hand turn"

    def build(self) -> None:
        self._angle = 0.0
        self.table = Table("Hall table", _HEADS, row_height=26)
        self.table.setFixedHeight(26 * 6 + 32)
        self.table.itemSelectionChanged.connect(self._on_row)
        self.pictures.add_below(self.table)

    def _record(self) -> HallRecord | None:
        evidence = self.evidence()
        if evidence is not None:
            return evidence.halls
        settled = self.seen.settled.get("commutation")
        return settled.halls if settled else None

    def _show_words(self) -> None:
        super()._show_words()
        halls = self._record()
        if halls is not None and self.evidence() is not None:
            self._fill_table(halls)
            self.show_turn(self._angle)

    def _fill_table(self, halls: HallRecord) -> None:
        states = sorted(halls.states.items(), key=lambda item: item[1].from_deg)
        rows = []
        for (code, s), error in zip(states, halls.edge_errors_deg, strict=True):
            edges = (f"{s.from_deg:.1f}°", f"{s.center_deg:.1f}°", f"{s.to_deg:.1f}°")
            pairs = (s.drive.translate(_MINUS), s.drive.translate(_OPPOSITE))
            texts = (code, *edges, *pairs, f"{error:+.1f}°".replace("-", "−"))
            rows.append([Cell(text, bold=k in (0, 4), centred=True) for k, text in enumerate(texts)])
        self.table.show_rows(rows)

    def _on_row(self) -> None:
        halls, row = self._record(), self.table.currentRow()
        if halls is not None and row >= 0:
            rows = sorted(halls.states.values(), key=lambda s: s.from_deg)
            self.show_turn(rows[row].center_deg)

    def on_dial(self, angle: float) -> None:
        """Follow the rotor turned on the dial."""
        self.show_turn(angle)

    def panes(self, evaluated: Evaluated | None) -> Sequence[Pane]:
        rotor = Curve("rotor", "here", np.full(2, self._angle % 360), np.array([0.0, 7.0]), wide=True)
        return [replace(p, curves=(*p.curves, rotor)) for p in super().panes(evaluated)]

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
        self.pictures.put("rotor", [angle % 360] * 2, [0.0, 7.0])
        if here is not None:
            order = sorted(halls.states, key=lambda code: halls.states[code].from_deg)
            self.table.blockSignals(True)
            self.table.selectRow(order.index(here[0]))
            self.table.blockSignals(False)
        text = f"θe {angle:.0f}°: code {here[0]}, drive {here[1].drive.translate(_MINUS)}" if here else ""
        caption = text + "  (drag the rotor, or ← →)"
        self.show_dial(DialView(caption, rotor=angle, sectors=sectors, hexagon=False, draggable=True))
