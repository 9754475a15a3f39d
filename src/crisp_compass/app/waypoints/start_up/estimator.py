"""Start-up, estimator: from which speed can the angle be trusted?"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.sensorless import by_injection
from crisp_compass.quantities import grouped, show
from crisp_compass.sensorless.design import SOURCES, Accuracy
from crisp_compass.studies.estimators import NAMES, EstimatorOutlook, estimator_outlook
from crisp_compass.views.picture import DialView

_LOOKS = {
    "r": ("deep", "solid"),
    "inductance": ("deep", "dash"),
    "psi": ("deep", "dot"),
    "dead": ("ochre", "solid"),
    "offset": ("ochre", "dash"),
    "delay": ("ochre", "dot"),
    "noise": ("soft", "solid"),
}


class EstimatorPage(PlayedPage):
    """Error of the angle over speed by what is not known, and both observers beside each other."""

    key = "start_up"
    section = "Estimator"
    dial = DialView(caption="The back-EMF stands 90° ahead of the rotor", rotor=25.0, voltage=(115.0, 0.7))
    question = "From which speed can the estimated angle be trusted?"
    fields = (
        Pick("method", "Observer", {"back-emf": "back-EMF", "flux": "flux"}, width=112, tip="What the firmware runs"),
        Entry(
            "loop_hz",
            "Loop (PLL)",
            "Hz",
            width=96,
            tip="Natural frequency; from the speed loop and the noise if empty",
        ),
        Entry(
            "ahead",
            "Current leads by",
            "°",
            width=112,
            tip="At most, for hand-over: 20° without load, 110° with all that the current can drag",
        ),
        Entry("r_doubt", "R may be off", "%", width=104, tip="Copper warms by 0.39 % a kelvin"),
        Entry("l_doubt", "L", "%", width=72),
        Entry("psi_doubt", "Flux", "%", width=72),
        Entry(
            "dead_share",
            "Dead time left",
            "%",
            width=112,
            tip="Share of its voltage that the firmware does not make up for",
        ),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: EstimatorOutlook | None
        self.each = Plot(("speed", "rpm"), ("angle error, rms", "°"), name="angle error by cause", log_x=True)
        self.each.curve("together", "magenta", width=2.4, title="all at once")
        for name, title in SOURCES.items():
            token, dash = _LOOKS[name]
            self.each.curve(name, token, width=1.6, dash=dash, title=title)
        self.each.curve("hand-over", "ink", width=1.0, dash="dash", title="dragged | closed")
        self.both = Plot(
            ("speed", "rpm"), ("all at once, rms", "°"), name="angle error of both observers", log_x=True
        )
        self.both.rule(y=20.0, token="ink", dash="dash")
        self.both.curve("back-emf", "magenta", width=2.0, title="back-EMF observer")
        self.both.curve("flux", "deep", width=2.0, dash="dash", title="flux observer")
        self.rows = Rows("As designed", width=348)
        self.column.addWidget(beside(QWidget(), (self.each, self.both), (self.rows,), (5, 4)), 1)
        self.finish()

    def question_for(self, bench: Bench) -> Callable[[], EstimatorOutlook]:
        return lambda: estimator_outlook(bench)

    def show_found(self) -> None:
        found = self.found
        assert found is not None
        rpm = found.speed * RPM_PER_RAD_S
        method = self.seen.settings.start_up.method
        own = found.found[method]
        for name in SOURCES:
            errors = own.each.get(name)
            self.each.set(
                name,
                rpm if errors is not None else [],
                np.degrees(np.minimum(errors, math.radians(60))) if errors is not None else [],
            )
        self.each.set("together", rpm, np.degrees(np.minimum(own.together, math.radians(60))))
        border = rpm[found.dragged]
        self.each.set("hand-over", [border, border], [0.0, np.degrees(min(np.max(own.together), math.radians(60)))])
        for name, accuracy in found.found.items():
            self.both.set(name, rpm, np.degrees(np.minimum(accuracy.together, math.radians(60))))
        for plot in (self.each, self.both):
            plot.fit()
        design, from_speed = found.design, found.good[method]
        answer = (
            f"Good from {grouped(from_speed * RPM_PER_RAD_S)} rpm" if math.isfinite(from_speed) else "Good at no speed"
        )
        other = "" if found.proposed == method else f" The {NAMES[found.proposed]} is proposed: {found.reason}."
        same = f"Proposed: {found.reason}." if found.proposed == method else ""
        self.answer.show_answer(
            answer,
            f"{NAMES[method][:1].upper()}{NAMES[method][1:]}, everything unknown at once; hand-over at {grouped(design.hand_over * RPM_PER_RAD_S)} rpm. {same}".strip(),
            other.strip()
            or f"Back-EMF 3 times its error of {show(design.error, 'V')} from {grouped(design.lowest * RPM_PER_RAD_S)} rpm.",
            stale=bool(other) or not math.isfinite(from_speed),
        )
        self.findings.show_findings(design.findings)
        e = design.estimator
        k = f"{e.correction:.4g} /s" if method == "flux" else "–"
        self.rows.show_rows([
            ("loop Kp = 2ζω", f"{grouped(e.kp)} /s"), ("loop Ki = ω²", f"{grouped(e.ki)} /s²"), ("loop frequency", show(design.natural / (2 * math.pi), "Hz")),
            ("filter of the back-EMF", show(e.filter / (2 * math.pi), "Hz")), ("flux correction k", k),
            *self._at_hand_over(own, found),
            ("lag in the ramp, α/ω²", f"{math.degrees(design.lag):.1f}°"), ("flux wrong at hand-over", f"{math.degrees(found.flux_error):.1f}°"),
            ("samples a turn at top", f"{design.samples:.0f}"), ("voltage error", show(design.error, "V")),
            ("saliency", f"{design.injection.ratio * 100:.1f} %"),
        ], note=f"Injection at standstill: {design.injection.reason}.")  # fmt: skip

    def _at_hand_over(self, own: Accuracy, found: EstimatorOutlook) -> list[tuple[str, str]]:
        """Return what the angle is off by where the estimate is taken over, just before and just after."""
        before, after = found.dragged - 1, found.dragged
        wrong = own.each.get("r", np.zeros_like(own.together))
        names = ("closed", "closed") if by_injection(self.seen) else ("dragged", "closed")
        return [
            (f"angle at hand-over, {name}", f"{math.degrees(own.together[at]):.1f}° (R in full {math.degrees(wrong[at]):.1f}°)")
            for name, at in zip(names, (before, after), strict=True)
        ][: 1 if by_injection(self.seen) else 2]
