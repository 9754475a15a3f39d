"""Motion, watching: does a shaft that lost its steps find its place again?"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, ClassVar

from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.course.load_side import way_text
from crisp_compass.quantities import counted, show
from crisp_compass.studies.watched_move import WatchOutlook, behind, watch_outlook
from crisp_compass.views.picture import DialView


class WatchingPage(PlayedPage):
    """A move with an obstacle in its way for a while: field and shaft over time, the corrections, and what the drive ends with."""

    key = "motion"
    section = "Watching"
    question = "Does a shaft that lost its steps find its place again?"
    dial: ClassVar[DialView] = DialView(caption="The encoder sees whether the shaft follows the field", rotor=70.0, current=(90.0, 0.7))
    fields = (
        Entry("stepping.lost_after", "Lost beyond, steps", "", width=124, tip="Full steps between field and shaft from which on steps are lost: more than load and friction make, no more than two"),
        Entry("stepping.corrections", width=92, tip="Times that a move is begun anew until it is a fault; 0: at once"),
        Entry("stepping.slower", "Each with", "%", width=84, tip="Share of the acceleration for each time it is begun anew"),
        Entry("stepping.settle", "Settles for", "s", width=92, tip="For which the field stands before it is begun anew, and before a shaft beside its window is brought into it"),
        Pick("stepping.on_lost", "Then", {"off": "bridge off", "hold": "field holds"}, width=104, tip="What the fault does: a load that drives falls with the bridge off"),
        Entry("window", "Stands within", "deg", width=104, tip="Standing window: a shaft beside it at the end of a move is brought into it, and left alone until it is twice as far off; none if empty"),
        Pick("stepping.counts", "Encoder counts", {"with": "with the field", "against": "against it"}, width=112, tip="Whether its counts rise as the field turns forwards"),
        Entry("stepping.obstacle", "Obstacle for", "s", width=96, tip="Tried here only: how long something stands in the way, from the middle of the move on"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.place = Plot(("time", "s"), ("place", "turns"), name="field and shaft over time")
        self.place.curve("blocked", "ochre", width=1.4, dash="dot", title="obstacle")
        self.place.curve("field", "ink", width=1.2, dash="dash", title="field")
        self.place.curve("shaft", "magenta", width=2.0, title="shaft")
        self.off = Plot(("time", "s"), ("behind, full steps", ""), name="how far the shaft is behind its field")
        self.off.rule(y=0.0, token="ink")
        self.off.curve("limit", "ochre", width=1.2, dash="dash", title="taken for lost")
        self.off.curve("off", "magenta", width=1.8, title="shaft")
        self.rows = Rows("What the encoder sees", width=300)
        self.column.addWidget(beside(QWidget(), (self.place, self.off), (self.rows,), (5, 4)), 1)
        self.finish("Settle motion…")

    def question_for(self, bench: Bench) -> Callable[[], Any]:
        return lambda: watch_outlook(bench)

    def rests_on(self, bench: Bench) -> object:
        s = bench.settings
        return (super().rests_on(bench), s.motion, s.stepping, s.current_loop, s.coupling, s.bus, s.pwm, s.limits, s.supply, s.load_side)

    def show_found(self) -> None:
        found = self.found
        assert isinstance(found, WatchOutlook)
        p, turn = found.played, 2 * math.pi
        self.place.set("field", p.time, p.commanded / turn)
        self.place.set("shaft", p.time, p.real / turn)
        low, high = float(min(p.commanded.min(), p.real.min())) / turn, float(max(p.commanded.max(), p.real.max())) / turn
        a, b = found.between
        self.place.set("blocked", [a, a, b, b] if b > a else [], [low, high, high, low] if b > a else [])
        self.off.set("off", p.time, behind(found))
        limit, end = found.limit / found.step, float(p.time[-1])
        self.off.set("limit", [0.0, end, math.nan, 0.0, end], [limit, limit, math.nan, -limit, -limit])
        for plot in (self.place, self.off):
            plot.keep_in_view()
        self.findings.show_findings(found.findings)
        stale, tried = self.stale_text(), len(p.began)
        times = counted(tried, "correction")
        if p.fault:
            answer, doubt = "Gives up", f"after {show(float(p.time[-1]), 's', 2)}, {show(abs(p.off) / turn, '', 3)} turns from its place"
        elif math.isnan(p.arrived):
            answer, doubt = "Does not come to stand", f"{show(abs(p.off), 'deg', 2)} off in the end, {times}"
        else:
            answer = "Finds its place again" if tried else "Never lost it"
            doubt = f"{times}, there after {show(p.arrived, 's', 3)} instead of {show(found.move.duration, 's', 3)}, {show(abs(p.off), 'deg', 2)} off" if tried else f"there after {show(p.arrived, 's', 3)}, {show(abs(p.off), 'deg', 2)} off"
        s = self.seen.settings
        obstacle = f"an obstacle for {show(s.stepping.obstacle, 's', 2)} in its middle" if s.stepping.obstacle else "nothing in its way"
        self.answer.show_answer(answer, doubt, stale or f"The move of the section Move, with {obstacle}.", stale=bool(stale))
        way = way_text(self.seen, found.move.distance)
        self.rows.show_rows([
            *((("way at the load", way),) if way else ()), ("counts a full step", f"{found.step / found.count:.4g}"), ("a count", show(found.count, "deg", 2)),
            ("finest window that is told", show(found.count, "deg", 2)), ("lost beyond", f"{show(found.limit, 'deg', 3)}, {found.limit / found.count:.3g} counts"),
            ("load and friction, at rest", f"{found.lag / found.step:.2g} full steps"), ("corrections made", f"{tried} of {s.stepping.corrections}"),
            *((("the first after", show(p.began[0], "s", 3)),) if tried else ()),
            ("stands within", show(found.window, "deg", 2) if found.window else "no window"), ("off at the end", f"{abs(p.off) / found.count:.1f} counts" if not p.fault else "–"),
            ("fault", p.fault or "none"),
        ], note="A field that holds steady draws a rotor back up to two full steps; beyond, to a place four full steps on.")  # fmt: skip
        if self.main_button is not None:
            self.main_button.setEnabled(not p.fault or p.fault == "following error")
