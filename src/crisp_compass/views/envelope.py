"""Contours of a map, as curves to draw."""

from __future__ import annotations

from typing import NamedTuple

import contourpy
import numpy as np

from crisp_compass.estimates import FloatArray


class Contour(NamedTuple):
    """One level: ``x`` and ``y`` (n,) of its lines, NaN between them, and where its figure stands."""

    level: float
    x: FloatArray
    y: FloatArray
    at: tuple[float, float]


def contours(x: FloatArray, y: FloatArray, z: FloatArray, levels: tuple[float, ...]) -> list[Contour]:
    """Return the lines of a map z (m, n) over x (n,) and y (m,) at each level that it has; cells with NaN are left out."""
    made = contourpy.contour_generator(x, y, np.ma.masked_invalid(z), name="serial")
    found = []
    for level in levels:
        lines = [np.asarray(line) for line in made.lines(level) if len(line) > 3]
        if not lines:
            continue
        longest = max(lines, key=len)
        middle = longest[len(longest) // 2]
        apart = [part for line in lines for part in (line, np.full((1, 2), np.nan))][:-1]
        whole = np.concatenate(apart)
        found.append(Contour(level, whole[:, 0], whole[:, 1], (float(middle[0]), float(middle[1]))))
    return found
