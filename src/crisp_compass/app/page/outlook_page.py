"""A capture page that also shows what to expect of this motor, worked out off the window's thread."""

from __future__ import annotations

from typing import Any

from crisp_compass.app.document import Document
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.computation import Computation
from crisp_compass.bench.models import Bench
from crisp_compass.errors import Refusal


class OutlookPage(CapturePage):
    """Base of such pages: ``outlook`` is there once it is worked out, ``why_not`` where it cannot be."""

    always_plots = True

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.outlook: Any = None
        self.why_not = ""
        self._expect = Computation(self, self._on_outlook, self._on_no_outlook)

    def work_out(self, bench: Bench) -> Any:
        """Return the outlook."""
        raise NotImplementedError

    def rests_on(self, bench: Bench) -> object:
        """Return what of the page's settings the outlook rests on."""
        raise NotImplementedError

    def _on_outlook(self, outlook: Any) -> None:
        self.outlook, self.why_not = outlook, ""
        self._show(self.reading.evaluated)

    def _on_no_outlook(self, refusal: Refusal) -> None:
        self.outlook, self.why_not = None, refusal.sentence
        self._show(self.reading.evaluated)

    def refresh(self) -> None:
        bench = self.seen
        motor = {
            k: bench.settled[k].values
            for k in ("resistance", "inductance", "flux", "mechanics")
            if k in bench.settled
        }
        inputs = (bench.settings.plate, self.rests_on(bench), motor, bench.evidence)
        if self._expect.want(inputs, lambda: self.work_out(bench)):
            self.outlook = None
        super().refresh()
