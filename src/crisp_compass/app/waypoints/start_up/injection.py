"""Start-up, injection: can the rotor be found at standstill?"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.quantities import grouped, show
from crisp_compass.sensorless.injection_design import MOST_NOISE
from crisp_compass.studies.injection import InjectionOutlook, injection_outlook
from crisp_compass.views.picture import DialView

_CAUTION = "The motor whistles while voltage is injected. If the pole is found wrongly, the shaft turns backwards at once: nothing coupled at the first start, eyes and fingers away."


def _degrees(angle: float) -> str:
    return "tripped" if math.isnan(angle) else f"{math.degrees(angle):.2f}° rms"


class InjectionPage(PlayedPage):
    """Voltage alternating along the d axis: whether this motor's saliency carries it, and a start, a creep under load and a reversal with it."""

    key = "start_up"
    section = "Injection"
    dial = DialView(caption="The voltage alternates along the axis", rotor=35.0, voltage=(35.0, 0.6))
    question = "Can the rotor be found at standstill?"
    fields = (
        Pick("standstill", "Start by", {"forced": "forced angle", "injection": "injection"}, width=128),
        Entry("inject_volts", "Injected", "V", width=96, tip="Along d, each way; from the voltage, ripple and dead time if empty"),
        Entry("track_hz", "Follows", "Hz", width=96, tip="Natural frequency; from speed loop and noise if empty"),
        Entry("pole_current", "Pole current", "A", width=112, base="peak", tip="Along the axis, both ways; that of the alignment if empty"),
        Entry("commutation.magnet", "Iron, towards pole", "%", width=136, tip="More current towards the pole than against it, at rated current: by pulses, or the data sheet"),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: InjectionOutlook | None
        self.speed = Plot(("time", "s"), ("speed", "rpm"), name="start by injection, speed")
        self.speed.rule(y=0.0, token="ink")
        self.speed.curve("reference", "deep", width=1.4, dash="dash", title="reference")
        self.speed.curve("true", "magenta", width=2.2, title="rotor, simulated")
        self.angle = Plot(("time", "s"), ("angle seen less rotor", "°"), name="start by injection, angle")
        self.angle.rule(y=0.0, token="ink")
        self.angle.curve("error", "magenta", width=1.4, title="while the loop is closed")
        self.would = Plot(
            ("saliency", "%"), ("noise of the angle, rms", "°"), name="noise of the angle over saliency"
        )
        self.would.rule(y=math.degrees(MOST_NOISE), token="ink", dash="dash")
        self.would.curve("noise", "magenta", width=2.0, title="with this motor's mean inductance, other saliency")
        self.would.curve("here", "deep", symbol="o", size=11, title="this motor")
        self.rows = Rows("As designed", width=350)
        self.column.addWidget(beside(QWidget(), (self.speed, self.angle, self.would), (self.rows,), (1, 1, 2)), 1)
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        self.column.addWidget(caution)
        self.finish("Settle start…")

    def question_for(self, bench: Bench) -> Callable[[], InjectionOutlook]:
        return lambda: injection_outlook(bench)

    def rests_on(self, bench: Bench) -> object:
        return super().rests_on(bench), bench.settings.commutation

    def show_found(self) -> None:
        found = self.found
        assert found is not None
        runs = found.judged.works
        for plot, shown in ((self.speed, runs), (self.angle, runs), (self.would, not runs)):
            plot.setVisible(shown)
        most = 4 * MOST_NOISE  # beyond, it says no more
        self.would.set("noise", 100 * found.saliency, np.degrees(np.minimum(found.noise, most)))
        here = abs(found.judged.ratio)
        at = float(np.interp(here, found.saliency, found.noise)) if here >= found.saliency[0] else most
        self.would.set("here", [100 * here], [math.degrees(min(at, most))])
        self.would.fit()
        self.speed.set("reference", found.time, found.reference * RPM_PER_RAD_S)
        self.speed.set("true", found.time, found.speed * RPM_PER_RAD_S)
        self.angle.set("error", found.time, np.degrees(found.deviation))
        for plot in (self.speed, self.angle):
            plot.fit()
        self._say(found)
        self._show_rows(found)

    def _say(self, found: InjectionOutlook) -> None:
        judged, chosen = found.judged, self.seen.settings.start_up.standstill == "injection"
        reason = judged.reason[:1].upper() + judged.reason[1:] + "."
        use = "This start is chosen." if chosen else "The start is by forced angle: choose injection to use it."
        if not judged.works:
            answer, use = "Not at standstill", "Start by forced angle." if not chosen else "Choose the forced angle."
        elif found.fault:
            answer = f"It trips: {found.fault}"
        else:
            answer = "Found" if math.isnan(found.creep) else f"Found within {math.degrees(found.creep):.1f}° rms"
        poles = f" {found.right} of {found.tried} poles told rightly, {found.wrong} wrongly." if found.tried else ""
        stale = self.stale_text()
        bad = not judged.works or bool(found.fault) or found.wrong > 0
        self.answer.show_answer(answer, f"{reason}{poles}", stale or use, stale=bool(stale) or bad)
        self.findings.show_findings(found.design.findings if judged.works else ())
        assert self.main_button is not None
        stop = any(f.level == "stop" for f in found.design.findings) and chosen
        self.main_button.setEnabled(not stop and not (chosen and not judged.works))

    def _show_rows(self, found: InjectionOutlook) -> None:
        judged, ts = found.judged, found.design.estimator.ts
        j = judged.firmware
        rpm = RPM_PER_RAD_S * found.design.hand_over / j.gone
        most = "never" if judged.most_current is None else f"above {show(judged.most_current, 'A')}"
        rows = [("saliency", f"{judged.ratio * 100:.1f} %")]
        note = "The curve: what noise of the angle another saliency would leave here, with the voltage and the speed loop of this bench."
        if judged.works:
            note = "Currents are phase peaks. Start, creep with a load that comes and goes, climb and reversal are played."
            rows += [
                ("gone by saturation", most),
                ("injected", f"±{show(j.volts, 'V')} at {show(0.5 / ts, 'Hz')}"), ("ripple, peak to peak", show(judged.ripple, "A")),
                ("follows with", show(j.natural / (2 * math.pi), "Hz")), ("noise of the angle", f"{math.degrees(judged.angle):.2f}° rms, expected"),
                ("played, creeping", f"{_degrees(found.creep)} at {show(found.load, 'N·m')}"),
                ("axis counts after", show(j.settle, "s")), ("pole told", f"{show(j.pole_current, 'A')}, {show(2 * j.pole_time, 's')}"),
                ("loop closed after", show(found.closed, "s") if found.closed is not None else "never"),
                ("alone up to", f"{grouped(j.fades * rpm)} rpm"), ("back-EMF alone from", f"{grouped(j.gone * rpm)} rpm"),
            ]  # fmt: skip
        self.rows.show_rows(rows, note=note)
