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
from crisp_compass.course.homing import Homing, way_words
from crisp_compass.course.open_loop import steps_open, watches
from crisp_compass.errors import Refusal
from crisp_compass.motion.seeking import DONE
from crisp_compass.plant.simulation import READY
from crisp_compass.quantities import show
from crisp_compass.studies.home_run import HomeRun, home_outlook


class HomingPage(Page):
    """The path to the place with the switch's edge and the place found, a thousand homings, the method's number and what a drive is set with."""

    key = "motion"
    section = "Homing"
    question = "How is the place found again, and how well does it repeat?"
    has_dial = False
    fields = (
        Pick("homing.reference", "Told by", {"here": "nothing: here", "home-switch": "home switch", "negative-limit": "negative limit", "positive-limit": "positive limit", "index": "index alone", "negative-stop": "negative hard stop", "positive-stop": "positive hard stop"}, width=136, tip="What tells the place after power-on"),
        Pick("homing.active", "Active on its", {"positive": "positive side", "negative": "negative side"}, width=122, tip="Side of its edge on which the home switch is active"),
        Pick("homing.contact", "Contact at rest", {"closed": "closed", "open": "open"}, width=104, tip="Normally closed or normally open; with a closed one a broken wire is seen"),
        Pick("homing.side", "Found", {"leaving": "leaving it", "entering": "entering it"}, width=112, tip="Which way its edge is passed slowly"),
        Pick("homing.toward", "Sought", {"negative": "negative", "positive": "positive"}, width=100, tip="Way in which the index is sought"),
        Pick("homing.ends", "Place", {"index": "index beyond it", "edge": "the edge itself"}, width=120, tip="Whether the encoder's next index beyond the edge is the place"),
        Entry("homing.index_at", "Index at", "%", width=84, tip="Part of a turn from the edge to the next index: read it off after a homing"),
        Entry("homing.fast", "Sought at", "rpm", width=92, tip="Speed at which the switch is sought"),
        Entry("homing.slow", "Found at", "rpm", width=92, tip="Speed at which the edge is passed for the place"),
        Entry("homing.push", "Stop tells at", "A", width=100, base="peak", tip="Current against the stop, peak, above which it is taken for found; half of the current limit if empty"),
        Entry("homing.hold", "For", "s", width=84, tip="For which this current must push without a move"),
        Entry("homing.scan", "Looks every", "s", width=92, tip="Time between two looks of the drive at the switch"),
        Entry("homing.hysteresis", "Hysteresis", "deg", width=92, tip="Of the switch, as way of the shaft, in ° or mm"),
        Entry("homing.scatter", "Scatter", "deg", width=84, tip="Of the switch from one time to the next, one standard deviation"),
        Entry("homing.travel", "Gives up after", "turn", width=108, tip="Way without finding anything, after which it stops and says so"),
        Entry("homing.room", "Room behind", "turn", width=104, tip="Travel from the edge to the stop; not looked at if empty"),
        Entry("homing.begin", "Begins at", "turn", width=108, tip="From the edge, where the path drawn begins"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: Homing | None = None
        self.ran: HomeRun | None = None
        self._work = Computation(self, self._show)
        self.plot = Plot(("time", "s"), ("place", "turns"), name="path of the homing")
        self.plot.rule(y=0.0, token="ink", dash="dash")
        self.plot.curve("path", "magenta", width=2.2, title="path")
        self.plot.curve("simulated", "moss", width=1.4, title="simulated drive")
        self.plot.curve("place", "ink", symbol="o", size=10, title="place found")
        self.many = Plot(("homing", ""), ("off", "°"), name="a thousand homings")
        self.many.curve("found", "magenta", symbol="o", size=4, title="a thousand homings")
        self.rows = Rows("What is set", width=300)
        self.column.addWidget(beside(QWidget(), (self.plot, self.many), (self.rows,), (5, 4)), 1)
        self.finish()

    def refresh(self) -> None:
        s = self.seen.settings.homing
        moves, stops = s.reference != "here", s.reference.endswith("-stop")
        switched, counted = moves and not stops and s.reference != "index", not steps_open(self.seen) or watches(self.seen)
        for name, shown in (
            ("active", s.reference == "home-switch"), ("side", s.reference == "home-switch"), ("contact", switched), ("toward", s.reference == "index"), ("ends", switched and counted), ("index_at", counted and ((switched and s.ends == "index") or s.reference == "index")), ("fast", switched),
            ("slow", moves), ("scan", switched or stops), ("hysteresis", switched), ("scatter", switched or stops), ("push", stops), ("hold", stops), ("room", switched), ("travel", moves), ("begin", moves),
        ):  # fmt: skip
            self._fields[f"homing.{name}"].setVisible(shown)
        bench = self.seen
        rests_on = (s, *(getattr(bench.settings, k) for k in ("motion", "load_side", "stepping", "speed_loop", "run", "sensor", "coupling", "bus")), bench.settled)
        if not READY.is_set():
            raise Refusal("The simulation is being prepared; this happens once, at the first start")
        if not self._work.want(rests_on, lambda: home_outlook(bench)) and self.found is not None:
            self._show((self.found, self.ran))

    def _show(self, seen: tuple[Homing, HomeRun | None]) -> None:
        self.found, self.ran = found, ran = seen
        turn = 2 * math.pi
        sought = found.plan.reference != "here"
        self.plot.set("simulated", ran.time if ran else [], ran.place / turn if ran else [])
        self.plot.set("path", found.path.time if sought else [], found.path.place / turn if sought else [])
        moves = found.plan.reference != "here"
        at = [found.path.time[-1]] if moves else []
        self.plot.set("place", at, [found.path.found / turn] if at else [])
        off = found.repeats.found - found.repeats.found.mean()
        self.many.set("found", range(1, len(off) + 1) if moves else [], off * 180 / math.pi if moves else [])
        self.many.setVisible(not found.plan.stops or found.repeats.spread > 0.0)
        for plot in (self.plot, self.many):
            plot.keep_in_view()
        self.findings.show_findings(found.findings)
        spread = found.repeats.spread
        repeats = "the index repeats to a count" if spread == 0.0 and moves else f"{way_words(self.seen, spread)} from end to end of {len(off)} homings" if moves else "nothing is sought"
        if found.plan.stops:
            repeats = f"the stop's own scatter: {way_words(self.seen, spread)} from end to end" if spread else "as well as the stop itself does"
        self.answer.show_answer(f"method {found.number}" if found.number > 0 else "The maker's own", repeats, f"Found after {show(found.path.seconds, 's', 3)} from where it begins; {'a hard stop has no number in' if found.plan.stops else 'numbers of'} IEC 61800-7-201." if moves else "Numbers of IEC 61800-7-201.")
        rows = [(f"{name}  {what}", value) for name, value, what in found.objects]
        if ran is not None and ran.state == DONE:
            rows.append(("simulated drive finds it at", way_words(self.seen, ran.found)))
        if moves and found.plan.reference != "index" and not found.plan.stops:
            rows += [("a look late, at most", way_words(self.seen, found.plan.slow * found.plan.scan)), ("beyond the switch, at most", way_words(self.seen, found.beyond))]
        if moves:
            rows += [("travel, negative", way_words(self.seen, -found.path.least)), ("travel, positive", way_words(self.seen, found.path.most))]
        self.rows.show_rows(rows)
