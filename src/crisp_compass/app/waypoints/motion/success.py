"""Motion, success: how quickly can it be moved and still keep its place?"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.map_work import MapWork
from crisp_compass.app.widgets.cell_map import CellMap
from crisp_compass.app.widgets.parts import beside, button
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.errors import Refusal
from crisp_compass.plant.simulation import READY
from crisp_compass.quantities import grouped, show
from crisp_compass.studies import move_map
from crisp_compass.studies.move_map import OUTCOMES, WANTED, MoveMap, MoveRate, MoveStudy

_KINDS = tuple(zip(OUTCOMES, ("water", "brick", "ochre"), strict=True))


class SuccessPage(Page):
    """Simulated moves over current and acceleration with everything unknown drawn anew; the share that keeps its place over the acceleration, and the quickest that keeps 99 of 100."""

    key = "motion"
    section = "Success"
    question = "How quickly can it be moved and still keep its place?"
    has_dial = False
    fields = (
        Entry("distance", "Way", "turn", width=100, tip="Of the motor's shaft, with its sign: in turns or °, or in mm where Plate, Load side says what a turn moves"),
        Entry("speed", "Speed", "rpm", width=96, tip="Of the shaft while it moves; the top speed if empty"),
        Entry("accel", width=112, tip="From and to rest, also as rpm/s or as the time to top speed; the stepping ramp if empty"),
        Entry("rounding", width=84, tip="Time in which the acceleration builds and fades; at once if empty"),
        Entry("stepping.current", "Current, rms", "A", width=108, base="rms", tip="Each winding; the plate's if empty"),
        Entry("run.load", "Load", "N·m", width=100, tip="At the motor's shaft"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        #: Cells each way, draws a cell, and runs of each acceleration of the rate.
        self.columns, self.cells, self.draws, self.tries = 20, 14, 3, 200
        self.study: MoveStudy | None = None
        self.made: MoveMap | None = None
        self.rate: MoveRate | None = None
        self._made_for: object = None
        self._work = MapWork(self)
        self._work.grown.connect(self._on_grown)
        self._work.done.connect(self._on_done)
        self._work.refused.connect(self.show_nothing)
        self._work.progress.connect(self._on_progress)
        self.map = CellMap("map of moves", _KINDS)
        self.plot = Plot(("acceleration", "rad/s²"), ("keeps its place", "%"), name="share of moves that keep their place over the acceleration", log_x=True)
        self.plot.curve("low", "ink", width=1.0, dash="dot", title="95 % interval")
        self.plot.curve("high", "ink", width=1.0, dash="dot", title="")
        self.plot.curve("wanted", "moss", width=1.2, dash="dash", title="99 %")
        self.plot.curve("share", "magenta", width=2.0, symbol="o", size=6, title="simulated")
        self.rows = Rows("With everything unknown at once", width=330)
        self.column.addWidget(beside(QWidget(), (self.map, self.plot), (self.rows,), (5, 3)), 1)
        copy = button("Copy map", "small")
        copy.clicked.connect(self.map.copy_picture)
        self.stop = button("Cancel", "small")
        self.stop.clicked.connect(self.cancel)
        self.stop.setEnabled(False)
        self.finish("Run map", copy, self.stop)

    def _inputs(self) -> object:
        s = self.seen.settings
        return (self.seen.settled, s.motion, s.stepping, s.run, s.plate, s.coupling, s.bus, s.pwm, s.current_loop)

    def refresh(self) -> None:
        if not READY.is_set():
            raise Refusal("The simulation is being prepared; this happens once, at the first start")
        self.study = move_map.move_study(self.seen)
        assert self.main_button is not None
        if self._made_for != self._inputs():
            if self._work.running:
                self._work.cancel()
                self.stop.setEnabled(False)
            self.made = self.rate = None
            self.map.show_counts(np.zeros((0, 0, len(_KINDS)), dtype=np.int64))
            self.plot.clear_data()
            self.rows.show_rows((), note="Not run yet.")
        self.main_button.setEnabled(not self._work.running)
        if self.made is None and not self._work.running:
            self.answer.show_answer("Not run yet", f"{grouped(self.columns * self.cells * self.draws)} moves over current and acceleration", "Run map tries them on all processors; friction, supply, load, inertia and constants are drawn anew each time.")
        self.findings.show_findings(())

    def on_main(self) -> None:
        """Run the map."""
        if self.study is None or self._work.running:
            return
        self._made_for = self._inputs()
        self.made = self.rate = None
        self.stop.setEnabled(True)
        assert self.main_button is not None
        self.main_button.setEnabled(False)
        self.answer.show_answer("Running …", "", "The map fills evenly while it is computed.")
        self._work.start(self.columns * self.cells, partial(self._make, self.study))

    def _make(self, study: MoveStudy, arrived: Callable[[MoveMap], None], called_off: Callable[[], bool]) -> tuple[MoveMap, MoveRate]:
        found = move_map.move_map(study, columns=self.columns, rows=self.cells, draws=self.draws, arrived=arrived, cancelled=called_off)
        return found, move_map.move_rate(study, tries=self.tries, cancelled=called_off)

    def cancel(self) -> None:
        """Stop the map; what is there stays."""
        self._work.cancel()
        self.stop.setEnabled(False)
        assert self.main_button is not None
        self.main_button.setEnabled(True)
        self.answer.show_answer("Cancelled", "", "What was computed stays on the map.")

    def leave(self) -> None:
        if self._work.running:
            self.cancel()

    def _on_progress(self, part: float) -> None:
        text = f"of {grouped(self.columns * self.cells * self.draws)} moves" if part < 1 else "of the map; now each acceleration many times"
        self.answer.show_answer(f"{100 * part:.0f} %", text, "The map fills evenly while it is computed.")

    def _on_grown(self, made: MoveMap) -> None:
        if self._work.running:
            self._draw(made)

    def _draw(self, made: MoveMap) -> None:
        self.made = made
        study = self.study
        assert study is not None
        currents, accels = made.currents * study.current / math.sqrt(2), made.accels * study.move.accel
        self.map.set_axes(("current, rms [A]", "acceleration [rad/s²]"), currents.tolist(), accels.tolist(), made.working)
        self.map.show_counts(made.counts)

    def _on_done(self, found: tuple[MoveMap, MoveRate]) -> None:
        made, self.rate = found
        self.stop.setEnabled(False)
        assert self.main_button is not None
        assert self.study is not None
        self.main_button.setEnabled(True)
        self._draw(made)
        rate, accel = self.rate, self.study.move.accel
        x = rate.factors * accel
        self.plot.set("share", x, 100 * rate.share)
        self.plot.set("low", x, 100 * rate.interval[:, 0])
        self.plot.set("high", x, 100 * rate.interval[:, 1])
        self.plot.set("wanted", [x[0], x[-1]], [100 * WANTED] * 2)
        self.plot.fit()
        self._say(rate, accel)

    def _say(self, rate: MoveRate, accel: float) -> None:
        quickest, study = rate.quickest, self.study
        assert study is not None
        if not math.isfinite(quickest):
            self.answer.show_answer("None keeps it", f"even {show(rate.factors[0] * accel, 'rad/s²', 3)} keeps its place in {100 * rate.share[0]:.0f} of 100 moves only", "More current, a lower speed, or less load.", stale=True)
            self.rows.show_rows(())
            return
        k = int(np.argmin(np.abs(rate.factors - quickest)))
        most = replace(study.move, accel=quickest * accel)
        end = quickest == rate.factors[-1]
        head = f"{show(quickest * accel, 'rad/s²', 3)}"
        at_set = float(np.interp(0.0, np.log(rate.factors), rate.share))
        self.answer.show_answer(
            head, f"keeps its place in {100 * rate.share[k]:.1f} of 100 moves (95 %: {100 * rate.interval[k, 0]:.1f} to {100 * rate.interval[k, 1]:.1f})" + ("; more was not tried" if end else ""),
            f"The move then takes {show(most.duration, 's', 3)} instead of {show(study.move.duration, 's', 3)}." if quickest > 1 else "Less than what is set: the move as set loses its place now and then.", stale=quickest < 1,
        )  # fmt: skip
        self.rows.show_rows([
            ("set", show(accel, "rad/s²", 3)), ("keeps its place as set", f"{100 * at_set:.0f} of 100"), ("the move takes, as set", show(study.move.duration, "s", 3)),
            ("quickest that keeps 99 of 100", show(quickest * accel, "rad/s²", 3)), ("the move then takes", show(most.duration, "s", 3)), ("moves of each acceleration", f"{rate.tries}"),
            ("friction, ±", f"{200 * move_map.FRICTION:.0f} %"), ("load, ±", f"{200 * move_map.LOAD:.0f} %"), ("inertia, ±", f"{200 * move_map.INERTIA:.0f} %"),
            ("flux linkage, ±", f"{200 * move_map.FLUX:.0f} %"), ("resistance, ±", f"{200 * move_map.RESISTANCE:.0f} %"), ("supply, down to", f"−{100 * move_map.SAG:.0f} %"),
        ], note="Each doubt is two standard deviations; the diamond is what is set. A rotor that is drawn a whole electrical turn back has lost four full steps.")  # fmt: skip
