"""Speed loop, reference: how closely does the speed follow its ramp?"""

from __future__ import annotations

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
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.estimates import Finding
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.speed_trial import Following, follow
from crisp_compass.views.picture import DialView


def _rpm(speed: float) -> str:
    return f"{grouped(float(f'{speed * RPM_PER_RAD_S:.3g}'))} rpm"


class ReferencePage(PlayedPage):
    """A run along the ramp and back in the simulated drive: reference, speed, how far it is off, and the current."""

    key = "speed_loop"
    section = "Reference"
    question = "How closely does the speed follow its ramp?"
    dial: ClassVar[DialView] = DialView(caption="The speed follows its ramp", rotor=35.0, current=(125.0, 0.6))
    fields = (
        Entry("run.speed", "Speed", "rpm", width=96, tip="To which it is run, and back"),
        Entry("ramp", width=112, tip="Also as rpm/s, or as the time from rest to top speed, like 2 s"),
        Entry("rounding", width=88, tip="Time in which the ramp's acceleration builds and fades; empty: at once"),
        Pick("set_point", "Set-point", {"plain": "as it is", "filtered": "filtered"}, width=104, tip="Filtered by the loop's own Ti, the reference makes little overshoot; load steps are answered as before"),
        Entry("set_weight", "Passes by", "%", width=92, tip="Share of the reference that passes by its filter: 0 is calmest, more follows sooner"),
        Pick(
            "feed_forward", "Ahead of the loop", {"none": "nothing", "inertia": "inertia", "friction": "friction", "both": "inertia and friction"}, width=154,
            tip="Torque that is asked for before there is an error: the settled inertia times the reference's acceleration, friction at its speed",
        ),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.speed = Plot(("time", "s"), ("speed", "rpm"), name="speed along its ramp")
        self.speed.curve("reference", "ink", width=1.2, dash="dash", title="reference")
        self.speed.curve("speed", "magenta", width=2.0, title="speed")
        self.off = Plot(("time", "s"), ("off its ramp", "rpm"), name="how far the speed is off its ramp")
        self.off.rule(y=0.0, token="ink")
        self.off.curve("plain", "ink", width=1.2, dash="dash", title="nothing ahead of the loop")
        self.off.curve("off", "magenta", width=1.8, title="as set")
        self.current = Plot(("time", "s"), ("current", "A"), name="torque current along the ramp")
        self.current.curve("current", "magenta", width=1.8)
        self.rows = Rows("The run", width=300)
        self.column.addWidget(beside(QWidget(), (self.speed, self.off, self.current), (self.rows,), (4, 3, 3)), 1)
        self.finish("Settle gains…")

    def question_for(self, bench: Bench) -> Callable[[], Any]:
        return lambda: follow(bench)

    def refresh(self) -> None:
        s = self.seen.settings.speed_loop
        self._fields["set_weight"].setVisible(s.set_point == "filtered")
        super().refresh()

    def show_found(self) -> None:
        found: Following = self.found
        bench = self.seen
        s, limit = bench.settings.speed_loop, bench.settings.run.i_limit
        t, per = found.time, RPM_PER_RAD_S
        self.speed.set("reference", t, found.reference * per)
        self.speed.set("speed", t, found.speed * per)
        ahead = s.feed_forward != "none"
        self.off.set("plain", t if ahead else [], (found.plain - found.reference) * per if ahead else [])
        self.off.set("off", t, (found.speed - found.reference) * per)
        self.current.set("current", t, found.current)
        for plot in (self.speed, self.off, self.current):
            plot.keep_in_view()
        findings = []
        if found.fault:
            findings.append(Finding("stop", "tripped", f"The run ends in a trip: {found.fault}."))
        elif found.limited > 0.02:
            text = f"The current stands at its limit of {show(limit, 'A')} for {100 * found.limited:.0f} % of the run: the ramp is steeper than the drive can follow."
            findings.append(Finding("caution", "ramp-too-steep", text))
        self.findings.show_findings(findings)
        beside_it = f"; {_rpm(found.error_plain)} with nothing ahead of the loop" if ahead else ""
        stale = self.stale_text()
        self.answer.show_answer(
            f"within {_rpm(found.error)} of its ramp", f"at speed after {show(found.seconds, 's', 3)}{beside_it}" if found.seconds == found.seconds else "",
            stale or "A run of the simulated drive with the load of the run leg: up, the other way, and to rest.", stale=bool(stale),
        )  # fmt: skip
        self.rows.show_rows([
            ("to speed", show(found.seconds, "s", 3) if found.seconds == found.seconds else "not reached"),
            ("most current", show(found.peak, "A", 3)), ("of the limit", f"{100 * found.peak / limit:.0f} %"),
            ("off its ramp", _rpm(found.error)), ("with nothing ahead", _rpm(found.error_plain)),
            ("ramp", f"{_rpm(s.ramp)}/s"), ("S-curve", f"{show(s.rounding, 's')}, jerk {show(s.ramp / s.rounding, 'rad/s³', 3)}" if s.rounding else "none"),
        ])  # fmt: skip
        if self.main_button is not None:
            self.main_button.setEnabled(not found.fault)
