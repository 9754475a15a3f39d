"""Python's garbage is collected where nothing of the screen is under way: by a timer of the window's thread, and nowhere else.

Left to itself the collector runs wherever something is allocated, and Qt allocates in the middle of its own work: whoever overrides one of its functions is asked
for, and asked in vain makes an exception. What the collector finds there may be a window that was closed, whose destructor then runs inside another destructor, or
beside a repaint in a thread of the pool. Seen: a lock that a thread waits for which it holds itself, and memory written after it was freed. So once there is an
application the collector is off, and this does its work by the collector's own rules.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

_PERIOD_MS = 250
#: Looks from one thought of collecting everything to the next; counting what there is takes some milliseconds.
_WHOLE_EVERY = 60
#: The collector's usual thresholds: the program's start sets others, for the time of importing.
_USUAL = (700, 10, 10)


class Collector(QObject):
    """Collects as long as the application lives, which is its parent."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        gc.set_threshold(*_USUAL)
        gc.freeze()  # what was imported stays, and need not be looked through
        self._old, self._looks = len(gc.get_objects()), 0
        self._timer = QTimer(self)
        self._timer.setInterval(_PERIOD_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()

    def look(self) -> None:
        """Collect what is due: the young by the thresholds, all of it now and then, where there is a quarter more than after the last time."""
        counts, most = gc.get_count(), gc.get_threshold()
        self._looks += 1
        if self._looks % _WHOLE_EVERY == 0 and 4 * len(gc.get_objects()) > 5 * self._old:
            gc.collect()
            self._old = len(gc.get_objects())
        elif counts[0] > most[0]:
            gc.collect(1 if counts[1] > most[1] else 0)
