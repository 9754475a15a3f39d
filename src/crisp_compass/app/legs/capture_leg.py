"""The shape of an identification page: load or drop a capture, see trace, fit and residual, settle the answer."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from crisp_compass.app.document import Document, now
from crisp_compass.app.jobs import Job
from crisp_compass.app.legs.base import LegPage
from crisp_compass.app.legs.mapping import MappingDialog
from crisp_compass.app.widgets.parts import label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.wiring import WiringSketch
from crisp_compass.bench.models import Evidence, Topic
from crisp_compass.bench.store import sha256_of
from crisp_compass.capture import Capture
from crisp_compass.errors import Refusal
from crisp_compass.voyage.evidence import Evaluated, add_evidence, differs, evaluate


class CaptureLeg(LegPage):
    """Base of the identification pages. Subclasses build plots in :meth:`build` and fill them in :meth:`draw`."""

    key: Topic
    wanted: tuple[str, ...] = ()
    sketch = ""
    always_plots = False  # the plots show an outlook before there is a capture
    empty_answer = "No capture yet"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._shown: tuple[object, ...] = ()
        self.evaluated: Evaluated | None = None
        self._load = Job(self)
        self._load.done.connect(self._on_loaded)
        self._load.refused.connect(self._on_load_refused)
        self._load.busy.connect(self._on_busy)
        self._load.progress.connect(self._on_progress)
        self._again = Job(self)
        self._again.done.connect(self._on_evaluated)
        self._again.refused.connect(self._on_gone)
        self._again.busy.connect(self._on_busy)
        self._pending: tuple[Path, tuple[str, ...]] = (Path(), ())
        self.plots = QWidget()
        self.stack = QStackedWidget()
        self.stack.addWidget(WiringSketch(self.sketch or self.key))
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
        self.build_levers()
        self.finish("Settle…", self.open_button)

    # ---- for subclasses

    def build(self, area: QWidget) -> None:
        """Build the plots."""
        raise NotImplementedError

    def build_levers(self) -> None:
        """Add levers to the row."""

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
        """Return the evidence the plots show: the newest of this leg."""
        items = self.document.bench.evidence.get(self.key, ())
        return items[-1] if items else None

    # ---- loading

    def _ask_file(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "Load capture", str(self.document.base), "Captures (*.csv *.txt *.tsv);;All files (*)"
        )
        if path:
            self.load(Path(path))

    def load(self, path: Path, columns: tuple[str, ...] = (), capture: Capture | None = None) -> None:
        """Read (unless done already) and evaluate a capture off the window's thread."""
        bench, base = self.document.bench, self.document.base
        self._pending = (path, columns)
        self._busy_text.setText(f"Reading {path.name} …")
        self._load.ask_reporting(
            lambda report: evaluate(
                bench, self.key, path, base=base, when=now(), columns=columns, progress=report, capture=capture
            )
        )

    def _on_loaded(self, evaluated: Evaluated) -> None:
        self.evaluated = evaluated
        evidence = evaluated.evidence
        self._shown = self._state(evidence)
        self.document.edit(f"load {Path(evidence.file).name}", add_evidence(self.document.bench, self.key, evidence))
        self.refresh()
        self._show_plots(evaluated)

    def _on_load_refused(self, refusal: Refusal) -> None:
        path, columns = self._pending
        if not columns and (
            "missing" in refusal.problem or "signal name" in refusal.problem or "time column" in refusal.problem
        ):
            dialog = MappingDialog(self, path, self.wanted, refusal.sentence)
            if dialog.usable and dialog.exec():
                self.load(path, dialog.mappings())
                return
        self.refuse(refusal)

    def _on_progress(self, part: float) -> None:
        name = self._pending[0].name
        self._busy_text.setText(f"Reading {name} … {100 * part:.0f} %" if part < 0.995 else f"Fitting {name} …")

    def _on_busy(self, busy: bool) -> None:
        self._busy.setVisible(busy)

    def _cancel(self) -> None:
        self._load.cancel()
        self._again.cancel()

    # ---- showing

    def _state(self, evidence: Evidence | None) -> tuple[object, ...]:
        levers = getattr(self.document.bench.levers, self.key, None)
        return (evidence.sha256, evidence.slot, evidence.columns, levers, self.document.path) if evidence else ()

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
        bench, base = self.document.bench, self.document.base
        path = base / evidence.file
        self._busy_text.setText(f"Fitting {path.name} …")

        def work() -> Evaluated:
            if not path.is_file():
                raise Refusal(
                    "the capture is no longer beside the bench", "put it back or load another", where=evidence.file
                )
            if sha256_of(path) != evidence.sha256:
                raise Refusal(
                    "the capture has changed since it was read",
                    "load it again to take the new content",
                    where=evidence.file,
                )
            return evaluate(
                bench, self.key, path, base=base, when=evidence.when, columns=evidence.columns, slot=evidence.slot
            )

        self._again.ask(work)

    def _on_evaluated(self, evaluated: Evaluated) -> None:
        self.evaluated = evaluated
        items = self.document.bench.evidence.get(self.key, ())
        new = evaluated.evidence
        fresh = tuple(new if (e.sha256, e.slot) == (new.sha256, new.slot) and differs(e, new) else e for e in items)
        if fresh != items:
            bench = self.document.bench
            self.document.edit(
                "fit again",
                bench.model_copy(update={"evidence": {**bench.evidence, self.key: fresh}}),
                f"{self.key}.fit",
            )
            self._shown = self._state(self.evidence())
        self.show_texts()
        self._show_plots(evaluated)

    def _on_gone(self, refusal: Refusal) -> None:
        self.evaluated = None
        self._show_plots(None)
        self.refuse(refusal)

    def leave(self) -> None:
        """Stop what is under way."""
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
        """Return a settled quantity of this leg, or None."""
        settled = self.document.bench.settled.get(self.key)
        return settled.values.get(name) if settled else None
