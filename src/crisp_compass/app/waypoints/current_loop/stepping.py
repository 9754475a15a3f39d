"""Current loop, open-loop stepping: how fast and under what load does the stepper follow its steps?"""

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
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.drive import unsettled_inputs
from crisp_compass.plant.simulation import READY
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.stepping import Stepping, stepping_outlook
from crisp_compass.views.picture import DialView

TABLES = {str(n): "full step" if n == 1 else f"1/{n}" for n in (1, 2, 4, 8, 16, 32, 64, 128, 256)}
_CAUTION = "Nothing measures the angle here: after a lost step the pulses count on and the load is elsewhere. Where that can hurt, verify the position."


class SteppingPage(Page):
    """Torque at which the simulated rotor falls out over the speed, beside what winding and supply allow."""

    key = "current_loop"
    section = "Open-loop stepping"
    question = "How much torque is left before it loses step?"
    fields = (
        Entry(
            "stepping.current", "Current, rms", "A", width=118, base="rms", tip="Each winding; the plate's if empty"
        ),
        Pick("stepping.microsteps", "Table", TABLES, width=112),
        Entry("stepping.ramp", "Ramp", "rad/s²", width=124),
        Entry("stepping.idle", "At rest", "%", width=84, tip="Share of the current while it stands"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: Stepping | None = None
        self._work = Computation(self, self._show, pause=250)
        self.plot = Plot(("speed", "rpm"), ("torque", "N·m"), name="torque over speed")
        self.plot.curve("limit", "ink", width=1.4, dash="dash", title="winding and supply allow")
        self.plot.curve("pull-out", "magenta", width=2.2, title="falls out, simulated")
        self.plot.curve("pull-in", "deep", width=1.8, dash="dot", title="starts without a ramp, simulated")
        self.plot.curve("points", "magenta", symbol="o", size=7, title="")
        self.shakes = Plot(("speed", "rpm"), ("swing of the speed", "%"), name="swing of the speed over the speed")
        self.shakes.curve("swing", "magenta", width=2.0, title="swing without load, simulated")
        self.rows = Rows("At this current", width=330)
        self.column.addWidget(beside(QWidget(), (self.plot, self.shakes), (self.rows,)), 1)
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        self.column.addWidget(caution)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        inputs = (bench.settled, bench.settings.plate, bench.settings.stepping, bench.settings.pwm, bench.evidence)
        self.show_dial(DialView(caption="The rotor follows the stepped field", rotor=-30.0, current=(0.0, 0.9)))
        if READY.is_set() and self._work.want(inputs, lambda: stepping_outlook(bench)):
            self.answer.show_answer(
                "Running …", "", "Runs the simulated motor up to each speed and loads it until it falls out."
            )

    def _show(self, found: Stepping) -> None:
        self.found = found
        rpm = found.speed * RPM_PER_RAD_S
        self.plot.set("limit", rpm, found.limit)
        for key in ("pull-out", "points"):
            self.plot.set(key, rpm, found.pull_out)
        self.plot.set("pull-in", found.pull_in * RPM_PER_RAD_S, found.pulled)
        self.shakes.set("swing", found.shaken_at * RPM_PER_RAD_S, 100 * found.shaking)
        for plot in (self.plot, self.shakes):
            plot.fit()
        per_turn = 2 * math.pi / found.full_step
        if found.useful is not None:
            first, last = found.useful
            low = float(np.min(found.pull_out[first : last + 1]))
            band = f"up to {grouped(rpm[last])} rpm" if first == 0 else f"from {grouped(rpm[first])} to {grouped(rpm[last])} rpm"
            lost = [
                f"at {grouped(rpm[a])} rpm" if a == b else f"from {grouped(rpm[a])} to {grouped(rpm[b])} rpm"
                for a, b in found.bands(kept=False)
            ]
            text = f"; it loses step without load {' and '.join(lost)}" if lost else ""
            short = found.first_unreached
            doubt = f"This ramp does not bring it to {grouped(short * RPM_PER_RAD_S)} rpm from rest: a resonance is passed too slowly; try finer steps or another ramp. " if short is not None else ""
            self.answer.show_answer(
                show(low, "N·m"),
                f"the least torque at which it falls out {band}{text}",
                f"{doubt}Simulated with this table; count on half of it. {unsettled_inputs(self.seen)}".strip(),
                stale=short is not None,
            )
        else:
            self.answer.show_answer(
                "It does not start",
                "at none of these speeds it stays in step",
                "Raise the current, or take finer steps.",
                stale=True,
            )
        self.rows.show_rows(
            [
                ("holding torque", show(found.holding, "N·m")),
                ("starts without a ramp up to", f"{grouped(float(found.pull_in[0]) * RPM_PER_RAD_S)} rpm" if found.pull_in[0] > 0 else "no speed"),
                ("that is", f"{show(float(found.pull_in[0]) / found.full_step, '', 3)} full steps/s"),
                ("current peak of a winding", show(found.peak, "A")),
                ("heat of both windings", show(found.heat, "W")),
                ("at rest: torque", show(found.idle[0], "N·m")),
                ("at rest: heat", show(found.idle[1], "W")),
                ("rotor swings at", show(found.resonance / (2 * math.pi), "Hz")),
                ("excited at full steps of", f"{grouped(found.resonance / (2 * math.pi))} /s"),
                ("one full step", f"{math.degrees(found.full_step):.3g}°"),
                ("full steps a turn", f"{per_turn:.0f}"),
            ],
            note="Reduced to a share k at rest, k of the torque and k² of the heat stay. Simulated: a current loop for each winding. "
            "A peak-current chopper with slow decay cannot reverse its voltage and gives less at speed.",
        )

    def leave(self) -> None:
        self._work.drop()
