"""Start-up, failed start: what was seen, what is the likeliest cause, and what to change next?"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.chance_bar import ChanceBar
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.parts import button, frame, label
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.studies.failed_start import (
    CAUSES,
    LOOKS,
    SYMPTOMS,
    Likelihoods,
    Seen,
    cause_likelihoods,
    causes_of,
    log_trial,
    look_next,
    rank,
    ties,
)
from crisp_compass.views.picture import DialView

_SHOWN = 6
#: What may be read, SI.
_ANY = (0.0, 1e6)
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
        self._now = Seen("rocks")
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
            grid.setRowMinimumHeight(line, 30)
            for column, widget in enumerate((bar, cause, change)):
                grid.addWidget(widget, line, column)
            self._lines.append((bar, cause, change))
        grid.setColumnMinimumWidth(1, 230)
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
        self.looked: dict[str, NumberField | Choice] = {
            "speed": NumberField("Fell from, or keeps", "rpm", width=126, optional=True, between=_ANY, tip="The speed from which it fell, or that it keeps; from telemetry, a tachometer or the sound"),
            "current": NumberField("Current then", "A", width=104, optional=True, between=_ANY, base="peak", tip="Phase peak, just before it fell"),
            "voltage": NumberField("Voltage then", "V", width=104, optional=True, between=_ANY, tip="Length of the commanded voltage vector, phase peak, just before it fell"),
            "pulses": Choice("The current", {"": "not seen", "steady": "is steady", "pulses": "pulses"}, width=108, tip="A current that swings by more than a fifth pulses; it is heard, too"),
            "repeats": Choice("Another place", {"": "not tried", "same": "the same", "other": "not the same"}, width=118, tip="Turn the rotor by hand with the power off, then start again"),
        }  # fmt: skip
        for name, widget in self.looked.items():
            widget.moved.connect(lambda value, n=name: self.on_look(n, value))
        self.changed = Choice("Changed before", {"": "nothing", **{c.key: c.change for c in CAUSES}}, width=340)
        self.add_fields(self.seen_now, *self.looked.values())
        self.break_row()
        self.add_fields(self.changed)
        self.finish("Log this trial")

    def on_symptom(self, symptom: str) -> None:
        """Rank for another symptom; what was looked at belongs to the one before."""
        self._now = Seen(next(s for s in SYMPTOMS if s == symptom))
        self._show_looked()
        self.show_found()

    def on_look(self, name: str, value: float | str) -> None:
        """Rank with one more observation, or without it where it was emptied."""
        read: float | bool | None
        if isinstance(value, str):
            read = None if not value else value in ("pulses", "same")
        else:
            read = None if math.isnan(value) else value
        self._now = replace(self._now, **{name: read})  # type: ignore[arg-type]
        self.show_found()

    def _show_looked(self) -> None:
        for name, widget in self.looked.items():
            read = getattr(self._now, name)
            if isinstance(widget, NumberField):
                widget.show_value(read)
            else:
                yes, no = ("pulses", "steady") if name == "pulses" else ("same", "other")
                widget.show_value("" if read is None else yes if read else no)

    def question_for(self, bench: Bench) -> Callable[[], Likelihoods]:
        return lambda: cause_likelihoods(bench)

    def refresh(self) -> None:
        self.clear.setEnabled(bool(self.seen.start_trials))
        self.seen_now.show_value(self._now.symptom)
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
                bar.hide()  # nothing is likely or unlikely yet
                cause.setText("")
                change.setText("")
            return
        ranked = rank(self._now, trials, self.found)
        for place, ((bar, cause, change), found) in enumerate(zip(self._lines, ranked, strict=False)):
            bar.show_chance(found.probability, best=place == 0)
            bar.show()
            cause.setText(found.cause.text)
            change.setText(found.cause.change)
        best, equal = ranked[0], len(ties(ranked))
        look = look_next(self._now, trials, self.found)
        others = f"; {equal - 1} more {'is' if equal == 2 else 'are'} as likely" if equal > 1 else ""
        self.answer.show_answer(
            f"Look at {LOOKS[look]}" if look and equal > 1 else f"Try: {best.cause.change}",
            f"{best.cause.text[:1].upper()}{best.cause.text[1:]}, {100 * best.probability:.0f} % likely{others}",
            f"{f'{LOOKS[look][:1].upper()}{LOOKS[look][1:]} would tell most. ' if look else ''}"
            f"Each of {len(self.found.of)} causes was simulated {self.found.draws} times on this motor. Change one thing at a time.",
        )

    def on_main(self) -> None:
        key = str(self.changed.box.currentData())
        seen = self._now
        self._change(lambda bench: log_trial(bench, seen, key, now()), "log a failed start")
        self.changed.show_value("")
