"""Reads the capture that a page shows again, off the window's thread, when the page comes to show another one or it changed."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.jobs import Job
from crisp_compass.app.widgets.parts import label
from crisp_compass.bench.base import Topic
from crisp_compass.bench.entered import standing
from crisp_compass.bench.records import Evidence
from crisp_compass.course.captures import Evaluated, differs, read_again


class Reading(QObject):
    """The shown capture: ``evaluated`` where it was read, ``fresh`` when it is, ``gone`` (a Refusal) where it cannot be.

    ``bar`` says that it is being fitted and lets it be cancelled.
    """

    fresh = Signal(object)
    gone = Signal(object)

    def __init__(self, document: Document, topic: Topic, parent: QWidget) -> None:
        super().__init__(parent)
        self.evaluated: Evaluated | None = None
        self._document, self._topic = document, topic
        self._evidence: Evidence | None = None
        self._shown: tuple[object, ...] = ()
        self._stamp: tuple[int, ...] = ()
        self._job = Job(self)
        self._job.done.connect(self._on_done)
        self._job.refused.connect(self._on_gone)
        self.bar = QWidget()
        row = QHBoxLayout(self.bar)
        row.setContentsMargins(0, 0, 0, 0)
        self._text = label("", "info")
        cancel = QPushButton("Cancel")
        cancel.setShortcut(Qt.Key.Key_Escape)
        cancel.clicked.connect(self._job.cancel)
        row.addWidget(self._text)
        row.addWidget(cancel)
        row.addStretch(1)
        self.bar.hide()
        self._job.busy.connect(self.bar.setVisible)

    @property
    def running(self) -> bool:
        """Whether the capture is being read."""
        return self._job.running

    def adopt(self, evaluated: Evaluated) -> None:
        """Take a capture that was read elsewhere, without fitting it a second time."""
        self._job.cancel()
        self.evaluated, self._evidence = evaluated, evaluated.evidence
        self._shown, self._stamp = self._state(), self._file_stamp()

    def want(self, evidence: Evidence | None) -> None:
        """Show this piece of evidence: it is read again where another was shown, or settings that it rests on changed."""
        self._evidence = evidence
        state = self._state()
        if evidence is None:
            self.evaluated, self._shown = None, ()
        elif state != self._shown:
            self._shown = state
            self._read(evidence)

    def enter(self) -> None:
        """Look whether the capture is still the one that was read: on every visit."""
        if self._evidence is not None and self._state() == self._shown and self._file_stamp() != self._stamp:
            self._read(self._evidence)

    def leave(self) -> None:
        """Stop fitting: it is done anew at the next visit."""
        if self._job.running:
            self._shown = ()
        self._job.cancel()

    def _state(self) -> tuple[object, ...]:
        e, settings = self._evidence, getattr(self._document.bench.settings, self._topic, None)
        return (e.file, e.sha256, e.kind, e.columns, settings, self._document.path) if e else ()

    def _file_stamp(self) -> tuple[int, ...]:
        """Return what tells a changed file without reading it: time and size, nothing where it is gone."""
        try:
            found = (self._document.base / self._evidence.file).stat() if self._evidence else None
        except (OSError, ValueError):
            found = None
        return (found.st_mtime_ns, found.st_size, found.st_ino) if found else ()

    def _read(self, evidence: Evidence) -> None:
        bench, base = standing(self._document.bench, self._topic), self._document.base
        picked = frozenset(self._document.picked)
        self._text.setText(f"Fitting {Path(evidence.file).name} …")
        self._stamp = self._file_stamp()
        self._job.ask(lambda: read_again(bench, evidence, base, picked))

    def _on_done(self, evaluated: Evaluated) -> None:
        self.evaluated = evaluated
        bench, new = self._document.bench, evaluated.evidence
        items = bench.evidence.get(self._topic, ())
        kept = tuple(new if (e.sha256, e.kind) == (new.sha256, new.kind) and differs(e, new) else e for e in items)
        if kept != items:
            # nobody's edit: an undo step here would throw away what can be redone
            self._evidence = new
            self._document.amend(bench.model_copy(update={"evidence": {**bench.evidence, self._topic: kept}}))
        self.fresh.emit(evaluated)

    def _on_gone(self, refusal: object) -> None:
        self.evaluated, self._stamp = None, (-1,)  # so that the next visit looks again
        self.gone.emit(refusal)
