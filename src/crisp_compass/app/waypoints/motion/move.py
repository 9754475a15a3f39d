"""Motion, move: how closely does the shaft follow its move?"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, ClassVar

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.waypoints.current_loop.stepping import TABLES
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.load_side import speed_text, way_text
from crisp_compass.course.open_loop import steps_open
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.move import MoveOutlook, move_outlook
from crisp_compass.studies.stepped_move import MARGIN, SteppedOutlook, stepped_outlook
from crisp_compass.views.picture import DialView


def _degrees(angle: float) -> str:
    return show(angle, "deg", 3) if abs(angle) < 2 * math.pi else f"{angle / (2 * math.pi):.4g} turns"


class MovePage(PlayedPage):
    """A move of the simulated drive with the position loop: speed beside its profile, following error, torque current; what of it the motor has."""

    key = "motion"
    section = "Move"
    dial: ClassVar[DialView] = DialView(caption="The shaft follows its move", rotor=70.0, current=(160.0, 0.5))
    fields = (
        Entry("distance", "Way", "turn", width=100, tip="Of the motor's shaft, with its sign: in turns or °, or in mm where Plate, Load side says what a turn moves"),
        Entry("speed", "Speed", "rpm", width=96, tip="Of the shaft while it moves; the top speed if empty"),
        Entry("accel", width=112, tip="From and to rest, also as rpm/s or as the time to top speed; the speed loop's ramp if empty"),
        Entry("rounding", width=84, tip="Time in which the acceleration builds and fades: the speed's mean over so long; at once if empty"),
        Entry("stepping.current", "Current, rms", "A", width=108, base="rms", tip="Each winding; the plate's if empty"),
        Pick("stepping.microsteps", "Table", TABLES, width=104),
        Entry("stepping.idle", "At rest", "%", width=80, tip="Share of the current while it stands"),
        Entry("kv", "Gain Kv", "1/s", width=88, tip="Speed asked for, for each radian that the shaft is off; the largest without overshoot if empty"),
        Entry("ahead", "Speed ahead", "%", width=96, tip="Share of the profile's speed that is asked for before there is an error; what is missing stays as following error"),
        Entry("window", "Stands within", "deg", width=104, tip="Standing window: a shaft that ended its move within it is left alone until it is twice as far off, so that it does not hunt; none if empty"),
        Entry("follow_limit", "Trips beyond", "deg", width=104, tip="Following error at which the drive trips; never if empty"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.speed = Plot(("time", "s"), ("speed", "rpm"), name="speed of the move")
        self.speed.curve("profile", "ink", width=1.2, dash="dash", title="profile")
        self.speed.curve("shaft", "magenta", width=2.0, title="shaft")
        self.off = Plot(("time", "s"), ("off its profile", "°"), name="following error")
        self.off.rule(y=0.0, token="ink")
        self.off.curve("off", "magenta", width=1.8)
        self.torque = Plot(("speed", "rpm"), ("torque", "N·m"), name="torque that the move takes, and what is there")
        self.torque.curve("needed", "magenta", width=2.0, title="the move takes")
        self.torque.curve("there", "ink", width=1.4, dash="dash", title="drive and motor have")
        self.rows = Rows("The move", width=300)
        self.column.addWidget(beside(QWidget(), (self.speed, self.off, self.torque), (self.rows,), (4, 4, 4)), 1)
        self.finish("Settle motion…")

    def question_for(self, bench: Bench) -> Callable[[], Any]:
        return (lambda: stepped_outlook(bench)) if steps_open(bench) else (lambda: move_outlook(bench))

    def refresh(self) -> None:
        opened = steps_open(self.seen)
        for name in ("kv", "ahead", "window", "follow_limit"):
            self._fields[name].setVisible(not opened)
        for name in ("stepping.current", "stepping.microsteps", "stepping.idle"):
            self._fields[name].setVisible(opened)
        self.off.set_axes(("time", "s"), ("behind, full steps", "") if opened else ("off its profile", "°"))
        super().refresh()

    def rests_on(self, bench: Bench) -> object:
        s = bench.settings
        return (super().rests_on(bench), s.motion, s.stepping, s.current_loop, s.coupling, s.bus, s.pwm, s.limits, s.supply, s.load_side)

    def show_found(self) -> None:
        if isinstance(self.found, SteppedOutlook):
            self._show_stepped(self.found)
        elif isinstance(self.found, MoveOutlook):
            self._show_followed(self.found)
        for plot in (self.speed, self.off, self.torque):
            plot.keep_in_view()
        self.findings.show_findings(self.found.findings)

    def _show_stepped(self, found: SteppedOutlook) -> None:
        p, move, per = found.played, found.move, RPM_PER_RAD_S
        self.speed.set("profile", p.time, np.gradient(p.commanded, p.time) * per)
        self.speed.set("shaft", p.time, p.speed * per)
        self.off.set("off", p.time, (p.commanded - p.real) / found.step)
        self.torque.set("needed", found.axis * per, found.needed)
        self.torque.set("there", found.axis * per, found.there)
        stale = self.stale_text()
        kept = math.isfinite(found.least_current)
        answer = f"{abs(p.lost)} steps lost" if p.lost else "keeps its place" if kept else "may lose steps"
        peak, rms = found.current, math.sqrt(2)
        self.answer.show_answer(
            answer, f"there in {show(move.duration, 's', 3)}" + (f"; {show(found.least_current / rms, 'A', 3)} rms just keep it, {show(peak / rms, 'A', 3)} are set" if kept else ""),
            stale or "A move of the simulated motor with the load of the run leg; what keeps is tried with half as much friction again and a supply a tenth lower.", stale=bool(stale),
        )  # fmt: skip
        way, steps = way_text(self.seen, move.distance), abs(move.distance) / found.step
        self.rows.show_rows([
            *((("way at the load", way),) if way else ()), ("full steps", f"{steps:.5g}"),
            ("commanded", f"{p.commanded[-1] / (2 * math.pi):.4f} turns"), ("real", f"{p.real[-1] / (2 * math.pi):.4f} turns"),
            ("peak speed", f"{grouped(move.trapezoid.peak_speed * per)} rpm, {show(move.trapezoid.peak_speed / (2 * math.pi), '', 3)} turns/s"),
            ("entries of the table", f"{show(found.rate, 'Hz', 3)}"), ("full steps a second", show(move.trapezoid.peak_speed / found.step, "Hz", 3)),
            ("jerk", show(move.jerk, "rad/s³", 3) if math.isfinite(move.jerk) else "not bounded"),
            ("behind at most", f"{p.behind:.2g} full steps"), ("swings by itself at", show(found.resonance, "Hz", 3)),
            ("largest acceleration", show(found.most_accel, "rad/s²", 3) if math.isfinite(found.most_accel) else "none"), ("with a margin of 1.5", show(found.most_accel / MARGIN, "rad/s²", 3) if math.isfinite(found.most_accel) else "none"),
            ("heat, moving", show(found.heat[0], "W", 3)), ("heat, at rest", show(found.heat[1], "W", 3)),
        ])  # fmt: skip
        if self.main_button is not None:
            self.main_button.setEnabled(not p.fault)

    def _show_followed(self, found: MoveOutlook) -> None:
        p, move = found.played, found.move
        self.speed.set("profile", p.time, np.gradient(p.wanted, p.time) * RPM_PER_RAD_S)
        self.speed.set("shaft", p.time, p.speed * RPM_PER_RAD_S)
        self.off.set("off", p.time, (p.wanted - p.angle) * 180 / math.pi)
        self.torque.set("needed", found.speed * RPM_PER_RAD_S, found.needed)
        self.torque.set("there", found.speed * RPM_PER_RAD_S, found.there)
        stale = self.stale_text()
        where = "stands" if self.seen.settings.motion.window else "within a count"
        after = "" if math.isnan(p.settled) else f"{where} at once" if p.settled <= 0 else f"{where} {show(p.settled, 's', 2)} later"
        self.answer.show_answer(
            f"{_degrees(p.error)} off at most", f"there in {show(move.duration, 's', 3)}{', ' if after else ''}{after}",
            stale or "A move of the simulated drive with the load of the run leg.", stale=bool(stale),
        )  # fmt: skip
        d, peak = found.design, move.trapezoid.peak_speed
        way = way_text(self.seen, move.distance)
        self.rows.show_rows([
            *((("way at the load", way),) if way else ()),
            ("peak speed", speed_text(self.seen, peak)), ("jerk", show(move.jerk, "rad/s³", 3) if math.isfinite(move.jerk) else "not bounded"),
            ("gain Kv", show(d.kv, "1/s", 3)), ("phase margin", f"{d.margins.phase_margin_deg:.0f}°" if math.isfinite(d.margins.phase_margin_deg) else "–"),
            ("step overshoots", f"{d.overshoot:.0f} %" if math.isfinite(d.overshoot) else "not stable"), ("largest stable Kv", show(d.most, "1/s", 3)),
            ("off at speed, by theory", _degrees((1 - self.seen.settings.motion.ahead) * peak / d.kv)), ("off at the end", f"{p.left / found.count:.1f} counts"),
            ("a count", show(found.count, "deg", 3)),
            ("most current", show(p.peak, "A", 3)), ("rms over the move", show(p.rms, "A", 3)),
            ("torque there over needed", f"{found.margin:.2g} times" if math.isfinite(found.margin) and found.margin < 1e3 else "plenty"),
        ])  # fmt: skip
        if self.main_button is not None:
            self.main_button.setEnabled(math.isfinite(d.overshoot) and not p.fault)
