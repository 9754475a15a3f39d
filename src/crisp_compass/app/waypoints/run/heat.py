"""Run, heat: how hot does the motor get, and does the firmware know?"""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

from PySide6.QtWidgets import QPushButton

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import Evaluated
from crisp_compass.course.heat import Outlook, heat_outlook, taken, with_guard
from crisp_compass.errors import Refusal
from crisp_compass.motor import family_of
from crisp_compass.views.heat import outlook_panes
from crisp_compass.views.picture import Pane, Said


class HeatPage(CapturePage):
    """A duty with the winding's course, how long a current may flow beside the firmware's trip; thermal constants entered or from a capture."""

    key = "run"
    section = "Heat"
    settles = False
    always_plots = True
    has_dial = False
    question = "How hot does the motor get?"
    caution = "Warming a motor on purpose: watch it, stop in time, keep hands and what burns away; a smell or smoke means off at once."
    fields = (
        Pick("heat.insulation", "Insulation", {"unknown": "not known", "A": "class A", "E": "class E", "B": "class B", "F": "class F", "H": "class H"}, width=104, group="Motor", tip="Thermal class on the plate or in the data sheet"),
        Entry("heat.limit", "Limit", "°C", width=80, group="Motor", tip="Where the maker or a magnet allows less than the class; by the class if empty"),
        Entry("heat.to_housing", "To housing", "K/W", width=108, group="Motor", tip="Thermal resistance from winding to housing"),
        Entry("heat.winding_time", "winding", "s", width=80, group="Motor", tip="Thermal time constant of the winding"),
        Entry("heat.to_air", "To air", "K/W", width=104, group="Motor", tip="Thermal resistance from housing to air, as mounted; alone: from winding to air"),
        Entry("heat.housing_time", "motor", "s", width=80, group="Motor", tip="Thermal time constant of the motor"),
        Pick("heat.magnet", "Magnets", {"unknown": "not known", "neodymium": "neodymium", "samarium-cobalt": "samarium", "ferrite": "ferrite"}, width=108, group="Motor", tip="What warmth takes of the flux"),
        Entry("heat.ambient", "Air", "°C", width=72, group="Around", tip="Around the motor"),
        Pick("heat.cooling", "Cooling", {"still": "still air", "own": "own fan", "forced": "forced"}, width=92, group="Around", tip="A fan on the shaft cools less at low speed"),
        Entry("heat.standstill", "at rest", "%", width=72, group="Around", tip="Share of the cooling that is left at standstill with a fan on the shaft"),
        Pick("heat.duty", "Duty", {"S1": "S1 for ever", "S2": "S2 once", "S3": "S3 repeated"}, width=108, group="Duty", tip="Duty types of IEC 60034-1"),
        Entry("heat.current", "Current", "A", width=88, base="peak", group="Duty", tip="Under load; the rated current if empty"),
        Entry("heat.speed", "Speed", "rpm", width=88, group="Duty", tip="Under load; the speed of Run if empty"),
        Entry("heat.on_time", "Load for", "s", width=84, group="Duty"),
        Entry("heat.period", "every", "s", width=84, group="Duty", tip="From one load to the next"),
        Entry("heat.rest_current", "at rest", "A", width=84, base="peak", group="Duty", tip="That holds the load, or makes a flux, between"),
    )  # fmt: skip

    def build(self) -> None:
        self.found: Outlook | None = None
        self.take_heat = QPushButton("Take the constants")
        self.take_heat.setToolTip("Enter the thermal constants that this capture tells")
        self.take_heat.clicked.connect(self._on_constants)
        self.take_guard = QPushButton("Take the overload trip")
        self.take_guard.setToolTip("Set continuous current and overload time of Run so that the winding stays within its limit")
        self.take_guard.clicked.connect(self._on_guard)

    def buttons(self) -> Sequence[QPushButton]:
        return self.take_heat, self.take_guard

    def _on_constants(self) -> None:
        evidence = self.evidence()
        if evidence is not None:
            self._change(lambda bench: taken(bench, evidence), "thermal constants of the capture")

    def _on_guard(self) -> None:
        guard = self.found.guard if self.found is not None else None
        if guard is not None:
            self._change(lambda bench: with_guard(bench, guard), "overload trip by the motor's heat")

    def said(self, evidence: Evidence | None) -> Said:
        try:
            self.found = heat_outlook(self.seen)
        except Refusal:
            self.found = None
        guard = self.found.guard if self.found is not None else None
        self.take_guard.setEnabled(guard is not None and guard.seconds is not None)
        self.take_heat.setVisible(evidence is not None)
        return super().said(evidence)

    def panes(self, evaluated: Evaluated | None) -> Sequence[Pane]:
        shown: list[Pane] = []
        with contextlib.suppress(Refusal):  # the answer says why
            shown += outlook_panes(self.seen)
        return shown + (list(super().panes(evaluated)) if evaluated is not None else [])

    def refresh(self) -> None:
        s = self.seen.settings.heat
        self._fields["heat.standstill"].setVisible(s.cooling == "own")
        self._fields["heat.magnet"].setVisible(not family_of(self.seen).own_circuit)
        self._fields["heat.on_time"].setVisible(s.duty != "S1")
        for name in ("heat.period", "heat.rest_current"):
            self._fields[name].setVisible(s.duty == "S3")
        super().refresh()
        made_from = self._rests_on(self.seen)
        if made_from != getattr(self, "_drawn_for", None):
            self._drawn_for = made_from
            self._draw(self.reading.evaluated)

    def _rests_on(self, bench: Bench) -> object:
        return (bench.settings.heat, bench.settings.run, bench.settings.plate, bench.settings.resistance, bench.settings.current_loop, bench.settled)
