"""What a page has worked out: once for the same inputs, off the window's thread, late answers dropped."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer

from crisp_compass.app.jobs import Job
from crisp_compass.errors import Refusal

if TYPE_CHECKING:
    from crisp_compass.app.page.base import Page


class Computation(QObject):
    """One question of a page. ``show`` takes the answer, ``refuse`` the refusal (the page's own view of one if not given);
    ``pause`` [ms] is waited before it is worked out, so that a number that moves asks once."""

    def __init__(
        self,
        page: Page,
        show: Callable[[Any], None],
        refuse: Callable[[Refusal], None] | None = None,
        *,
        pause: int = 0,
    ) -> None:
        super().__init__(page)
        self._made_for: object = None
        self._function: Callable[[], Any] | None = None
        self._job = Job(self)
        self._job.done.connect(show)
        self._job.refused.connect(refuse or page.show_nothing)
        self._job.busy.connect(page.show_computing)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(pause)
        self._timer.timeout.connect(self._ask)

    def want(self, inputs: object, function: Callable[[], Any]) -> bool:
        """Ask ``function`` where the inputs are others than before; return whether it was asked."""
        if inputs == self._made_for:
            return False
        self._made_for, self._function = inputs, function
        if self._timer.interval():
            self._job.cancel()
            self._timer.start()
        else:
            self._ask()
        return True

    def _ask(self) -> None:
        if self._function is not None:
            self._job.ask(self._function)

    def drop(self) -> None:
        """Forget the question and whatever is under way; the next time it is asked anew."""
        self._timer.stop()
        self._job.cancel()
        self._made_for = None
