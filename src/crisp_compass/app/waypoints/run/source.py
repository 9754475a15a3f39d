"""On what a run is: the simulation, the drive on the link, or a capture that is played again."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.intake import header_or_nothing
from crisp_compass.app.jobs import Job
from crisp_compass.app.widgets.number_field import Choice
from crisp_compass.bench.models import Bench
from crisp_compass.capture import Capture, read_capture
from crisp_compass.course.channels import remembered
from crisp_compass.drive.port import Port
from crisp_compass.drive.replayed import ReplayedDrive
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.errors import Refusal

_KINDS = {"simulation": "Simulation", "link": "Drive on the link", "replay": "Capture…"}


class RunSource(QObject):
    """The choice, and the port that it gives. ``moved`` says that there is another."""

    moved = Signal()
    refused = Signal(object)

    def __init__(self, document: Document, page: QWidget) -> None:
        super().__init__(page)
        self._document, self._page = document, page
        self.kind = "simulation"
        self.choice = Choice("Runs on", dict(_KINDS), width=150, tip="What is run: the simulated drive, the drive that is connected on the Drive leg, or a capture played again")
        self.choice.moved.connect(self._on_chosen)
        self._replay: ReplayedDrive | None = None
        self._path: Path | None = None
        self._job = Job(self)
        self._job.done.connect(self._on_read)
        self._job.refused.connect(self._on_refused)
        document.replaced.connect(self._on_replaced)

    @property
    def reading(self) -> bool:
        """Whether a capture is being read."""
        return self._job.running

    def port(self, bench: Bench) -> Port:
        """Return what is chosen; raises Refusal naming what is missing for it."""
        if self.kind == "link":
            return self._document.drive.port()
        if self.kind == "replay":
            if self._replay is None:
                raise Refusal("The capture is being read")
            self._replay.beside(bench)
            return self._replay
        return SimulatedDrive(bench)

    def _on_chosen(self, key: str) -> None:
        if key == "replay":
            name, _ = QFileDialog.getOpenFileName(self._page, "Capture of a run", str(self._document.base), "Captures (*.csv *.txt *.tsv);;All files (*)")
            if not name:
                self.choice.show_value(self.kind)
                return
            self.take(Path(name))
            return
        self._to(key)

    def take(self, path: Path) -> None:
        """Read a capture to be played; its channels are mapped as they were on this bench's legs."""
        header, bench = header_or_nothing(path), self._document.bench
        columns = next((c for leg in ("speed_loop", "mechanics", "flux", "run") if (c := remembered(bench, leg, header))), ())
        self._replay, self._path = None, path
        self._to("replay")
        self._job.ask(lambda: read_capture(path, columns))

    def _to(self, kind: str) -> None:
        self._job.cancel()
        self.kind = kind
        name = self._path.name if kind == "replay" and self._path else ""
        self.choice.set_options(_KINDS | ({"replay": name if len(name) < 22 else f"{name[:20]}…"} if name else {}), kind)
        self.moved.emit()

    def _on_read(self, capture: Capture) -> None:
        try:
            self._replay = ReplayedDrive(capture)
        except Refusal as refusal:
            self._on_refused(refusal)
            return
        self.moved.emit()

    def _on_refused(self, refusal: Refusal) -> None:
        self._to("simulation")
        self.refused.emit(refusal)

    def _on_replaced(self) -> None:
        self._replay = None
        self._to("simulation")
