"""The shape of an identification page: load or drop a capture, see trace, fit and residual, settle the answer."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.jobs import Job
from crisp_compass.app.page.base import Page
from crisp_compass.app.widgets.parts import label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.wiring import WiringSketch
from crisp_compass.bench.base import Topic
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import Evaluated, differs, read_again
from crisp_compass.course.waypoint import Proposal
from crisp_compass.course.waypoints import KINDS
from crisp_compass.errors import Refusal


class CapturePage(Page):
    """Base of the identification pages. Subclasses build plots in :meth:`build` and fill them in :meth:`draw`."""

    chosen = Signal(object)
    key: Topic
    always_plots = False  # the plots show an outlook before there is a capture
    empty_answer = "No capture yet"
    settles = True  # whether something of this section is settled here

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        #: Kinds of capture that this section shows.
        self.kinds = tuple(
            sorted((k for k in self.waypoint.captures if k.section == self.section), key=lambda k: k.rank)
        )
        #: Signals that a mapping of foreign channels offers: those of the usual kind, or a channel would be taken for what it is not.
        self.signals = self.kinds[0].signals
        self._shown: tuple[object, ...] = ()
        self.evaluated: Evaluated | None = None
        self._stamp: tuple[int, ...] = ()
        self._again = Job(self)
        self._again.done.connect(self._on_evaluated)
        self._again.refused.connect(self._on_gone)
        self._again.busy.connect(self._on_busy)

    def setup(self) -> None:
        """Build the plots, the sketch that stands there before a capture, and the row of fields and buttons."""
        self.plots = QWidget()
        self.stack = QStackedWidget()
        self.stack.addWidget(WiringSketch(self.kinds[0].sketch))
        self.stack.addWidget(self.plots)
        self.build(self.plots)
        self.column.addWidget(self.stack, 1)
        self._busy = QWidget()
        row = QHBoxLayout(self._busy)
        row.setContentsMargins(0, 0, 0, 0)
        self._busy_text = label("", "info")
        cancel = QPushButton("Cancel")
        cancel.setShortcut(Qt.Key.Key_Escape)
        cancel.clicked.connect(self._cancel)
        row.addWidget(self._busy_text)
        row.addWidget(cancel)
        row.addStretch(1)
        self._busy.hide()
        self.column.addWidget(self._busy)
        self.open_button = QPushButton("Load capture…")
        self.open_button.setShortcut("Ctrl+L")
        self.open_button.setToolTip("Ctrl+L, or drop a file on the window")
        self.open_button.clicked.connect(self._ask_file)
        self.build_fields()
        self.finish("Settle…" if self.settles else "", self.open_button)

    # ---- for subclasses

    def build(self, area: QWidget) -> None:
        """Build the plots."""
        raise NotImplementedError

    def build_fields(self) -> None:
        """Add settings to the row."""

    def draw(self, evaluated: Evaluated) -> None:
        """Fill the plots."""
        raise NotImplementedError

    def _show_plots(self, evaluated: Evaluated | None) -> None:
        """Fill the plots and fit them, or empty them."""
        plots = self.plots.findChildren(Plot)
        if evaluated is None:
            for plot in plots:
                plot.clear_data()
            return
        self.draw(evaluated)
        for plot in plots:
            plot.fit()

    def show_texts(self) -> None:
        """Fill answer, findings and dial from the document's evidence."""
        raise NotImplementedError

    def evidence(self) -> Evidence | None:
        """Return the evidence the plots show: the newest of this section's kinds."""
        keys = {k.key for k in self.kinds}
        items = [e for e in self.document.bench.evidence.get(self.key, ()) if e.kind in keys]
        return items[-1] if items else None

    def propose(self) -> Proposal | None:
        """Return what settling the shown capture would settle."""
        evidence = self.evidence()
        of = KINDS[evidence.kind].propose if evidence is not None else None
        return of(self.seen, evidence) if of is not None and evidence is not None else None

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
        if evaluated.topic != self.key or self.evidence() != evaluated.evidence:
            return
        self.evaluated = evaluated
        self._again.cancel()
        self._shown, self._stamp = self._state(evaluated.evidence), self._file_stamp()
        self.stack.setCurrentIndex(1)
        self.show_texts()
        self._show_plots(evaluated)

    def _on_busy(self, busy: bool) -> None:
        self._busy.setVisible(busy)

    def _cancel(self) -> None:
        self._again.cancel()

    # ---- showing

    def _state(self, evidence: Evidence | None) -> tuple[object, ...]:
        settings = getattr(self.document.bench.settings, self.key, None)
        return (
            (evidence.file, evidence.sha256, evidence.kind, evidence.columns, settings, self.document.path)
            if evidence
            else ()
        )

    def refresh(self) -> None:
        """Show the document; plots are made again when the evidence they show is another."""
        evidence = self.evidence()
        self.stack.setCurrentIndex(1 if evidence or self.always_plots else 0)
        self.show_texts()
        state = self._state(evidence)
        if evidence is None:
            self._shown = ()
            self._show_plots(None)
        elif state != self._shown:
            self._shown = state
            self._evaluate_again(evidence)

    def _evaluate_again(self, evidence: Evidence) -> None:
        bench, base, picked = self.seen, self.document.base, frozenset(self.document.picked)
        self._busy_text.setText(f"Fitting {Path(evidence.file).name} …")
        self._stamp = self._file_stamp()
        self._again.ask(lambda: read_again(bench, evidence, base, picked))

    def _file_stamp(self) -> tuple[int, ...]:
        """Return what tells a changed file without reading it: time and size, nothing where it is gone."""
        evidence = self.evidence()
        try:
            found = (self.document.base / evidence.file).stat() if evidence else None
        except (OSError, ValueError):
            found = None
        return (found.st_mtime_ns, found.st_size, found.st_ino) if found else ()

    def enter(self) -> None:
        """Look whether the capture is still the one that was read: on every visit."""
        evidence = self.evidence()
        if evidence is not None and self._state(evidence) == self._shown and self._file_stamp() != self._stamp:
            self._evaluate_again(evidence)

    def _on_evaluated(self, evaluated: Evaluated) -> None:
        self.evaluated = evaluated
        items = self.document.bench.evidence.get(self.key, ())
        new = evaluated.evidence
        fresh = tuple(new if (e.sha256, e.kind) == (new.sha256, new.kind) and differs(e, new) else e for e in items)
        if fresh != items:
            bench = self.document.bench
            # nobody's edit: an undo step here would throw away what can be redone
            self.document.amend(bench.model_copy(update={"evidence": {**bench.evidence, self.key: fresh}}))
            self._shown = self._state(self.evidence())
        self.show_texts()
        self._show_plots(evaluated)

    def _on_gone(self, refusal: Refusal) -> None:
        self.evaluated, self._stamp = None, (-1,)  # so that the next visit looks again
        self._show_plots(None)
        self.refuse(refusal)

    def leave(self) -> None:
        """Stop fitting again: it is done anew at the next visit."""
        if self._again.running:
            self._shown = ()
        self._cancel()

    # ---- helpers

    def three_plots(self, area: QWidget, top: QWidget, left: QWidget, right: QWidget) -> None:
        """Lay out one wide plot over two narrower ones."""
        column = QVBoxLayout(area)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(top, 5)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(left, 3)
        row.addWidget(right, 2)
        column.addLayout(row, 5)

    def settled_quantity(self, name: str) -> Any:
        """Return a settled quantity of this waypoint, or None."""
        settled = self.document.bench.settled.get(self.key)
        return settled.values.get(name) if settled else None
