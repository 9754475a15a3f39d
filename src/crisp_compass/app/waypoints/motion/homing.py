"""Motion, homing: how is the place found again, and how well does it repeat?"""

from __future__ import annotations

import math

from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.course.homing import Homing, homing_of, way_words
from crisp_compass.quantities import show


class HomingPage(Page):
    """The path to the place with the switch's edge and the place found, a thousand homings, the method's number and what a drive is set with."""

    key = "motion"
    section = "Homing"
    question = "How is the place found again, and how well does it repeat?"
    has_dial = False
    fields = (
        Pick("homing.reference", "Told by", {"here": "nothing: here", "home-switch": "home switch", "negative-limit": "negative limit", "positive-limit": "positive limit", "index": "index alone"}, width=136, tip="What tells the place after power-on"),
        Pick("homing.active", "Active on its", {"positive": "positive side", "negative": "negative side"}, width=122, tip="Side of its edge on which the home switch is active"),
        Pick("homing.side", "Found", {"leaving": "leaving it", "entering": "entering it"}, width=112, tip="Which way its edge is passed slowly"),
        Pick("homing.toward", "Sought", {"negative": "negative", "positive": "positive"}, width=100, tip="Way in which the index is sought"),
        Pick("homing.ends", "Place", {"index": "index beyond it", "edge": "the edge itself"}, width=120, tip="Whether the encoder's next index beyond the edge is the place"),
        Entry("homing.index_at", "Index at", "%", width=84, tip="Part of a turn from the edge to the next index: read it off after a homing"),
        Entry("homing.fast", "Sought at", "rpm", width=92, tip="Speed at which the switch is sought"),
        Entry("homing.slow", "Found at", "rpm", width=92, tip="Speed at which the edge is passed for the place"),
        Entry("homing.scan", "Looks every", "s", width=92, tip="Time between two looks of the drive at the switch"),
        Entry("homing.hysteresis", "Hysteresis", "deg", width=92, tip="Of the switch, as way of the shaft, in ° or mm"),
        Entry("homing.scatter", "Scatter", "deg", width=84, tip="Of the switch from one time to the next, one standard deviation"),
        Entry("homing.travel", "Gives up after", "turn", width=108, tip="Way without finding anything, after which it stops and says so"),
        Entry("homing.room", "Room behind", "turn", width=104, tip="Travel from the edge to the stop; not looked at if empty"),
        Entry("homing.begin", "Begins at", "turn", width=96, tip="From the edge, where the path drawn begins"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: Homing | None = None
        self._work = Computation(self, self._show)
        self.plot = Plot(("time", "s"), ("place", "turns"), name="path of the homing")
        self.plot.rule(y=0.0, token="ink", dash="dash")
        self.plot.curve("path", "magenta", width=2.2, title="path")
        self.plot.curve("place", "ink", symbol="o", size=10, title="place found")
        self.many = Plot(("homing", ""), ("off", "°"), name="a thousand homings")
        self.many.curve("found", "magenta", symbol="o", size=4, title="a thousand homings")
        self.rows = Rows("What is set", width=300)
        self.column.addWidget(beside(QWidget(), (self.plot, self.many), (self.rows,), (5, 4)), 1)
        self.finish()

    def refresh(self) -> None:
        s = self.seen.settings.homing
        moves, switched = s.reference != "here", s.reference not in ("here", "index")
        for name, shown in (
            ("active", s.reference == "home-switch"), ("side", s.reference == "home-switch"), ("toward", s.reference == "index"), ("ends", switched), ("index_at", (switched and s.ends == "index") or s.reference == "index"), ("fast", switched),
            ("slow", moves), ("scan", switched), ("hysteresis", switched), ("scatter", switched), ("room", switched), ("travel", moves), ("begin", moves),
        ):  # fmt: skip
            self._fields[f"homing.{name}"].setVisible(shown)
        bench = self.seen
        if not self._work.want((s, bench.settings.motion, bench.settings.load_side, bench.settings.stepping, bench.settings.speed_loop, bench.settled), lambda: homing_of(bench)) and self.found is not None:
            self._show(self.found)

    def _show(self, found: Homing) -> None:
        self.found = found
        turn = 2 * math.pi
        sought = found.plan.reference != "here"
        self.plot.set("path", found.path.time if sought else [], found.path.place / turn if sought else [])
        moves = found.plan.reference != "here"
        at = [found.path.time[-1]] if moves else []
        self.plot.set("place", at, [found.path.found / turn] if at else [])
        off = found.repeats.found - found.repeats.found.mean()
        self.many.set("found", range(1, len(off) + 1) if moves else [], off * 180 / math.pi if moves else [])
        for plot in (self.plot, self.many):
            plot.keep_in_view()
        self.findings.show_findings(found.findings)
        spread = found.repeats.spread
        repeats = "the index repeats to a count" if spread == 0.0 and moves else f"{way_words(self.seen, spread)} from end to end of {len(off)} homings" if moves else "nothing is sought"
        self.answer.show_answer(f"method {found.number}", repeats, f"Found after {show(found.path.seconds, 's', 3)} from where it begins; numbers of IEC 61800-7-201." if moves else "Numbers of IEC 61800-7-201.")
        rows = [(f"{name}  {what}", value) for name, value, what in found.objects]
        if moves and found.plan.reference != "index":
            rows += [("a look late, at most", way_words(self.seen, found.plan.slow * found.plan.scan)), ("beyond the switch, at most", way_words(self.seen, found.beyond))]
        if moves:
            rows += [("travel, negative", way_words(self.seen, -found.path.least)), ("travel, positive", way_words(self.seen, found.path.most))]
        self.rows.show_rows(rows)
