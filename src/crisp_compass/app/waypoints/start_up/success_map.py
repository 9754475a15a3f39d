"""Start-up, success map: how far is the start from where it fails?"""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Pick
from crisp_compass.app.page.map_work import MapWork
from crisp_compass.app.widgets.cell_map import CellMap
from crisp_compass.app.widgets.parts import beside, button
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.errors import Refusal
from crisp_compass.plant.simulation import READY
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.start import OUTCOMES, Played
from crisp_compass.studies.start_map import (
    LEVERS,
    Rate,
    StartMap,
    StartStudy,
    check_levers,
    kind_counts,
    lever_title,
    margin_text,
    margins,
    play_cell,
    start_map,
    study_of,
    success_rate,
    working_cell,
)
from crisp_compass.views.picture import DialView

_KINDS = tuple(zip(OUTCOMES, ("water", "deep", "brick", "ochre"), strict=True))
_TITLES = {key: lever.title for key, lever in LEVERS.items()}
#: Cells each way, draws a cell, and starts of the rate.
_CELLS, _DRAWS, _TRIES = 40, 5, 400


class MapPage(Page):
    """Thousands of simulated starts over two levers; a chosen cell is played by the whole plant."""

    key = "start_up"
    section = "Success map"
    question = "How far is the start from where it fails?"
    fields = (
        Pick("across", "Across", _TITLES, width=232),
        Pick("up", "Up", _TITLES, width=232),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        #: Cells each way, draws a cell, and starts of the rate.
        self.cells, self.draws, self.tries = _CELLS, _DRAWS, _TRIES
        self.study: StartStudy | None = None
        self.made: StartMap | None = None
        self.rate: Rate | None = None
        self._made_for: object = None
        self._work = MapWork(self)
        self._work.grown.connect(self._on_grown)
        self._work.done.connect(self._on_done)
        self._work.refused.connect(self.show_nothing)
        self._work.progress.connect(self._on_progress)
        self._play = Computation(self, self._on_played)
        self.map = CellMap("map of starts", _KINDS)
        self.map.chosen.connect(self._on_cell)
        self.played = Plot(("time", "s"), ("speed", "rpm"), name="start of the chosen cell")
        self.played.curve("true", "magenta", width=2.0, title="rotor")
        self.played.curve("estimate", "ink", width=1.4, dash="dot", title="estimate, where valid")
        self.rows = Rows("Everything unknown at once", width=330)
        self.column.addWidget(beside(QWidget(), (self.map, self.played), (self.rows,), (5, 3)), 1)
        copy = button("Copy map", "small")
        copy.clicked.connect(self.map.copy_picture)
        self.stop = button("Cancel", "small")
        self.stop.clicked.connect(self.cancel)
        self.stop.setEnabled(False)
        self.finish("Run map", copy, self.stop)

    # ---- work

    def _inputs(self) -> object:
        bench, s = self.seen, self.seen.settings
        return (bench.settled, s.start_up, s.run, s.speed_loop, s.plate)

    def refresh(self) -> None:
        if not READY.is_set():
            raise Refusal("The simulation is being prepared; this happens once, at the first start")
        self.show_dial(DialView(caption="Every cell shows a few simulated starts", rotor=-50.0, current=(0.0, 0.8)))
        self.study = study_of(self.seen)
        assert self.main_button is not None
        self.main_button.setEnabled(not self._work.running)
        if self._made_for != self._inputs():
            self._work.cancel()
            self.stop.setEnabled(False)
            self.main_button.setEnabled(True)
            self.made, self.rate = None, None
            self._frame()
        if self.made is None and not self._work.running:
            s = self.seen.settings.start_up
            self.answer.show_answer(
                "Not run yet",
                f"{grouped(self.cells**2 * self.draws)} starts over {_TITLES[s.across].split(',')[0]} and {_TITLES[s.up].split(',')[0]}",
                "Run map tries them on all processors; everything else is drawn from what is not known.",
            )

    def _frame(self) -> None:
        """Show the empty map with its axes."""
        self.map.show_counts(np.zeros((0, 0, len(_KINDS)), dtype=np.int64))
        self.played.clear_data()
        self.rows.show_rows((), heading="Everything unknown at once", note="Not run yet.")

    def on_main(self) -> None:
        """Run the map."""
        if self.study is None or self._work.running:
            return
        s, study = self.seen.settings.start_up, self.study
        try:
            check_levers(s.across, s.up, study.drive)
        except Refusal as refusal:
            self.refuse(Refusal(refusal.problem, refusal.remedy))
            return
        self._made_for = self._inputs()
        self.made, self.rate = None, None
        self.stop.setEnabled(True)
        assert self.main_button is not None
        self.main_button.setEnabled(False)
        self.answer.show_answer("Running …", "", "The map fills evenly while it is computed.")
        self._work.start(self.cells**2, partial(self._make, study, s.across, s.up))

    def _make(self, study: StartStudy, across: str, up: str, arrived: Callable[[StartMap], None], called_off: Callable[[], bool]) -> tuple[StartMap, Rate]:
        found = start_map(study, across, up, columns=self.cells, rows=self.cells, draws=self.draws, arrived=arrived, cancelled=called_off)
        return found, success_rate(study, tries=self.tries, cancelled=called_off)

    def cancel(self) -> None:
        """Stop the map; what is there stays."""
        self._work.cancel()
        self.stop.setEnabled(False)
        assert self.main_button is not None
        self.main_button.setEnabled(True)
        self.answer.show_answer("Cancelled", "", "What was computed stays on the map.")

    # ---- showing

    def _on_progress(self, part: float) -> None:
        self.answer.show_answer(
            f"{100 * part:.0f} %",
            f"of {grouped(self.cells**2 * self.draws)} starts",
            "The map fills evenly while it is computed.",
        )

    def _on_grown(self, made: StartMap) -> None:
        if self._work.running:
            self._draw(made)

    def _draw(self, made: StartMap) -> None:
        self.made = made
        units = [LEVERS[k].unit for k in (made.across, made.up)]
        study = self.study
        assert study is not None
        titles = tuple(
            f"{lever_title(k, study.drive)} [{u}]" for k, u in zip((made.across, made.up), units, strict=True)
        )
        self.map.set_axes((titles[0], titles[1]), made.x_shown.tolist(), made.y_shown.tolist(), working_cell(made))
        self.map.show_counts(kind_counts(made))

    def _on_done(self, found: tuple[StartMap, Rate]) -> None:
        made, self.rate = found
        self.stop.setEnabled(False)
        assert self.main_button is not None
        self.main_button.setEnabled(True)
        self._draw(made)
        rate = self.rate
        assert self.study is not None
        sides = [margin_text(name, *pair, self.study.drive) for name, pair in margins(made).items()]
        self.answer.show_answer(
            f"{100 * rate.share:.1f} % start",
            f"Between {100 * rate.low:.1f} and {100 * rate.high:.1f} % (95 %, {rate.tries} starts with everything unknown at once)",
            ". ".join(s[:1].upper() + s[1:] for s in sides) + ". Click a cell to play its start.",
            stale=rate.low < 0.9,
        )
        s = self.seen.settings.start_up
        self.rows.show_rows(
            [
                *((name, f"{count} of {rate.tries}") for name, count in rate.outcomes.items()),
                ("resistance, ±", f"{100 * s.r_doubt:.0f} %"),
                ("inductance, ±", f"{100 * s.l_doubt:.0f} %"),
                ("flux linkage, ±", f"{100 * s.psi_doubt:.0f} %"),
                ("inertia, ±", "15 %"),
                ("friction, ±", "30 %"),
                ("rotor's first angle", "anywhere"),
            ],
            note="Each doubt is two standard deviations; the diamond is the working point. Each outcome comes from a simulated start.",
        )

    def _on_cell(self, column: int, row: int) -> None:
        study, made = self.study, self.made
        if study is None or made is None:
            return
        self._play.want((column, row, self._made_for), partial(play_cell, study, made, column, row))

    def _on_played(self, played: Played) -> None:
        self.played.set("true", played.time, played.speed * RPM_PER_RAD_S)
        self.played.set("estimate", played.time, played.seen * RPM_PER_RAD_S)
        self.played.fit()
        made, cell = self.made, self.map.cell
        if made is None or cell is None:
            return
        what = OUTCOMES[played.outcome] + (f" ({played.fault})" if played.fault else "")
        when = (
            ""
            if played.closed is None or not math.isfinite(played.closed)
            else f", closed after {show(played.closed, 's')}"
        )
        x, y = made.x_shown[cell[0]], made.y_shown[cell[1]]
        self.answer.show_reason(
            f"Cell at {x:.4g} {LEVERS[made.across].unit}, {y:.4g} {LEVERS[made.up].unit}: this start {what}{when}."
        )

    def leave(self) -> None:
        if self._work.running:
            self.cancel()
        self._play.drop()
