"""A map that grows while processes work it out: what is there so far is told now and then, the whole at the end, and it can be called off."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, Signal

from crisp_compass.app.jobs import Job
from crisp_compass.capture import CancelledError, Progress
from crisp_compass.studies.batch import Cancelled

#: How often the growing map is told, s.
_EVERY = 0.15
#: What makes a map: told of each map as it grows, and asking whether it is still wanted.
Make = Callable[[Callable[[Any], None], Callable[[], bool]], Any]


class MapWork(QObject):
    """``grown`` carries a map so far, ``done`` what was made, ``refused`` a Refusal, ``progress`` the part of the cells that are there."""

    grown = Signal(object)
    done = Signal(object)
    refused = Signal(object)
    progress = Signal(float)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._job = Job(self)
        self._job.done.connect(self.done)
        self._job.refused.connect(self.refused)
        self._job.progress.connect(self.progress)

    @property
    def running(self) -> bool:
        """Whether a map is being made."""
        return self._job.running

    def start(self, cells: int, make: Make) -> None:
        """Make a map of so many ``cells``."""
        self._job.ask_reporting(partial(self._run, cells, make))

    def cancel(self) -> None:
        """Call it off; what was told stays."""
        self._job.cancel()

    def _run(self, cells: int, make: Make, report: Progress) -> Any:
        """Run in a thread: the processes do the work, this one passes the growing map on."""
        last, count, void = time.monotonic(), 0, False

        def called_off() -> bool:
            nonlocal void
            try:
                report(count / cells)
            except CancelledError:
                void = True
            return void

        def arrived(made: Any) -> None:
            nonlocal last, count
            count += 1
            if time.monotonic() - last > _EVERY:
                last = time.monotonic()
                self.grown.emit(made)

        try:
            return make(arrived, called_off)
        except Cancelled:
            raise CancelledError from None
