"""Extremes of a long channel at many scales, so that a plot shows every spike and still moves at once."""

from __future__ import annotations

import numpy as np

from crisp_compass.estimates import FloatArray

_FACTOR = 8
#: Channels shorter than this are drawn as they are.
LONG = 200_000


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
            low, high = (
                np.append(f(a[:whole].reshape(-1, _FACTOR), axis=1), f(a[whole:]) if whole < len(a) else np.empty(0))
                for f, a in ((np.min, low), (np.max, high))
            )
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
