"""Commutation, sense and offset: do phases and sensor agree, and what would a wrong angle do?"""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.parts import beside, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.commutation.direction_check import COMBINATIONS, Directions, judge_directions
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.drive import unsettled_inputs
from crisp_compass.errors import Refusal
from crisp_compass.plant.simulation import READY, Trace
from crisp_compass.studies.wrong_angle import WrongAngle, run_wrong_angle
from crisp_compass.views.picture import DialView

_WAYS = {"": "–", "wanted": "forward", "other": "reverse"}
_SIGN = {"wanted": 1.0, "other": -1.0}
_HEADLINES = {"runs": "It runs", "weak": "It runs weakly", "stands": "It stands still", "runs-away": "It runs away"}
_CAUTION = "Force the angle, current just enough to take the shaft along, one electrical turn in some seconds: motor clamped and uncoupled, stop within reach. Do not close the loop before this agrees."


class DirectionCheckPage(Page):
    """Signs of a slow forced turn judged; a wrong angle dragged on the dial and run in simulation."""

    key = "commutation"
    section = "Sense and offset"
    question = "Do phases and sensor agree, and is the angle right?"
    fields = (
        Pick("seen", "Shaft really turns", _WAYS, width=138, tip="Field forced forward; looked at, or by tachometer"),
        Pick("measured", "Sensor shows", _WAYS, width=138),
        Pick("observed", "Observer shows", _WAYS, width=138, tip="The drive's own estimate, where it has one"),
        Entry("view.wrong_angle", "Angle error", "deg", width=104, tip="Electrical; or drag the current on the dial"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.run: WrongAngle | None = None
        self._work = Computation(self, self._on_run, self._on_no_run)
        self.speed = Plot(("time", "s"), ("speed", "rpm"), name="speed")
        self.current = Plot(("time", "s"), ("current", "A"), name="current")
        for plot in (self.speed, self.current):
            plot.curve("right", "deep", width=1, dense=True, title="right angle")
            plot.curve("wrong", "magenta", width=2, dense=True, title="wrong angle")
        self.rows = Rows("This angle error", width=330)
        self.combinations = Rows("What the signs mean: shaft, sensor", width=330, prose=True)
        self.combinations.show_rows(COMBINATIONS)
        self.column.addWidget(beside(QWidget(), (self.speed, self.current), (self.rows, self.combinations)), 1)
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        self.column.addWidget(caution)
        self.finish()

    # ---- document → page

    def refresh(self) -> None:
        bench = self.seen
        directions = self._directions()
        backwards = directions is not None and not directions.closes
        inputs = (
            bench.settled,
            bench.settings.plate,
            bench.settings.run,
            bench.settings.speed_loop,
            bench.settings.view.wrong_angle,
            backwards,
        )
        if READY.is_set():
            error = bench.settings.view.wrong_angle
            self._work.want(inputs, lambda: run_wrong_angle(bench, error, reversed_sense=backwards))
        self._show_dial()
        self._show()

    def _directions(self) -> Directions | None:
        settings = self.seen.settings.commutation
        if not (settings.seen and settings.measured):
            return None
        observed = _SIGN[settings.observed] if settings.observed else None
        return judge_directions(
            1.0,
            _SIGN[settings.seen],
            _SIGN[settings.measured],
            observed,
            sensor=self.seen.settings.sensor.kind,
        )

    def on_dial(self, angle: float) -> None:
        """Set the error by where the current was dragged to; right is a quarter turn ahead of the rotor."""
        error = (angle - 90 + 180) % 360 - 180
        self._set("view", "wrong_angle", math.radians(error))

    def _show_dial(self) -> None:
        degrees = math.degrees(self.seen.settings.view.wrong_angle)
        share = math.cos(math.radians(degrees))
        self.show_dial(
            DialView(
                caption=f"Current {degrees:+.0f}° off: torque {100 * share:.0f} %  (drag it)".replace("-", "−"),
                rotor=0.0, current=(90 + degrees, 1.0), hexagon=False, draggable=True, hand="current",
            )
        )  # fmt: skip

    # ---- showing

    def _on_run(self, run: WrongAngle) -> None:
        self.run = run
        self._draw("right", run.right)
        self._draw("wrong", run.wrong)
        for plot in (self.speed, self.current):
            plot.fit()
        self._show()

    def _on_no_run(self, refusal: Refusal) -> None:
        self.run = None
        for plot in (self.speed, self.current):
            plot.clear_data()
        self._show()
        self.rows.show_rows(self._share_rows(), note=refusal.sentence)

    def _draw(self, key: str, trace: Trace) -> None:
        self.speed.set(key, trace["t"], trace["speed"] * RPM_PER_RAD_S)
        self.current.set(key, trace["t"], np.hypot(trace["i_d"], trace["i_q"]))

    def _share_rows(self) -> list[tuple[str, str]]:
        share = math.cos(self.seen.settings.view.wrong_angle)
        factor = f"{1 / share:.2f} times" if share > 0.01 else "no current is enough"
        return [
            ("torque for the same current", f"{100 * share:.0f} %".replace("-", "−")),
            ("current for the same torque", factor),
        ]

    def _show(self) -> None:
        directions = self._directions()
        rows = self._share_rows()
        if self.run is not None:
            self.rows.show_rows(rows, note=unsettled_inputs(self.seen))
        if directions is None:
            degrees = math.degrees(self.seen.settings.view.wrong_angle)
            angle = (
                "with the right angle"
                if abs(degrees) < 0.5
                else f"with the angle {degrees:+.0f}° off".replace("-", "−")
            )
            run = f"{self.run.text} " if self.run is not None else ""
            self.answer.show_answer(
                _HEADLINES[self.run.outcome] if self.run is not None else "Not tried yet",
                angle,
                f"{run}Before closing the real loop, turn the field slowly forward and enter below which way shaft and encoder went.",
            )
            return
        text = (
            "Agree"
            if directions.phases and directions.encoder
            else "Disagree"
            if not directions.closes
            else "Both reversed"
        )
        lead_fixes = " Or ".join(f"{m[:1].upper()}{m[1:]}." for m in directions.lead_fixes)
        if not directions.current:
            lead_fixes += " The observer disagrees with the field: the current channels belong to other phases, or are inverted."
        self.answer.show_answer(
            text,
            "the loop can be closed" if directions.closes else "do not close the loop",
            f"{directions.what} {lead_fixes}".strip(),
        )

    def leave(self) -> None:
        self._work.drop()
