"""A page that shows a capture: load or drop one, see trace, fit and residual, settle the answer. What it says and draws is data
of the kind of capture; a page adds its fields, and what only it has."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QPushButton, QStackedWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.reading import Reading
from crisp_compass.app.page.take import TakeButton
from crisp_compass.app.widgets.parts import label
from crisp_compass.app.widgets.pictures import Pictures
from crisp_compass.app.widgets.wiring import WiringSketch
from crisp_compass.bench.base import Topic
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import Evaluated, findings_of, kinds_of
from crisp_compass.course.channels import channels_text
from crisp_compass.course.data_sheet import data_sheet_proposal
from crisp_compass.course.kind import CaptureKind
from crisp_compass.course.known import CONSTANTS, WAYPOINT_OF, far_from_settled
from crisp_compass.course.waypoint import Proposal
from crisp_compass.course.waypoints import KINDS
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.views import view_of
from crisp_compass.views.picture import Pane, Said
from crisp_compass.views.stated import as_stated


class CapturePage(Page):
    """Panel of the newest capture of the section's kinds, under the words that its kind says."""

    chosen = Signal(object)
    remap = Signal()
    key: Topic
    always_plots = False  # the plots show an outlook before there is a capture
    settles = True  # whether something of this section is settled here
    caution = ""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.pictures = Pictures()
        self.reading = Reading(document, self.key, self)
        self.reading.fresh.connect(self._on_fresh)
        self.reading.gone.connect(self._on_gone)
        self.stack = QStackedWidget()
        self.sketch = WiringSketch(self.kinds[0].sketch)
        self.stack.addWidget(self.sketch)
        self.stack.addWidget(self.pictures)
        self.open_button = QPushButton("Load capture…")
        self.open_button.setShortcut("Ctrl+L")
        self.open_button.setToolTip("Ctrl+L, or drop a file on the window")
        self.open_button.clicked.connect(self._ask_file)
        self.map_button = QPushButton("Channels…")
        self.map_button.setToolTip("Say anew which channel of this file is which signal, its sign, scale and zero")
        self.map_button.clicked.connect(self.remap)

        self.take_button = TakeButton(document, self.key, self.section, self)

    @property
    def kinds(self) -> tuple[CaptureKind, ...]:
        """Kinds of capture of the bench's motor that this section shows, the usual one first."""
        here = [k for k in self.waypoint.captures if k.section == self.section]
        own = [k for k in here if k in kinds_of(self.document.bench, self.key)]
        return tuple(sorted(own or here, key=lambda k: k.rank))

    @property
    def signals(self) -> tuple[str, ...]:
        """Signals that a mapping of foreign channels offers: those of the usual kind, or a channel would be taken for what it is not."""
        return self.kinds[0].signals

    def setup(self) -> None:
        """Put the panel, the caution and the row of fields and buttons together."""
        self.column.addWidget(self.stack, 1)
        self.column.addWidget(self.reading.bar)
        if self.caution:
            caution = label(self.caution, "caution")
            caution.setWordWrap(True)
            self.column.addWidget(caution)
        self.build()
        self.finish("Settle…" if self.settles else "", *self.buttons(), self.map_button, self.take_button, self.open_button)

    # ---- for pages that have something of their own

    def build(self) -> None:
        """Add what only this page has."""

    def buttons(self) -> Sequence[QPushButton]:
        """Return further buttons."""
        return ()

    def said(self, evidence: Evidence | None) -> Said:
        """Return the words."""
        kind = KINDS[evidence.kind] if evidence is not None else self.kinds[0]
        read = self.reading.evaluated
        result = read.result if read is not None and evidence is not None and read.evidence == evidence else None
        return view_of(kind).said(self.seen, evidence, result)

    def panes(self, evaluated: Evaluated | None) -> Sequence[Pane]:
        """Return what to draw."""
        if evaluated is not None:
            return view_of(evaluated.kind).panes(evaluated.capture, evaluated.result)
        try:
            return self.foreseen()
        except Refusal:  # the answer says why
            return ()

    def foreseen(self) -> Sequence[Pane]:
        """Return what to draw before there is a capture; a Refusal leaves it empty."""
        return ()

    def evidence(self) -> Evidence | None:
        """Return the evidence shown: the newest of this section's kinds."""
        keys = {k.key for k in self.kinds}
        items = [e for e in self.document.bench.evidence.get(self.key, ()) if e.kind in keys]
        return items[-1] if items else None

    def propose(self) -> Proposal | None:
        """Return what settling the shown capture would settle; without one, what is stated."""
        evidence = self.evidence()
        if evidence is None:
            return self.stated()
        of = KINDS[evidence.kind].propose if evidence is not None else None
        return of(self.seen, evidence) if of is not None and evidence is not None else None

    def stated(self) -> Proposal | None:
        """Return what plate, data sheet or a typed reading says; nothing only stated where something measured is settled."""
        if not self.settles or self.section != self.waypoint.sections[0].name:
            return None
        found, done = data_sheet_proposal(self.seen, self.key), self.seen.settled.get(self.key)
        better = done is not None and done.origin == "measured"
        return None if found is None or (better and found.origin != "measured") else found

    # ---- loading

    def _ask_file(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "Load capture", str(self.document.base), "Captures (*.csv *.txt *.tsv);;All files (*)"
        )
        if path:
            self.load(Path(path))

    def load(self, path: Path) -> None:
        """Hand a capture over to be read; it is, wherever the person goes meanwhile."""
        self.chosen.emit(path)

    def on_taken(self, evaluated: Evaluated) -> None:
        """Show a capture that was read into this waypoint without fitting it a second time."""
        if evaluated.topic == self.key and self.evidence() == evaluated.evidence:
            self.reading.adopt(evaluated)
            self._show(evaluated)

    # ---- showing

    def refresh(self) -> None:
        """Show the document; plots are made again when the evidence they show is another."""
        evidence = self.evidence()
        self.take_button.follow()
        before = self.reading.evaluated
        self.reading.want(evidence)
        self._show_words()
        if evidence is None and (before is not None or not self.pictures.plots or self.always_plots):
            self._draw(None)

    def _show(self, evaluated: Evaluated | None) -> None:
        self._show_words()
        self._draw(evaluated)

    def _draw(self, evaluated: Evaluated | None) -> None:
        self.pictures.show_panes(self.panes(evaluated))

    def _show_words(self) -> None:
        """Say what the shown evidence says."""
        evidence = self.evidence()
        self.stack.setCurrentIndex(1 if evidence or self.always_plots else 0)
        self.sketch.show_sketch(self.kinds[0].sketch)
        said = self.said(evidence)
        stated = self.stated() if evidence is None else None
        if stated is not None:
            said = as_stated(stated, said)
        channels = channels_text(evidence)
        self.map_button.setVisible(bool(channels))
        self.answer.show_answer(said.answer, said.doubt, f"{said.reason} {channels}".strip())
        self.findings.show_findings((*(findings_of(evidence) if evidence else ()), *said.findings, *self._far()))
        self.pictures.show_boxes(said.boxes)
        self.show_dial(said.dial)
        if self.main_button is not None:
            self.main_button.setText(said.button)
            self.main_button.setEnabled(said.can_settle)

    def _far(self) -> list[Finding]:
        """Return what is said where this leg's newest capture lies far from what is settled."""
        constants = [c for c in CONSTANTS if WAYPOINT_OF[c] == self.key]
        return [f for c in constants for f in far_from_settled(self.seen, c)][:1]

    def _on_fresh(self, evaluated: Evaluated) -> None:
        if self.evidence() is not None:
            self._show(evaluated)

    def _on_gone(self, refusal: Refusal) -> None:
        self._draw(None)
        self.refuse(refusal)

    def enter(self) -> None:
        """Look whether the capture is still the one that was read."""
        self.reading.enter()

    def leave(self) -> None:
        """Stop reading."""
        self.reading.leave()
