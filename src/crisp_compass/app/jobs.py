"""Work off the window's thread: one form for all. A late answer to an old question is dropped."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal

from crisp_compass.errors import Refusal


class _Signals(QObject):
    done = Signal(int, object)
    refused = Signal(int, object)


class _Work(QRunnable):
    def __init__(self, generation: int, function: Callable[[], Any], signals: _Signals) -> None:
        super().__init__()
        self._generation, self._function, self._signals = generation, function, signals

    def run(self) -> None:
        try:
            result = self._function()
        except Refusal as refusal:
            self._emit(self._signals.refused, refusal)
        except Exception as error:  # the window must live on; the sentence says what broke
            self._emit(
                self._signals.refused,
                Refusal(f"the calculation failed ({type(error).__name__}: {error})", "please report this"),
            )
        else:
            self._emit(self._signals.done, result)

    def _emit(self, signal: Any, payload: object) -> None:
        with contextlib.suppress(RuntimeError):  # the page may have been closed meanwhile
            signal.emit(self._generation, payload)


class Job(QObject):
    """One kind of question; asking again makes earlier answers void. ``busy`` follows its work."""

    done = Signal(object)
    refused = Signal(object)
    busy = Signal(bool)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._generation = 0
        self._signals = _Signals(self)
        self._signals.done.connect(self._on_done)
        self._signals.refused.connect(self._on_refused)

    def ask(self, function: Callable[[], Any]) -> None:
        """Run ``function`` in the pool; its result or refusal arrives as a signal."""
        self._generation += 1
        self.busy.emit(True)
        QThreadPool.globalInstance().start(_Work(self._generation, function, self._signals))

    def cancel(self) -> None:
        """Drop whatever is under way."""
        self._generation += 1
        self.busy.emit(False)

    def _on_done(self, generation: int, result: object) -> None:
        if generation == self._generation:
            self.busy.emit(False)
            self.done.emit(result)

    def _on_refused(self, generation: int, refusal: object) -> None:
        if generation == self._generation:
            self.busy.emit(False)
            self.refused.emit(refusal)
