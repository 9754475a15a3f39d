"""Start-up, low speed: what below the hand-over speed, and which mode fits the lowest needed speed?"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.sensorless import by_injection
from crisp_compass.motor import pole_pairs_of
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.low_speed import LowSpeed, electrical_hertz, forced_phases, forced_rms, low_speed_outlook
from crisp_compass.views.picture import DialView

_MODES = {
    "sensorless": "Sensorless throughout",
    "forced angle": "Forced angle below",
    "injection": "Injection below",
    "sensor": "A sensor is needed",
}
_CAUTION = "A forced current flows at standstill too and heats one phase: watch the winding's temperature. A coasting rotor keeps its voltage at the terminals: leads stay covered until it stands."


class LowSpeedPage(PlayedPage):
    """A reversal through standstill and a flying start, played by the plant."""

    key = "start_up"
    section = "Low speed"
    dial = DialView(caption="The forced current pulls the rotor along", rotor=-30.0, current=(0.0, 0.7))
    question = "What runs the motor below the hand-over speed?"
    fields = (
        Entry("lowest", "Lowest needed", "rpm", width=112, tip="Under load"),
        Entry(
            "low_current",
            "Forced current",
            "A",
            width=112,
            base="peak",
            tip="Empty: the firmware does not go back to a forced angle",
        ),
        Entry("low_share", "Back below", "%", width=96, tip="Of the hand-over speed; the gap is the hysteresis"),
        Entry("lost", "Lost for", "s", width=88, tip="Without a valid estimate until the drive trips"),
        Entry("retries", width=96, tip="After a start that failed, each after the bridge was off for a while; 0: none"),
        Entry(
            "catch",
            "Zero current first",
            "s",
            width=120,
            tip="Before each start, to find a motor that turns; 0: none",
        ),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: LowSpeed | None
        self.plot = Plot(("time", "s"), ("speed", "rpm"), name="reversal through standstill")
        self.plot.rule(y=0.0, token="ink")
        self.plot.curve("reference", "deep", width=1.4, dash="dash", title="reference")
        self.plot.curve("speed", "magenta", width=2.2, title="rotor, simulated")
        self.rows = Rows("Below hand-over", width=350)
        self.column.addWidget(beside(QWidget(), (self.plot,), (self.rows,), (1,)), 1)
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        self.column.addWidget(caution)
        self.finish()

    def question_for(self, bench: Bench) -> Callable[[], LowSpeed]:
        return lambda: low_speed_outlook(bench)

    def refresh(self) -> None:
        for name in ("low_current", "low_share"):  # injection needs no forced current
            self._fields[name].setEnabled(not by_injection(self.seen))
        super().refresh()

    def show_found(self) -> None:
        found = self.found
        assert found is not None
        self.plot.set("reference", found.time, found.reference * RPM_PER_RAD_S)
        self.plot.set("speed", found.time, found.speed * RPM_PER_RAD_S)
        self.plot.fit()
        self.findings.show_findings(found.findings)
        reversal = f"A reversal {'trips: ' + found.fault if found.fault else 'goes through standstill'}."
        injects = by_injection(self.seen)
        if injects:
            reversal += "" if found.fault else " Injection carries the angle through it."
        elif not found.current:
            reversal += " Set a forced current so that the firmware can go back to it."
        self.answer.show_answer(
            _MODES.get(found.mode, "Enter the lowest speed"),
            found.reason,
            reversal,
            stale=bool(found.fault) or found.mode == "sensor",
        )
        p = pole_pairs_of(self.seen.settings.plate)
        up, down = found.up or found.design.hand_over, found.design.hand_over if injects else found.down
        flying = f"caught in {show(found.caught, 's')}" if found.caught is not None else f"not: {found.flying_fault}"
        needs = "not with this estimator" if found.needs is None else f"{show(found.needs, 's')} at zero current"
        rows = [
            ("estimate takes over at", f"{grouped(up * RPM_PER_RAD_S)} rpm = {show(electrical_hertz(up, p), 'Hz')}"),
            (
                "injection again below" if injects else "forced again below",
                f"{grouped(down * RPM_PER_RAD_S)} rpm = {show(electrical_hertz(down, p), 'Hz')}" if down else "never",
            ),
        ]
        if found.current:
            a, b, c = forced_phases(found.current)
            rows += [
                ("it holds at most", show(found.torque, "N·m")),
                ("a phase reads, turning", f"{show(forced_rms(found.current), 'A')} rms"),
                ("standing along A, DC", f"A {a:.3g}, B {b:.3g}, C {c:.3g} A".replace("-", "−")),
            ]
        rows += [
            ("turning motor, half speed", flying),
            ("to catch one it needs", needs),
            ("estimate lost", f"trips after {show(self.seen.settings.start_up.lost, 's')}"),
        ]
        self.rows.show_rows(rows, note="A reading that differs from these has the wrong base: peak, rms or DC.")
