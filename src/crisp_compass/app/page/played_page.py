"""The shape of a page that asks one question of the whole bench and has the plant play the answer, off the window's thread."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.bench.models import Bench
from crisp_compass.errors import Refusal
from crisp_compass.plant.simulation import READY
from crisp_compass.views.picture import DialView


class PlayedPage(Page):
    """Subclasses say what is asked (:meth:`question_for`), show it (:meth:`show_found`) and what the dial shows (``dial``)."""

    dial: ClassVar[DialView] = DialView()
    #: Milliseconds that a moving number is waited for.
    pause: ClassVar[int] = 200

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: Any = None
        self._work = Computation(self, self._take, pause=self.pause)

    def question_for(self, bench: Bench) -> Callable[[], Any]:
        """Return what is to be worked out for a bench."""
        raise NotImplementedError

    def show_found(self) -> None:
        """Show ``found``."""
        raise NotImplementedError

    def rests_on(self, bench: Bench) -> object:
        """Return what the answer depends on; the levers of the map are none of it."""
        s = bench.settings
        start = s.start_up.model_copy(update={"across": "load", "up": "ramp"})
        return (bench.settled, start, s.run, s.speed_loop, s.plate, s.sensor, bench.evidence.get("start_up"))

    def refresh(self) -> None:
        if not READY.is_set():
            raise Refusal("The simulation is being prepared; this happens once, at the first start")
        bench = self.seen
        self.show_dial(self.dial)
        if self._work.want(self.rests_on(bench), self.question_for(bench)):
            self.on_asked()
        elif self.found is not None:
            self.show_found()

    def on_asked(self) -> None:
        """The question was put; the answer takes a moment."""

    def _take(self, found: Any) -> None:
        self.found = found
        self.show_found()

    def leave(self) -> None:
        self._work.drop()
