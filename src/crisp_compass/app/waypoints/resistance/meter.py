"""Resistance by meter: three pairs, the probes' own, and the balance of the phases."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.forest_plot import Bar, ForestPlot
from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import COPPER_RULES, resistance_at
from crisp_compass.course.known import meter_phases
from crisp_compass.course.repeats import meter_proposal
from crisp_compass.course.waypoint import Proposal
from crisp_compass.identify.meter import MeterPhases
from crisp_compass.preparation.checks import BY_CHECK, judge, probe_lead, record_reading
from crisp_compass.quantities import show, show_with_error
from crisp_compass.views.picture import DialView

_PAIRS = {"uv": "U–V", "vw": "V–W", "wu": "W–U"}
_EMPTY = "Ohmmeter between each two phases, rotor still, drive disconnected. Touch the probes together first and enter what they read."


class MeterPage(Page):
    """Pairs in, phases out, with their imbalance and both temperature rules."""

    key = "resistance"
    section = "Meter"
    question = "What do three meter readings say of the phases?"
    arranges_fields = True
    fields = (
        Entry(
            "meter_resolution",
            "Last digit",
            "Ω",
            width=92,
            tip="Of the meter, in this range; taken from the readings while empty",
        ),
        Entry("temperature", "Winding", "degC", width=82),
        Entry("cable", "Cable, one lead", "Ω", width=108),
        Entry(
            "instruments.meter_gain",
            "Meter's gain, u",
            "%",
            width=104,
            tip="Standard uncertainty of the meter's scale, from its data sheet",
        ),
        Entry(
            "instruments.meter_contact",
            "Contacts, u",
            "Ω",
            width=92,
            tip="Standard uncertainty of the contacts in one reading",
        ),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.forest = ForestPlot(_EMPTY)
        self.rows = Rows("At other temperatures", width=272)
        row = QHBoxLayout()
        row.setSpacing(8)
        self.plot = Plot(
            ("winding temperature", "°C"), ("mean phase resistance", "Ω"), name="resistance over temperature"
        )
        self.plot.curve("IEC 235", "magenta", width=2, title="IEC 60034-1, 235")
        self.plot.curve("IEEE 234.5", "deep", width=1.4, dash="dash", title="IEEE and NEMA, 234.5")
        self.plot.curve("read", "ink", symbol="o", size=9, title="meter reading")
        left = QVBoxLayout()
        left.setSpacing(8)
        left.addWidget(self.forest, 1)
        left.addWidget(self.plot, 1)
        row.addLayout(left, 1)
        row.addWidget(self.rows)
        self.column.addLayout(row, 1)
        self.pairs = {name: NumberField(title, "Ω", width=88, optional=True) for name, title in _PAIRS.items()}
        self.probes = NumberField("Probes together", "Ω", width=104, optional=True)
        for name, number in self.pairs.items():
            number.moved.connect(lambda value, n=name: self._on_reading("pairs", n, value))
        self.probes.moved.connect(lambda value: self._on_reading("probe_zero", "lead", value))
        self.add_fields(
            self._fields["meter_resolution"],
            self._fields["instruments.meter_gain"],
            self._fields["instruments.meter_contact"],
        )
        self.break_row()
        self.add_fields(self.probes, *self.pairs.values(), self._fields["cable"], self._fields["temperature"])
        self.finish("Settle…")

    def _on_reading(self, check: str, name: str, value: float) -> None:
        if not math.isnan(value):
            self._change(lambda bench: record_reading(bench, check, name, value, when=now()))

    def refresh(self) -> None:
        bench = self.seen
        settings = bench.settings.resistance
        record = judge(bench, BY_CHECK["pairs"]).record
        values = record.values if record else {}
        for name, number in self.pairs.items():
            number.show_value(values.get(name))
        lead = probe_lead(bench)
        self.probes.show_value(lead or None)
        solved = meter_phases(bench)
        assert self.main_button is not None
        self.main_button.setEnabled(solved is not None)
        self.show_dial(DialView(caption="One pair at a time, the third lead open", current=(330.0, 0.3)))
        if solved is None:
            refused = judge(bench, BY_CHECK["pairs"]).reason if values else ""
            self.answer.show_answer(
                "No pair yet",
                "",
                refused or "Enter the probes, then U–V, V–W and W–U; or type lead, ruv, rvw, rwu into the ledger.",
                stale=bool(refused),
            )
            self.forest.show_bars((), "Ω")
            self.rows.show_rows(())
            self.plot.hide()
            self.findings.show_findings(())
            return
        half = (solved.mean.high - solved.mean.low) / 2
        shown, doubt = show_with_error(solved.mean.value, half, "Ω")
        resolution = settings.meter_resolution
        self.answer.show_answer(shown, f"{doubt}, 95 %, mean of the phases", self._reason(solved, lead, resolution))
        bars = [Bar(f"phase {k}", "phase", e.value, (e.high - e.low) / 2) for k, e in solved.phases.items()]
        mean = Bar("mean", "mean", solved.mean.value, half)
        self.forest.show_bars(bars or [mean], "Ω", mean if bars else None)
        self.findings.show_findings(solved.findings)
        self._show_temperatures(solved.mean.value)
        self.main_button.setText(f"Settle {show(solved.mean.value, 'Ω')}…")

    @staticmethod
    def _reason(solved: MeterPhases, lead: float, resolution: float | None) -> str:
        probes = f"{show(lead, 'Ω')} of the probes subtracted" if lead else "the probes are not zeroed yet"
        balance = ""
        if solved.imbalance is not None:
            balance = f" Largest phase {100 * solved.imbalance.value:.2g} % from the mean."
        digit = f"Meter's last digit {show(resolution, 'Ω')}" if resolution else "Each reading's own last digit"
        return f"{digit}, {probes}.{balance}"

    def _show_temperatures(self, r: float) -> None:
        settings = self.seen.settings.resistance
        self.plot.setVisible(settings.temperature is not None)
        if settings.temperature is None:
            self.rows.show_rows((), note="Enter the winding's temperature to bring the value to another one.")
            return
        rows = []
        for target in dict.fromkeys((settings.reference, 20.0, 25.0, 80.0, 120.0)):
            iec, ieee = (resistance_at(r, settings.temperature, target, rule) for rule in COPPER_RULES)
            rows.append((f"{show(target, 'degC')}", f"{show(iec, 'Ω', 4)} / {show(ieee, 'Ω', 4)}"))
        self.rows.show_rows(rows)
        x = np.linspace(min(settings.temperature, 0.0), max(settings.temperature, 140.0), 60)
        for name, rule in zip(("IEC 235", "IEEE 234.5"), COPPER_RULES, strict=True):
            self.plot.set(name, x, [resistance_at(r, settings.temperature, float(t), rule) for t in x])
        self.plot.set("read", [settings.temperature], [r])
        self.plot.fit()

    def propose(self) -> Proposal | None:
        return meter_proposal(self.seen)
