"""Current loop, six-step: what does block commutation give with this back-EMF?"""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.errors import Refusal
from crisp_compass.plant.simulation import READY
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.block import BlockOutlook, block_outlook
from crisp_compass.views.picture import DialView


class BlockPage(Page):
    """Torque over the angle in both ways of commutation, and the speed that timing advance reaches under load."""

    key = "current_loop"
    section = "Six-step"
    question = "What does six-step give with this back-EMF?"
    fields = (
        Pick(
            "commutation",
            "Firmware commutates",
            {"sinusoidal": "field orientation", "block": "six-step"},
            width=150,
            tip="What speed loop, Run and hand-over are for",
        ),
        Entry("advance", "Timing advance", "deg", width=118, tip="Electrical degrees before the sector's edge"),
        Entry("plate.rated_current", width=112, tip="Continuous current, in the base that the plate says"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._work = Computation(self, self._on_done)
        self.found: BlockOutlook | None = None
        self.torque = Plot(
            ("rotor angle, electrical", "°"), ("torque", "N·m"), name="torque over one electrical turn"
        )
        self.torque.curve("block", "magenta", width=2.0, title="six-step")
        self.torque.curve("sine", "deep", width=1.6, dash="dash", title="field orientation")
        self.speed = Plot(("timing advance", "°"), ("speed under load", "rpm"), name="speed over timing advance")
        self.speed.curve("block", "magenta", width=2.0, title="six-step")
        self.speed.curve("sine", "deep", width=1.6, dash="dash", title="field orientation")
        self.speed.curve("here", "ochre", dash="dot", title="as set")
        self.rows = Rows("At rated current", width=330)
        self.column.addWidget(beside(QWidget(), (self.torque, self.speed), (self.rows,)), 1)
        self.finish()

    def refresh(self) -> None:
        if not READY.is_set():
            raise Refusal("The simulation is being prepared; this happens once, at the first start")
        bench = self.seen
        self.number("plate.rated_current").base = bench.settings.plate.current_base
        s = bench.settings
        inputs = (
            bench.settled,
            bench.evidence.get("flux"),
            s.plate,
            s.pwm,
            s.speed_loop,
            s.current_loop.delay_samples,
            s.sensor,
        )
        if not self._work.want(inputs, lambda: block_outlook(bench)) and self.found is not None:
            self._say(self.found)

    def show_nothing(self, refusal: Refusal) -> None:
        self.found = None
        super().show_nothing(refusal)
        self.show_dial(
            DialView(caption="One current through two phases, six steps a turn", rotor=0.0, current=(90.0, 0.8))
        )

    def _on_done(self, found: BlockOutlook) -> None:
        self.found = found
        self.torque.set("block", found.angle, found.block_torque)
        self.torque.set("sine", found.angle, found.sine_torque)
        self.speed.set("block", found.advances, found.reached * RPM_PER_RAD_S)
        level = found.oriented * RPM_PER_RAD_S
        self.speed.set("sine", [found.advances[0], found.advances[-1]], [level, level])
        self._say(found)
        for plot in (self.torque, self.speed):
            plot.fit()

    def _say(self, found: BlockOutlook) -> None:
        settings = self.seen.settings.current_loop
        advance = math.degrees(settings.advance)
        reached = float(np.interp(advance, found.advances, found.reached)) * RPM_PER_RAD_S
        plain = float(found.reached[0]) * RPM_PER_RAD_S
        low, high = float(np.min(found.reached)) * RPM_PER_RAD_S, float(np.max(found.reached)) * RPM_PER_RAD_S
        self.speed.set("here", [advance, advance], [low, max(high, low + 1.0)])
        ripple, smooth = 100 * _swing(found.block_torque), 100 * _swing(found.sine_torque)
        harmonics = f"5th {100 * found.wave.h5:.1f} %, 7th {100 * found.wave.h7:.1f} %".replace("-", "−")
        rest = float(np.interp(advance, found.advances, found.from_rest))
        start = ""
        if advance and rest < found.load:
            start = f" From rest it gives {show(rest, 'N·m')} at the worst angle with this advance: let the advance grow with speed for a heavier load."
        gained = f", at {grouped(reached)} rpm with {advance:.0f}° advance" if advance else ""
        self.answer.show_answer(
            f"{show(found.block.mean, 'N·m/A')} per DC ampere",
            f"torque ripple {ripple:.0f} % peak to peak, field orientation {smooth:.0f} %",
            f"Back-EMF {found.origin}: {harmonics}. Under {show(found.load, 'N·m')} the supply turns it at {grouped(plain)} rpm{gained}.{start}",
            stale=bool(start),
        )
        # the same heat in the copper: two phases with I against three with a peak of I·2/√3
        equal = found.block.mean / (2 / math.sqrt(3) * found.sine.mean)
        self.rows.show_rows([
            ("six-step, torque per DC A", show(found.block.mean, "N·m/A")), ("field orientation, per A peak", show(found.sine.mean, "N·m/A")),
            ("six-step for equal heat", f"{100 * equal:.0f} % of the torque"), ("ideal ripple, six-step", f"{100 * found.block.ripple:.0f} %"),
            ("ideal ripple, sine", f"{100 * found.sine.ripple:.0f} %"), ("least torque from rest", show(rest, "N·m")), ("DC current under load", show(float(np.interp(advance, found.advances, found.current)), "A")),
        ], note="The plant's torque holds what commutation overlap and the delay of the loop add to the ideal ripple.")  # fmt: skip
        self.show_dial(
            DialView(
                caption="One current through two phases, six steps a turn", rotor=0.0, current=(90.0 + advance, 0.8)
            )
        )


def _swing(torque: np.ndarray) -> float:
    """Return peak to peak over the mean, the outermost hundredths (switching instants) left out."""
    low, high = np.percentile(torque, (1, 99))
    mean = float(np.mean(torque))
    return float(high - low) / mean if mean else math.nan
