"""Commutation, pole search: where does the rotor lie at standstill, by test pulses?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.page.outlook_page import OutlookPage
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import Evaluated
from crisp_compass.studies.zero_search import SearchOutlook, search_outlook
from crisp_compass.views.picture import Box, Pane, Said
from crisp_compass.views.pole_search import expected, pane, said_with

_CURRENT = "At the end of a pulse; rated if empty"
_NOISE = "Standard deviation of a reading, of the pulse current"
_MAGNET = "How much more current flows towards the pole than against it"
_LARGER = "Lq with magnets inside the rotor; the other way round the axis lies 90° off"


class PolesPage(OutlookPage):
    """Current of each pulse over its direction, the fit, and whether the search can work with this motor."""

    key = "commutation"
    section = "Pole search"
    settles = False
    question = "Where does the rotor lie at standstill?"
    caution = "Done at standstill, after R and L and before the first move; the shaft may twitch. Afterwards move slowly and check the sign (Sense and offset)."
    fields = (
        Entry("pulse_current", "Pulse current", "A", width=112, base="peak", tip=_CURRENT),
        Entry("pulse_noise", "Noise of a reading", "%", width=132, tip=_NOISE),
        Entry("magnet", "Saturation", "%", width=104, tip=_MAGNET),
        Pick("larger", "Larger inductance", {"lq": "Lq", "ld": "Ld"}, width=118, tip=_LARGER),
    )

    def work_out(self, bench: Bench) -> SearchOutlook:
        return search_outlook(bench)

    def rests_on(self, bench: Bench) -> object:
        settings = bench.settings.commutation
        return (settings.pulse_current, settings.pulse_noise, settings.magnet)

    def said(self, evidence: Evidence | None) -> Said:
        said = said_with(self.seen, evidence, self.outlook)
        if self.why_not:
            return replace(said, boxes=(Box(said.boxes[0].heading, said.boxes[0].rows, self.why_not),))
        return said

    def panes(self, evaluated: Evaluated | None) -> Sequence[Pane]:
        if evaluated is not None:
            return super().panes(evaluated)
        return () if self.outlook is None else (pane(expected(self.outlook)),)
