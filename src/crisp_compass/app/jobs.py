"""Work off the window's thread: one form for all. A late answer to an old question is dropped."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool, QTimer, Signal

from crisp_compass.app.logs import LOG
from crisp_compass.capture import CancelledError, Progress
from crisp_compass.errors import Refusal
from crisp_compass.files import shortened
from crisp_compass.studies.apart import apart


class _Signals(QObject):
    progress = Signal(int, float)
    done = Signal(int, object)
    refused = Signal(int, object)


class _Work(QRunnable):
    def __init__(self, generation: int, function: Callable[[], Any], signals: _Signals) -> None:
        super().__init__()
        self._generation, self._function, self._signals = generation, function, signals

    def run(self) -> None:
        try:
            result = self._function()
        except CancelledError:
            return
        except Refusal as refusal:
            self._emit("refused", refusal)
        except Exception as error:  # the window must live on; the sentence says what broke
            LOG.exception("a calculation failed")
            text = f"the calculation failed ({type(error).__name__}: {shortened(error)})"
            self._emit("refused", Refusal(text, "please report this; Help, Copy diagnostics has the details"))
        else:
            self._emit("done", result)

    def _emit(self, name: str, payload: object) -> None:
        with contextlib.suppress(RuntimeError):  # the window may be gone meanwhile, and its signals with it
            getattr(self._signals, name).emit(self._generation, payload)


class Job(QObject):
    """One kind of question; asking again makes earlier answers void. ``busy`` follows its work."""

    done = Signal(object)
    refused = Signal(object)
    busy = Signal(bool)
    progress = Signal(float)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._generation = 0
        self.running = False
        self._signals = _Signals(self)
        self._signals.progress.connect(self._on_progress)
        self._signals.done.connect(self._on_done)
        self._signals.refused.connect(self._on_refused)

    def ask(self, function: Callable[[], Any]) -> None:
        """Run ``function`` in the pool; its result or refusal arrives as a signal."""
        self._generation += 1
        self.running = True
        self.busy.emit(True)
        work, generation = _Work(self._generation, function, self._signals), self._generation

        def start() -> None:
            if generation == self._generation:  # else it was asked anew, or dropped, before it began
                QThreadPool.globalInstance().start(work)

        # after what is due to be painted: a thread that wants the interpreter at the same time doubles the time of a page
        QTimer.singleShot(0, self, start)

    def ask_reporting(self, function: Callable[[Progress], Any]) -> None:
        """Run ``function`` with a progress reporter that also stops it once the question is void."""
        generation = self._generation + 1

        def report(part: float) -> None:
            if generation != self._generation:
                raise CancelledError
            with contextlib.suppress(RuntimeError):
                self._signals.progress.emit(generation, part)

        self.ask(lambda: function(report))

    def ask_apart(self, function: Callable[..., Any], *arguments: Any) -> None:
        """Run a function of the core in a process of its own; it, its arguments and its result can be pickled."""
        self.ask(lambda: apart(function, arguments))

    def cancel(self) -> None:
        """Drop whatever is under way."""
        self._generation += 1
        self.running = False
        self.busy.emit(False)

    def _on_progress(self, generation: int, part: float) -> None:
        if generation == self._generation:
            self.progress.emit(part)

    def _on_done(self, generation: int, result: object) -> None:
        if generation == self._generation:
            self.running = False
            self.busy.emit(False)
            self.done.emit(result)

    def _on_refused(self, generation: int, refusal: object) -> None:
        if generation == self._generation:
            self.running = False
            self.busy.emit(False)
            self.refused.emit(refusal)
