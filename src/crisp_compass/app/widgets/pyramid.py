"""Extremes of a long channel at many scales, so that a plot shows every spike and still moves at once."""

from __future__ import annotations

import weakref
from collections.abc import Mapping

import numpy as np

from crisp_compass.estimates import FloatArray

_FACTOR = 8
#: Channels shorter than this are drawn as they are.
LONG = 200_000


def _blocks(extreme: np.ufunc, values: FloatArray, whole: int) -> FloatArray:
    """Return the extreme of every block of eight among the first ``whole`` values, and of the rest.

    Halving three times is several times faster than a reduction over so short an axis.
    """
    part = values[:whole]
    for _ in range(3):
        part = extreme(part[::2], part[1::2])
    return np.append(part, extreme.reduce(values[whole:])) if whole < len(values) else part


class Pyramid:
    """``x`` (n,) ascending and ``y`` (n,): each level keeps the least and the largest of blocks of the one below."""

    def __init__(self, x: FloatArray, y: FloatArray) -> None:
        self.x, self.y = x, y
        self._levels: list[tuple[int, FloatArray, FloatArray]] = []
        size, low, high = 1, y, y
        while len(low) > 500:
            whole = len(low) // _FACTOR * _FACTOR
            if not whole:
                break
            low, high = (_blocks(f, a, whole) for f, a in ((np.minimum, low), (np.maximum, high)))
            size *= _FACTOR
            self._levels.append((size, low, high))

    def view(self, left: float, right: float, most: int = 4000) -> tuple[FloatArray, FloatArray]:
        """Return at most about ``most`` points between ``left`` and ``right``, one sample more on each side."""
        first = max(int(np.searchsorted(self.x, left)) - 1, 0)
        last = min(int(np.searchsorted(self.x, right)) + 1, len(self.x))
        if last - first <= most:
            return self.x[first:last], self.y[first:last]
        size, low, high = next(
            (level for level in self._levels if 2 * (last - first) / level[0] <= most), self._levels[-1]
        )
        a, b = first // size, min(-(-last // size), len(low))
        x = np.empty(2 * (b - a))
        y = np.empty(2 * (b - a))
        x[::2] = self.x[np.minimum(np.arange(a, b) * size, len(self.x) - 1)]
        x[1::2] = self.x[np.minimum(np.arange(a, b) * size + size // 2, len(self.x) - 1)]
        y[::2], y[1::2] = low[a:b], high[a:b]
        return x, y


_READY: dict[int, tuple[weakref.ref[FloatArray], Pyramid]] = {}


def prepare_pyramids(x: FloatArray, channels: Mapping[str, FloatArray]) -> None:
    """Build the extremes of long channels ahead, off the window's thread; each is kept as long as its channel."""
    for y in channels.values():
        if len(x) == len(y) > LONG and bool(np.isfinite(y).all()):
            key = id(y)
            _READY[key] = (weakref.ref(y, lambda _, k=key: _READY.pop(k, None)), Pyramid(x, y))  # type: ignore[misc]


def pyramid_of(x: FloatArray, y: FloatArray) -> Pyramid | None:
    """Return the extremes of a long channel, built ahead or now; nothing for one that is short or not finite."""
    ready = _READY.get(id(y))
    if ready is not None and ready[0]() is y and ready[1].x is x:
        return ready[1]
    return Pyramid(x, y) if len(y) > LONG and bool(np.isfinite(y).all()) else None
