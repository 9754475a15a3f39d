"""Commutation, edges: what do the halls' mounting errors cost, and what does correcting them bring?"""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QStackedWidget, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.answer import Waiting
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.records import HallRecord
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.drive import unsettled_inputs
from crisp_compass.course.waypoints.commutation import known_halls
from crisp_compass.errors import Refusal
from crisp_compass.motor import pole_pairs_of
from crisp_compass.plant.simulation import READY
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.hall_edges import EdgeCost, default_edge_speed, edge_cost
from crisp_compass.views.picture import DialView, Sector


class EdgesPage(Page):
    """Torque and measured speed over the electrical angle, edges table_edges even against edges corrected."""

    key = "commutation"
    section = "Edges"
    question = "What do the edges' errors cost?"
    fields = (Entry("edge_speed", "Speed", "rpm", width=110, tip="A quarter of top speed if empty"),)

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.cost: EdgeCost | None = None
        self._work = Computation(self, self._on_cost)
        self.torque = Plot(("rotor turned, electrical", "°"), ("torque", "N·m"), name="torque over angle")
        self.speed = Plot(("rotor turned, electrical", "°"), ("speed as measured", "rpm"), name="speed over angle")
        for plot in (self.torque, self.speed):
            plot.curve("even", "deep", width=1.5, dash="dash", title="even edges assumed")
            plot.curve("corrected", "magenta", width=1.8, title="edges corrected")
        self.rows = Rows("At this speed", width=330)
        middle = beside(QWidget(), (self.torque, self.speed), (self.rows,), (1, 1))
        self.waiting = Waiting()
        self.stack = QStackedWidget()
        self.stack.addWidget(self.waiting)
        self.stack.addWidget(middle)
        self.column.addWidget(self.stack, 1)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        halls = known_halls(bench)
        speed = bench.settings.commutation.edge_speed or default_edge_speed(bench)
        self._show_dial(halls)
        if halls is None:
            self.cost = None
            self.waiting.show_steps([("Hand turn", "drop a capture of halls and two line voltages first")])
            self.stack.setCurrentIndex(0)
            self.answer.show_answer("No hall table yet", "", "Capture a hand turn first.", stale=True)
            return
        inputs = (halls, bench.settled, bench.settings.plate, speed)
        if READY.is_set():
            edges = np.sort([s.from_deg for s in halls.states.values()])
            self._work.want(inputs, lambda: edge_cost(bench, edges, speed))

    def _show_dial(self, halls: HallRecord | None) -> None:
        sectors = () if halls is None else tuple(Sector(s.from_deg, s.to_deg, c) for c, s in halls.states.items())
        caption = (
            "" if halls is None else f"Worst edge {max(abs(e) for e in halls.edge_errors_deg):.1f}° off its place"
        )
        self.show_dial(DialView(caption=caption, sectors=sectors, hexagon=False))

    def show_nothing(self, refusal: Refusal) -> None:
        super().show_nothing(refusal)
        self.cost = None
        self.waiting.show_steps([])
        self.stack.setCurrentIndex(0)

    def _on_cost(self, cost: EdgeCost) -> None:
        self.cost = cost
        self.stack.setCurrentIndex(1)
        for key, trace in (("even", cost.even), ("corrected", cost.corrected)):
            angle = np.degrees(trace["theta_e"] - trace["theta_e"][0])
            shown = angle <= 4 * 360
            self.torque.set(key, angle[shown], trace["torque"][shown])
            self.speed.set(key, angle[shown], trace["speed_seen"][shown] * RPM_PER_RAD_S)
        for plot in (self.torque, self.speed):
            plot.fit()

        def pair(values: tuple[float, float]) -> str:
            return f"{100 * values[0]:.1f} → {100 * values[1]:.1f} %"

        before, after = (f"{100 * r:.0f} %" for r in cost.ripple)
        self.answer.show_answer(
            f"Torque ripple {before}",
            f"falls to {after} once the edges are corrected"
            if after != before
            else "correcting the edges gains nothing at this speed",
            f"Simulated at {grouped(cost.speed * RPM_PER_RAD_S)} rpm against 0.3 of rated torque. {unsettled_inputs(self.seen)}".strip(),
        )
        self.rows.show_rows(
            [
                ("torque, peak to peak", pair(cost.ripple)),
                ("speed as measured, rms", pair(cost.jitter)),
                ("speed of the shaft, rms", pair(cost.swing)),
                ("one period, at worst", f"{100 * cost.worst:.1f} % wrong"),
                ("edge to edge", show(2 * np.pi / (6 * self._pole_pairs() * cost.speed), "s")),
            ],
            note="Speed is measured from edge to edge; an edge e degrees off makes that period e/60 wrong. The header holds the corrected edges.",
        )

    def _pole_pairs(self) -> int:
        return pole_pairs_of(self.seen.settings.plate)

    def leave(self) -> None:
        self._work.drop()
