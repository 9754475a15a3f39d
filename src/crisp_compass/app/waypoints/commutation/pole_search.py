"""Commutation, pole search: where does the rotor lie at standstill, told by short pulses?"""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.dial import DialView
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.outlook_page import OutlookPage
from crisp_compass.app.widgets.parts import beside, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.commutation.pole_search import PoleSearch
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.errors import Refusal
from crisp_compass.quantities import show
from crisp_compass.studies.zero_search import SearchOutlook, search_outlook

_CAUTION = "Done at standstill, after R and L and before the first move; the shaft may twitch. Afterwards move slowly and check the sign (Sense and offset)."


class PolesPage(OutlookPage):
    """Current of each pulse over its direction, the fit, and whether the search can work with this motor."""

    key = "commutation"
    section = "Pole search"
    settles = False
    question = "Where does the rotor lie at standstill?"
    fields = (
        Entry(
            "pulse_current", "Pulse current", "A", width=112, base="peak", tip="At the end of a pulse; rated if empty"
        ),
        Entry(
            "pulse_noise", "Noise of one", "%", width=104, tip="Standard deviation of a reading, of the pulse current"
        ),
        Entry(
            "magnet", "Saturation", "%", width=104, tip="How much more current flows towards the pole than against it"
        ),
        Pick(
            "larger",
            "Larger inductance",
            {"lq": "Lq", "ld": "Ld"},
            width=118,
            tip="Lq with magnets inside the rotor; the other way round the axis lies 90° off",
        ),
    )

    def build(self, area: QWidget) -> None:
        self.plot = Plot(
            ("pulse direction, electrical", "°"), ("current along the pulse", "A"), name="pulse currents"
        )
        self.plot.curve("expected", "soft", dash="dash", width=1.4, title="expected")
        self.plot.curve("model", "magenta", width=2, title="fitted")
        self.plot.curve("pulses", "deep", symbol="o", size=7, title="pulses")
        self.plot.getAxis("bottom").setTicks([[(a, f"{a}") for a in range(0, 361, 60)]])
        self.rows = Rows("Would it work with this motor?", width=330)
        beside(area, (self.plot,), (self.rows,))

    def build_fields(self) -> None:
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        self.column.addWidget(caution)

    def work_out(self, bench: Bench) -> SearchOutlook:
        return search_outlook(bench)

    def rests_on(self, bench: Bench) -> object:
        settings = bench.settings.commutation
        return (settings.pulse_current, settings.pulse_noise, settings.magnet)

    def on_outlook(self, outlook: SearchOutlook) -> None:
        self.outlook = outlook
        if self.evidence() is None:
            self.plot.set("expected", np.degrees(outlook.angle), outlook.example)
            self.plot.fit()
        self.show_texts()

    def on_no_outlook(self, refusal: Refusal) -> None:
        self.outlook = None
        self.plot.set("expected", [], [])
        self.rows.show_rows((), note=refusal.sentence)

    def show_texts(self) -> None:
        _bench, evidence = self.seen, self.evidence()
        self.findings.show_findings(findings_of(evidence) if evidence else ())
        self._show_rows()
        if evidence is None:
            if self.outlook is not None:
                self._answer_outlook(self.outlook)
            else:
                self.answer.show_answer(
                    "No pulses yet",
                    "",
                    "Drop a table of field_angle, i_peak and i_rest (read before each pulse) here.",
                )
            self.show_dial(DialView(caption="Pulses all round find the axis, saturation the pole", rotor=None))
            return
        found = evidence.estimates
        axis, angle = found.get("pole_axis"), found.get("pole_angle")
        if angle is not None and angle.u is not None:
            self.answer.show_answer(
                f"{math.degrees(angle.value):.1f}°",
                f"±{math.degrees(1.96 * angle.u):.1f}° electrical, polarity right with {100 * found['polarity_chance'].value:.2f} %",
                f"{evidence.method}.",
            )
            self.show_dial(
                DialView(
                    caption=f"The rotor's flux lies at {math.degrees(angle.value):.1f}°",
                    rotor=math.degrees(angle.value),
                )
            )
        elif axis is not None:
            degrees = math.degrees(axis.value)
            self.answer.show_answer(
                f"{degrees:.0f}° or {degrees + 180:.0f}°", "the axis is known, the pole is not", f"{evidence.method}."
            )
            self.show_dial(DialView(caption=f"Axis at {degrees:.0f}°, either way round", rotor=degrees))
        else:
            self.answer.show_answer(
                "Undetermined", "the current does not depend on the direction", f"{evidence.method}."
            )
            self.show_dial(DialView(caption="No saliency: align with a held current"))

    def _answer_outlook(self, outlook: SearchOutlook) -> None:
        works = outlook.refused < 0.05 and outlook.axis_error < math.radians(10)
        degrees = math.degrees(outlook.axis_error)
        self.answer.show_answer(
            "It would work" if works else "It would not work",
            f"axis within {degrees:.1f}°, polarity found in {100 * (1 - outlook.refused):.0f} of 100"
            if works
            else "with this saliency, saturation and noise",
            "Searches simulated with this motor; drop a table of field_angle and i_peak here for the real one.",
        )

    def _show_rows(self) -> None:
        evidence, outlook = self.evidence(), self.outlook
        rows = []
        if outlook is not None:
            rows += [
                ("saliency, settled", f"{100 * outlook.saliency:.1f} %"),
                ("axis, 95 of 100 within", f"{math.degrees(outlook.axis_error):.1f}°"),
                ("polarity right", f"{100 * outlook.right:.0f} of 100"),
                ("polarity refused", f"{100 * outlook.refused:.0f} of 100"),
                ("shaft moves at most", show(outlook.moved, "rad", 2)),
            ]
        if evidence is not None:
            found = evidence.estimates
            rows += [
                ("saliency, pulses", f"{100 * found['saliency'].value:.1f} %"),
                ("saturation, pulses", f"{100 * found['magnet_saturation'].value:.1f} %"),
            ]
        note = "Searches of the simulated motor: 24 directions, three times round." if outlook else ""
        self.rows.show_rows(rows, note=note)

    def draw(self, evaluated: Evaluated) -> None:
        result = evaluated.result
        if not isinstance(result, PoleSearch):
            return
        self.plot.set("pulses", np.degrees(result.angle) % 360, result.current)
        self.plot.set("model", *result.line())
        self.plot.set("expected", [], [])

    def _show_plots(self, evaluated: Evaluated | None) -> None:
        if evaluated is not None:
            super()._show_plots(evaluated)
            return
        for key in ("pulses", "model"):
            self.plot.set(key, [], [])
