"""Start-up, failed start: what was seen, what is the likeliest cause, and what to change next?"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.chance_bar import ChanceBar
from crisp_compass.app.widgets.number_field import Choice
from crisp_compass.app.widgets.parts import button, frame, label
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import StartSymptom
from crisp_compass.studies.failed_start import (
    CAUSES,
    SYMPTOMS,
    Likelihoods,
    cause_likelihoods,
    causes_of,
    log_trial,
    rank,
)
from crisp_compass.views.picture import DialView

_SHOWN = 7
_CAUTION = "Power off and link discharged before a lead is moved. A rotor that fell out may start again by itself: hands away until it is off."


class FailedStartPage(PlayedPage):
    """Simulated causes ranked by what was seen; a log of trials, kept in the record."""

    key = "start_up"
    section = "Failed start"
    dial = DialView(caption="A rotor that rocks is pulled both ways", rotor=180.0, current=(0.0, 0.8))
    pause = 0
    question = "Why does it not start, and what to change next?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: Likelihoods | None
        self._symptom: StartSymptom = "rocks"
        sheet = frame("sheet")
        grid = QGridLayout(sheet)
        grid.setContentsMargins(14, 8, 14, 8)
        grid.setHorizontalSpacing(14)
        grid.setColumnStretch(2, 1)
        for column, text in enumerate(("likely", "cause", "change to try")):
            grid.addWidget(label(text, "label"), 0, column)
        self._lines = []
        for line in range(1, _SHOWN + 1):
            bar, cause, change = ChanceBar(), label("", "title"), label("", "reason")
            bar.setFixedWidth(120)
            cause.setWordWrap(True)
            change.setWordWrap(True)
            grid.setRowMinimumHeight(line, 36)
            for column, widget in enumerate((bar, cause, change)):
                grid.addWidget(widget, line, column)
            self._lines.append((bar, cause, change))
        grid.setColumnMinimumWidth(1, 200)
        self.log = Rows("Trials so far", prose=True)
        middle = QVBoxLayout()
        middle.setSpacing(8)
        middle.addWidget(sheet)
        middle.addWidget(self.log, 1)
        self.column.addLayout(middle, 1)
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        row = QHBoxLayout()
        row.addWidget(caution, 1)
        self.clear = button("Clear log", "small")
        self.clear.clicked.connect(
            lambda: self._change(lambda b: b.model_copy(update={"start_trials": ()}), "clear trial log")
        )
        row.addWidget(self.clear)
        self.column.addLayout(row)
        self.seen_now = Choice("Seen", {str(k): text for k, text in SYMPTOMS.items()}, width=262)
        self.seen_now.moved.connect(self.on_symptom)
        self.changed = Choice("Changed before", {"": "nothing", **{c.key: c.change for c in CAUSES}}, width=340)
        self.add_fields(self.seen_now, self.changed)
        self.finish("Log this trial")

    def on_symptom(self, symptom: str) -> None:
        """Rank for another symptom."""
        self._symptom = next(s for s in SYMPTOMS if s == symptom)
        self.show_found()

    def question_for(self, bench: Bench) -> Callable[[], Likelihoods]:
        return lambda: cause_likelihoods(bench)

    def refresh(self) -> None:
        self.clear.setEnabled(bool(self.seen.start_trials))
        self.seen_now.show_value(self._symptom)
        super().refresh()

    def on_asked(self) -> None:
        self.found = None
        self.answer.show_answer(
            "Trying …",
            f"{len(causes_of(self.seen.settings.start_up.standstill))} causes on this motor",
            "Each is simulated at several severities.",
        )
        self.show_found()

    def show_found(self) -> None:
        bench = self.seen
        trials = bench.start_trials
        changes = {c.key: c.change for c in CAUSES}
        self.log.show_rows(
            [
                (
                    f"{k}  {t.when[:16].replace('T', ' ')}",
                    f"{SYMPTOMS[t.symptom]}" + (f"; before it: {changes[t.changed]}" if t.changed in changes else ""),
                )
                for k, t in enumerate(trials, 1)
            ],
            note=""
            if trials
            else "Log what was seen, change one thing, and log again: what did not help counts against its cause.",
        )
        assert self.main_button is not None
        self.main_button.setEnabled(self.found is not None)
        if self.found is None:
            for bar, cause, change in self._lines:
                bar.show_chance(0.0, best=False)
                cause.setText("")
                change.setText("")
            return
        ranked = rank(self._symptom, trials, self.found)
        for place, ((bar, cause, change), found) in enumerate(zip(self._lines, ranked, strict=False)):
            bar.show_chance(found.probability, best=place == 0)
            cause.setText(found.cause.text)
            change.setText(found.cause.change)
        best = ranked[0]
        self.answer.show_answer(
            f"Try: {best.cause.change}",
            f"{best.cause.text[:1].upper()}{best.cause.text[1:]}, {100 * best.probability:.0f} % likely",
            f"Where it {SYMPTOMS[self._symptom]}: each of {len(self.found.of)} causes was simulated {self.found.draws} times on this motor. Change one thing at a time.",
        )

    def on_main(self) -> None:
        key = str(self.changed.box.currentData())
        symptom = self._symptom
        self._change(lambda bench: log_trial(bench, symptom, key, now()), "log a failed start")
        self.changed.show_value("")
