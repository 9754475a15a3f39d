"""Start-up, climb: which speeds on the way to the top, and does what is read there fit?"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside, button, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.quantities import grouped
from crisp_compass.studies.climb import OVER, Climb, add_point, climb_of, expected_current
from crisp_compass.views.picture import DialView

_CAUTION = "Stay below the burst speed that the rotor's maker states; stand out of its plane, guard closed, eyes away. Stop at once on a new noise, a smell or a current above the line."


class ClimbPage(PlayedPage):
    """Expected current and voltage over the speed with what was read, stage by stage."""

    key = "start_up"
    section = "Climb"
    dial = DialView(caption="Faster: less voltage left, fewer samples a turn", rotor=25.0, voltage=(118.0, 0.9))
    question = "Which speed next on the way to the top?"
    arranges_fields = True
    fields = (
        Entry("climb_step", "Step", width=72, plain=True, tip="From one speed to the next; 1.5 is usual"),
        Entry("climb_speed", "Held", "rpm", width=104, tip="Speed that was held"),
        Entry("climb_current", "Current read", "A", width=104, base="peak", tip="Phase peak"),
        Entry(
            "climb_ripple",
            "Angle wanders",
            "°",
            width=104,
            tip="rms, as the firmware's telemetry says it, if it does",
        ),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: Climb | None
        self.current = Plot(("speed", "rpm"), ("current, peak", "A"), name="current over the climb")
        self.current.curve("expected", "magenta", width=2.0, title="expected")
        self.current.curve("limit", "ochre", width=1.4, dash="dash", title=f"stop above +{100 * OVER:.0f} %")
        self.current.curve("read", "ink", symbol="o", size=9, title="read")
        self.volts = Plot(("speed", "rpm"), ("phase voltage, peak", "V"), name="voltage over the climb")
        self.volts.curve("needed", "deep", width=2.0, title="needed")
        self.volts.curve("there", "ink", width=1.4, dash="dash", title="there is")
        self.table = Table(
            "stages of the climb", ("rpm", "expected", "read", "V left", "samples", "ripple"), row_height=26
        )
        self.table.setFixedWidth(400)
        self.table.setEditTriggers(Table.EditTrigger.NoEditTriggers)
        self.column.addWidget(beside(QWidget(), (self.current, self.volts), (self.table,), (3, 2)), 1)
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        self.column.addWidget(caution)
        self.add_fields(*self._fields.values())
        self.clear = button("Clear points", "small")
        self.clear.clicked.connect(
            lambda: self._change(lambda b: enter(b, "start_up", {"climb": ()}), "clear the climb")
        )
        self.finish("Add point", self.clear)

    def question_for(self, bench: Bench) -> Callable[[], Climb]:
        return lambda: climb_of(bench)

    def refresh(self) -> None:
        self.clear.setEnabled(bool(self.seen.settings.start_up.climb))
        super().refresh()

    def show_found(self) -> None:
        found = self.found
        assert found is not None
        rpm = found.speed * RPM_PER_RAD_S
        self.current.set("expected", rpm, found.current)
        self.current.set("limit", rpm, (1 + OVER) * found.current)
        self.current.set("read", [p.speed * RPM_PER_RAD_S for p in found.points], [p.current for p in found.points])
        self.volts.set("needed", rpm, found.voltage)
        self.volts.set("there", rpm[[0, -1]], np.full(2, found.available))
        for plot in (self.current, self.volts):
            plot.fit()
        self.findings.show_findings(found.findings)
        stopped = any(f.code == "current-above-expected" for f in found.findings)
        if stopped:
            self.answer.show_answer(
                "Stop the climb",
                "What was read does not fit",
                "Clear or correct the point once the cause is found.",
                stale=True,
            )
        elif found.next_speed is None:
            self.answer.show_answer(
                "At the top", "Every stage was held", "Each point lies within the expected current."
            )
        else:
            stage = next(s for s in found.stages if s.speed == found.next_speed)
            self.answer.show_answer(
                f"Next: {grouped(stage.speed * RPM_PER_RAD_S)} rpm",
                f"Expect {stage.current:.3g} A peak, stop above {(1 + OVER) * stage.current:.3g} A; {100 * stage.reserve:.0f} % of the voltage left, {grouped(stage.samples)} samples a turn",
                "Hold each speed until the current is steady, enter what is read, then go on.",
            )
        self._fill(found)

    def _fill(self, found: Climb) -> None:
        rows = []
        for stage in found.stages:
            at = next((p for p in found.points if abs(p.speed / stage.speed - 1) < 0.1), None)
            read = "" if at is None else f"{at.current:.3g} A"
            high = at is not None and at.current > (1 + OVER) * expected_current(found.stages, at.speed)
            rows.append([
                Cell(f"{stage.speed * RPM_PER_RAD_S:.0f}", bold=stage.speed == found.next_speed), Cell(f"{stage.current:.3g} A"),
                Cell(read, token="brick" if high else "ink"), Cell(f"{100 * stage.reserve:.0f} %", token="brick" if stage.reserve < 0.1 else "ink"),
                Cell(f"{stage.samples:.0f}"), Cell(f"{math.degrees(stage.ripple):.2f}°"),
            ])  # fmt: skip
        self.table.show_rows(rows)

    def on_main(self) -> None:
        self._change(
            lambda b: enter(
                b,
                "start_up",
                {"climb": add_point(b), "climb_speed": None, "climb_current": None, "climb_ripple": None},
            ),
            "add a point of the climb",
        )
