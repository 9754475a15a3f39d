"""Python's garbage is collected in the window's thread alone.

The collector runs in whichever thread allocates next, and a calculation in the pool allocates most. What it then finds may be the last reference to
a part of the screen, whose destructor must not run beside a repaint. So while a window is open the collector is off, and a timer of the
window's thread does its work by the collector's own rules.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

_PERIOD_MS = 250
#: Looks from one thought of collecting everything to the next; counting what there is takes some milliseconds.
_WHOLE_EVERY = 60


class Collector(QObject):
    """Collects while it lives; the last one that goes gives the work back."""

    alive = 0

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        Collector.alive += 1
        self._old, self._looks = len(gc.get_objects()), 0
        gc.disable()
        self._timer = QTimer(self)
        self._timer.setInterval(_PERIOD_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()
        self.destroyed.connect(_gone)

    def look(self) -> None:
        """Collect what is due: the young by the thresholds, all of it now and then, where there is a quarter more than after the last time."""
        counts, most = gc.get_count(), gc.get_threshold()
        self._looks += 1
        if self._looks % _WHOLE_EVERY == 0 and 4 * len(gc.get_objects()) > 5 * self._old:
            gc.collect()
            self._old = len(gc.get_objects())
        elif counts[0] > most[0]:
            gc.collect(1 if counts[1] > most[1] else 0)


def _gone() -> None:
    Collector.alive -= 1
    if Collector.alive == 0:
        gc.enable()
