"""What an empty bench can begin with: an own motor in three choices, a finished demo, a bench, the drills, the guide."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QSizePolicy, QVBoxLayout

from crisp_compass.app.widgets.flow import FlowRow
from crisp_compass.app.widgets.number_field import Choice
from crisp_compass.app.widgets.parts import button, label
from crisp_compass.bench.plate import PLATES
from crisp_compass.motor import labels
from crisp_compass.sensing import SENSORS

#: Demos by their folder, and what each shows.
DEMOS = {
    "winch": "servo, encoder", "thruster": "outrunner, halls", "pump": "no sensor", "carousel": "stepper", "hatch": "brushed", "hoist": "induction",
}  # fmt: skip
SUPPLIES = {"bench": "bench supply", "battery": "battery", "mains": "rectified mains"}
_STEPS = "Then copy the plate or data sheet into the fields below as it is printed, enter drive and supply, and follow the next bearing at the foot of the window."


class Beginning(QFrame):
    """``chosen`` carries family, sensor and supply of an own motor; ``wished`` what else is to be opened: ``open``, ``drills``, ``guide``, ``demo:NAME``."""

    chosen = Signal(str, str, str)
    wished = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("sheet")
        # a stack asks hidden pages too: this one must not make the plate wider or higher where it is not shown
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Ignored)
        self.family = Choice("Motor", labels(), width=150)
        self.sensor = Choice("Angle sensor", {}, width=150)
        self.supply = Choice("Supply", SUPPLIES, width=150)
        self.family.moved.connect(self._on_family)
        self._on_family("sinusoidal")
        self.begin = button("Begin with this motor", "")
        self.begin.clicked.connect(lambda: self.chosen.emit(*(c.box.currentData() for c in (self.family, self.sensor, self.supply))))
        column = QVBoxLayout(self)
        column.setContentsMargins(26, 18, 26, 16)
        column.setSpacing(10)
        column.addWidget(label("Your own motor", "heading"))
        own = FlowRow()
        for choice in (self.family, self.sensor, self.supply):
            choice.set_group("Own motor")  # the plate's own fields have the same titles
            own.add(choice)
        own.add(self.begin)
        column.addLayout(own)
        steps = label(_STEPS, "reason")
        steps.setWordWrap(True)
        column.addWidget(steps)
        column.addSpacing(8)
        column.addWidget(label("One that is finished, all of it invented", "heading"))
        column.addLayout(self._row({f"demo:{name}": f"{name.capitalize()}: {text}" for name, text in DEMOS.items()}))
        column.addSpacing(8)
        column.addWidget(label("Or", "heading"))
        column.addLayout(self._row({"open": "Open a bench…", "drills": "Drills…", "guide": "Guide to this page"}))
        column.addStretch(1)

    def _row(self, wishes: dict[str, str]) -> FlowRow:
        row = FlowRow()
        for wish, text in wishes.items():
            made = button(text, "small")
            made.clicked.connect(lambda _=False, w=wish: self.wished.emit(w))
            row.add(made)
        return row

    def _on_family(self, family: str) -> None:
        """Offer the sensors of this kind of motor."""
        offered = PLATES[family].sensors
        now = self.sensor.box.currentData()
        self.sensor.set_options({k: SENSORS[k].label for k in offered}, now if now in offered else offered[0])

