"""Side by side: do plate, meter, captures and the drive's own auto-tune agree?"""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import ClassVar

from PySide6.QtWidgets import QMenu, QPushButton

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Field
from crisp_compass.app.widgets.forest_plot import Bar, ForestPlot
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.bench.base import Topic
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import drop_evidence, set_instrument
from crisp_compass.course.known import Constant, side_by_side
from crisp_compass.course.repeats import NAMES, mean_proposal, repeats_mean
from crisp_compass.course.waypoint import Proposal
from crisp_compass.course.waypoints import KINDS
from crisp_compass.quantities import show, show_with_error


def tuned(name: str, unit: str) -> tuple[Field, ...]:
    """Return the fields of what the drive held before and after its own auto-tune."""
    return (
        Entry(f"auto_tune.{name}_before", "Drive held before auto-tune", unit, width=178),
        Entry(f"auto_tune.{name}_after", "after it", unit, width=110),
    )


class AgreementPage(Page):
    """Every value of one constant with its error bar, the test, and what stands apart. Subclasses name the leg."""

    key: Topic
    section = "Side by side"
    has_dial = False
    constants: tuple[Constant, ...] = ()
    arranges_fields = True
    channels: ClassVar[dict[str, str]] = {"v_gain": "Volts, u", "i_gain": "Amps, u"}

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.constant: Constant = self.constants[0]
        self.forest = ForestPlot(
            "No value yet: read a capture, type meter readings, or enter the data sheet's figure on the plate."
        )
        self.column.addWidget(self.forest, 1)
        self.which = Choice("Constant", {c: NAMES[c] for c in self.constants}, width=92)
        self.which.moved.connect(self._on_which)
        if len(self.constants) > 1:
            self.add_fields(self.which)
        self.add_fields(*self._fields.values())
        self._gains: dict[str, NumberField] = {}
        for field, title in self.channels.items():
            gain = NumberField(
                title,
                "%",
                width=98,
                tip="Standard uncertainty of this channel's scale, from the instrument's data sheet",
            )
            gain.moved.connect(lambda value, f=field: self._change(lambda bench: set_instrument(bench, f, value)))
            self._gains[field] = gain
        self.add_fields(*self._gains.values())
        self.remove = QPushButton("Remove capture")
        self.menu = QMenu(self.remove)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.remove.setMenu(self.menu)
        self.finish("Settle mean…", self.remove)

    def _on_which(self, key: str) -> None:
        self.constant = next(c for c in self.constants if c == key)
        self.refresh()

    def refresh(self) -> None:
        bench = self.seen
        for field, number in self._gains.items():
            number.show_value(getattr(bench.settings.instruments, field))
        found = side_by_side(bench, self.constant)
        apart = found.agreement.apart if found.agreement else ""
        bars = [Bar(s.name, s.kind, s.value, 1.96 * s.u, apart=s.name == apart) for s in found.sources]
        mean = None
        if found.agreement and found.agreement.agrees:
            m = found.agreement.mean
            mean = Bar("mean", "mean", m.value, (m.high - m.low) / 2)
        self.forest.show_bars(bars, found.unit, mean)
        self.findings.show_findings(found.findings)
        independent = [s for s in found.sources if s.kind != "settled"]
        name = NAMES[self.constant]
        if found.agreement is None:
            count = len(independent)
            text = "One source" if count else "No value yet"
            self.answer.show_answer(
                text,
                f"for {name}" if count else "",
                "Two independent ones can be tested against each other: repeat the capture, measure with the meter, or enter the data sheet's figure.",
            )
        elif found.agreement.agrees:
            m = found.agreement.mean
            shown, doubt = show_with_error(m.value, (m.high - m.low) / 2, found.unit)
            self.answer.show_answer(
                "They agree",
                f"{name} {shown} {doubt} together",
                f"{len(independent)} sources, weighted by their error bars; scatter as large as this comes by chance in {100 * found.agreement.probability:.0f} % of cases.",
            )
        else:
            self.answer.show_answer(
                "They differ",
                f"more than their error bars allow ({name})",
                "Find the slip before settling: base, unit, temperature, or a reading of another motor.",
                stale=True,
            )
        assert self.main_button is not None
        repeats = repeats_mean(bench, self.constant)
        self.main_button.setEnabled(repeats is not None)
        self.main_button.setText(f"Settle mean {show(repeats.value, found.unit)}…" if repeats else "Settle mean…")
        self.remove.setEnabled(bool(bench.evidence.get(self.key)))

    def propose(self) -> Proposal | None:
        return mean_proposal(self.seen, self.key, self.constant)

    def _fill_menu(self) -> None:
        self.menu.clear()
        for evidence in self.seen.evidence.get(self.key, ()):
            title = KINDS[evidence.kind].title
            action = self.menu.addAction(f"{Path(evidence.file).name}{title}")
            action.triggered.connect(partial(self._take_off, evidence))

    def _take_off(self, evidence: Evidence, _checked: bool = False) -> None:
        self._change(lambda bench: drop_evidence(bench, evidence, now()), "take a capture off")
