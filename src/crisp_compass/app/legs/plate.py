"""Plate: what stands on the motor and what feeds it?"""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QVBoxLayout

from crisp_compass.app.dial import DialView
from crisp_compass.app.document import Document
from crisp_compass.app.legs.base import LegPage
from crisp_compass.app.widgets.lever import Choice, Lever
from crisp_compass.app.widgets.parts import empty, frame, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.quantities import show
from crisp_compass.voyage.design import plate_values
from crisp_compass.voyage.outlook import plate_outlook

_CAUTION = (
    "Before power: motor clamped and uncoupled, hoist or vertical axis blocked, supply current limit set, emergency stop within reach, "
    "protective earth connected first. Phase to frame above 100 MΩ (common practice) before the drive is connected. "
    "Mains wiring and lifting equipment follow local codes and qualified people."
)


class PlatePage(LegPage):
    """Plate and supply in short form; how fast the supply can turn the motor; the constants in all schools."""

    key = "plate"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.plot = Plot(("speed", "rpm"), ("phase voltage, peak", "V"), name="voltage over speed")
        self.plot.curve("back-EMF", "magenta", width=2)
        self.plot.curve("limit", "ink", width=1.4, dash="dash")
        self.plot.curve("top speed", "ochre", width=1.4, dash="dot")
        self._schools = QGridLayout()
        self._schools.setHorizontalSpacing(14)
        self._schools.setVerticalSpacing(5)
        side = frame("sheet")
        inside = QVBoxLayout(side)
        inside.setContentsMargins(14, 10, 14, 10)
        inside.addWidget(label("The same constant in every school", "heading"))
        inside.addLayout(self._schools)
        inside.addStretch(1)
        legend = label("magenta: back-EMF · dashed: modulator's limit · dotted: top speed", "info")
        inside.addWidget(legend)
        legend.setWordWrap(True)
        side.setFixedWidth(254)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(self.plot, 1)
        row.addWidget(side)
        self.column.addLayout(row, 1)
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        self.column.addWidget(caution)
        self._build_levers()

    def _build_levers(self) -> None:
        self._levers: dict[str, Lever | Choice] = {
            "pole_pairs": Lever("Pole pairs", "", width=76, whole=True),
            "v_bus": Lever("Supply", "V", width=88),
            "rated_current": Lever("Rated current", "A", width=104),
            "current_base": Choice("given as", {"peak": "peak", "rms": "rms"}, width=78),
            "top_speed": Lever("Top speed", "rpm", width=112),
            "kv": Lever("Kv, data sheet", "rpm/V", width=112, optional=True),
            "kv_school": Choice(
                "per volt of",
                {"line-peak": "line peak", "line-rms": "line rms", "six-step-dc": "six-step DC"},
                width=118,
            ),
            "connection": Choice("Winding", {"star": "star", "delta": "delta"}, width=82),
            "inertia": Lever("Inertia", "kg·m²", width=126, plain=True),
            "viscous": Lever("Viscous friction", "N·m·s/rad", width=138),
            "coulomb": Lever("Coulomb friction", "N·m", width=118),
            "sensor": Choice("Angle sensor", {"encoder": "encoder", "halls": "halls"}, width=106),
            "counts_per_rev": Lever("Counts per turn, ×4", "", width=128, whole=True),
        }
        first, second = QHBoxLayout(), QHBoxLayout()
        for index, (field, lever) in enumerate(self._levers.items()):
            (first if index < 8 else second).addWidget(lever)
            self.bind(lever, field)
            if isinstance(lever, Lever):
                lever.refused.connect(self.refused)
        for line in (first, second):
            line.setSpacing(8)
            line.addStretch(1)
        self.column.addLayout(first)
        self.lever_row.addLayout(second)
        self.finish("Settle plate…")

    def refresh(self) -> None:
        bench = self.document.bench
        for field, lever in self._levers.items():
            lever.show_value(getattr(bench.levers.plate, field))
        outlook = plate_outlook(bench)
        plate = bench.levers.plate
        if outlook.reach:
            answer = f"{outlook.reach * RPM_PER_RAD_S:.0f} rpm"
            doubt = f"is where {show(plate.v_bus, 'V')} ends without field weakening ({outlook.flux_source} flux {show(outlook.flux, 'Wb')})"
        else:
            answer = f"{show(plate.v_bus, 'V')}, {plate.pole_pairs} pole pairs"
            doubt = "Enter the data sheet's Kv to see how fast this supply can turn the motor."
        title = f"{plate.motor}: " if plate.motor else ""
        self.answer.show_answer(
            answer,
            doubt,
            f"{title}at top speed the field turns at {show(outlook.top_hz, 'Hz')}; the modulator gives {show(outlook.limit, 'V')} phase peak.",
        )
        self.findings.show_findings(outlook.findings)
        empty(self._schools)
        for index, (name, value) in enumerate(outlook.schools):
            self._schools.addWidget(label(name, "label"), index, 0)
            shown = QLabel(value)
            shown.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            self._schools.addWidget(shown, index, 1, Qt.AlignmentFlag.AlignRight)
        rpm = outlook.speed * RPM_PER_RAD_S
        self.plot.set(
            "back-EMF", rpm[: 0 if outlook.emf is None else None], outlook.emf if outlook.emf is not None else rpm[:0]
        )
        self.plot.set("limit", rpm[[0, -1]], [outlook.limit] * 2)
        top = plate.top_speed * RPM_PER_RAD_S
        self.plot.set("top speed", [top, top], [0.0, outlook.limit * 1.25])
        self.plot.fit()
        self.show_dial(DialView(caption=f"{plate.pole_pairs} electrical turns to one of the shaft", rotor=0.0))

    def on_main(self) -> None:
        plate = self.document.bench.levers.plate
        self.settle(
            "plate",
            f"{show(plate.v_bus, 'V')}, {plate.pole_pairs} pole pairs",
            "from the motor plate and the bench supply",
            values=plate_values(self.document.bench),
        )
