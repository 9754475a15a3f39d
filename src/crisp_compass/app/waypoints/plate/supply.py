"""Plate, drive and supply: what may a first run draw, and how far does the bus reach?"""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.open_points import presumed_text
from crisp_compass.errors import Refusal
from crisp_compass.motor import family_of
from crisp_compass.preparation.supply import supply_outlook
from crisp_compass.quantities import grouped, show
from crisp_compass.views.picture import DialView

_BY_SOURCE = {
    "bench": ("current_limit",), "battery": ("v_empty", "v_full"), "mains": ("mains_v", "mains_hz"),
}  # fmt: skip


class SupplyPage(Page):
    """Bus, drive rating against the motor, and proposed limits with their reasons."""

    key = "plate"
    section = "Drive and supply"
    question = "How far does the supply reach, and what may a first run draw?"
    fields = (
        Pick(
            "supply.source",
            "Supply",
            {"bench": "bench supply", "battery": "battery", "mains": "rectified mains"},
            width=120,
        ),
        Entry("v_bus", "Bus, usual", "V", width=80),
        Entry("supply.current_limit", "Supply current limit", "A", width=140),
        Entry("supply.v_empty", "Empty", "V", width=74),
        Entry("supply.v_full", "Full", "V", width=74),
        Entry("supply.mains_v", "Mains, rms", "V", width=86, tip="Between two leads of the rectifier"),
        Pick("supply.mains_hz", "Mains frequency", {"50": "50 Hz", "60": "60 Hz"}, width=116),
        Entry("supply.drive_continuous", "Drive, steady", "A", width=86),
        Entry("supply.drive_peak", "peak", "A", width=72),
        Pick("supply.drive_base", "given as", {"rms": "rms", "peak": "peak"}, width=68),
        Entry("supply.command_volts", "Top command", "V", width=92, tip="Analogue command that asks for top speed"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.plot = Plot(("bus voltage", "V"), ("speed reached", "rpm"), name="speed over bus voltage")
        self.plot.curve("reach", "magenta", width=2, title="back-EMF meets the limit")
        self.plot.curve("bus", "deep", width=5, title="range of the bus")
        self.plot.curve("top speed", "ochre", width=1.4, dash="dot")
        self.rows = Rows("Motor, drive and bus", width=272)
        self.limits = Rows("Limits proposed for a first run", prose=True)
        left = QVBoxLayout()
        left.setSpacing(8)
        left.addWidget(self.plot, 1)
        left.addWidget(self.limits)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addLayout(left, 1)
        row.addWidget(self.rows)
        self.column.addLayout(row, 1)
        self.finish("Use as run limits")

    def refresh(self) -> None:
        bench = self.document.bench
        supply = bench.settings.supply
        for field in ("drive_continuous", "drive_peak"):
            self.number(f"supply.{field}").base = supply.drive_base
        shown = _BY_SOURCE[supply.source]
        for setting, widget in self._fields.items():
            field = setting.removeprefix("supply.")
            if any(field in fields for fields in _BY_SOURCE.values()):
                widget.setVisible(field in shown)
        outlook = supply_outlook(bench)
        limits = outlook.limits
        if outlook.reach:
            low, high = (r * RPM_PER_RAD_S for r in outlook.reach)
            text = f"{grouped(low)} to {grouped(high)} rpm" if high > 1.001 * low else f"{grouped(high)} rpm"
            self.answer.show_answer(
                text,
                f"maximum speed by back-EMF alone, without field weakening; {outlook.bus.text}",
                f"First run: {show(limits.current.value, 'A')} peak, {grouped(limits.speed.value * RPM_PER_RAD_S)} rpm, supply limit {show(limits.supply.value, 'A')}.",
            )
        else:
            self.answer.show_answer(
                show(limits.current.value, "A"),
                "peak current for a first run",
                f"Enter {family_of(bench).speed_by} on the motor's plate to see how far the bus reaches.",
            )
        said = presumed_text(bench, "plate", "v_bus", "rated_current", "top_speed")
        if said:
            self.answer.show_reason(f"{said} {self.answer.reason}")
        self.findings.show_findings(outlook.findings)
        self.rows.show_rows(
            outlook.rows,
        )
        self.limits.show_rows(
            [
                (item.name, f"{show(item.value, item.unit)}, {item.reason}")
                for item in (limits.current, limits.speed, limits.supply)
            ]
        )
        top = bench.settings.plate.top_speed * RPM_PER_RAD_S
        bus = np.array([0.0, 1.3 * max(outlook.bus.high, bench.settings.plate.v_bus)])
        slope = outlook.reach[1] / outlook.bus.high * RPM_PER_RAD_S if outlook.reach else 0.0
        self.plot.set("reach", bus if slope else [], bus * slope if slope else [])
        span = np.array(
            [outlook.bus.low, outlook.bus.high if outlook.bus.high > outlook.bus.low else outlook.bus.low * 1.004]
        )
        self.plot.set("bus", span, span * slope)
        self.plot.set("top speed", bus, [top, top])
        self.plot.fit()
        self.show_dial(
            DialView(caption=f"The hexagon is what {show(bench.settings.plate.v_bus, 'V')} can give", rotor=0.0)
        )

    def on_main(self) -> None:
        """Carry current and speed of a first run over to the run's settings."""
        limits = supply_outlook(self.document.bench).limits
        try:
            fields = {
                "i_limit": limits.current.value,
                "i_trip": 2 * limits.current.value,
                "speed": limits.speed.value,
            }
            self.document.set_fields("run limits", {"run": fields})
        except Refusal as refusal:
            self.refuse(refusal)
            return
        self.done.emit(
            f"Run limits set: {show(limits.current.value, 'A')} peak, trip at {show(2 * limits.current.value, 'A')}, "
            f"{grouped(limits.speed.value * RPM_PER_RAD_S)} rpm"
        )
