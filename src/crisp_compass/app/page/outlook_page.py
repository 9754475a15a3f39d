"""What the capture sections of the commutation leg share: each shows the newest capture of its own kind."""

from __future__ import annotations

from typing import Any

from crisp_compass.app.document import Document
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.computation import Computation
from crisp_compass.bench.models import Bench
from crisp_compass.errors import Refusal


class OutlookPage(CapturePage):
    """A capture section that shows what to expect before there is a capture, worked out off the window's thread."""

    always_plots = True

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.outlook: Any = None
        self._expect = Computation(self, self.on_outlook, self.on_no_outlook)

    def work_out(self, bench: Bench) -> Any:
        """Return the outlook."""
        raise NotImplementedError

    def rests_on(self, bench: Bench) -> object:
        """Return what of the page's settings the outlook rests on."""
        raise NotImplementedError

    def on_outlook(self, outlook: Any) -> None:
        """Show the outlook."""
        raise NotImplementedError

    def on_no_outlook(self, refusal: Refusal) -> None:
        """Say why there is none."""
        raise NotImplementedError

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
