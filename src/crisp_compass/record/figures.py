"""The record's plots: the printed panes of a capture's view. Measured is blue, fitted magenta, as everywhere in the program."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import FigureBase
from matplotlib.ticker import MultipleLocator

from crisp_compass.course.captures import Evaluated
from crisp_compass.estimates import FloatArray
from crisp_compass.quantities import scale_of
from crisp_compass.views import view_of
from crisp_compass.views.picture import Curve, Pane

_COLOURS = {
    "measured": "#1E5A8C",
    "fit": "#B3296B",
    "expected": "#333333",
    "left out": "#1E5A8C",
    "here": "#B3296B",
}
_MARKERS = {"points": "o", "up": "^", "down": "v"}
_MOST = 3000
_FEW = 60  # points that are drawn large


def _thin(curve: Curve) -> tuple[FloatArray, FloatArray]:
    stride = max(1, len(curve.x) // _MOST)
    return curve.x[::stride], curve.y[::stride]


def _scale(axis: tuple[str, str], values: Sequence[FloatArray]) -> tuple[float, str]:
    """Return the factor and the label of an axis, with the prefix that suits what is on it."""
    name, unit = axis
    largest = max((float(np.nanmax(np.abs(v))) for v in values if np.isfinite(v).any()), default=0.0)
    factor, label = scale_of(largest, unit)
    return factor, f"{name} [{label}]" if label else name


def _draw_curve(axes: Axes, curve: Curve, x_factor: float, y_factor: float) -> None:
    x, y = _thin(curve)
    colour = _COLOURS[curve.role]
    if curve.shape == "line":
        style = "--" if curve.role == "expected" else "-"
        width = 0.6 if curve.dense else 1.2
        axes.plot(x / x_factor, y / y_factor, style, color=colour, lw=width, label=curve.title)
        return
    size = 5 if len(x) <= _FEW else 2
    face = "none" if curve.role == "left out" else colour
    marker = _MARKERS[curve.shape]
    axes.plot(x / x_factor, y / y_factor, marker, ms=size, mfc=face, color=colour, label=curve.title)


def _draw_pane(axes: Axes, pane: Pane) -> None:
    curves = [c for c in pane.curves if len(c.x)]
    x_factor, x_label = _scale(pane.x, [c.x for c in curves]) if not pane.log else (1.0, f"{pane.x[0]} [{pane.x[1]}]")
    y_factor, y_label = _scale(pane.y, [c.y for c in curves])
    if pane.zero:
        axes.axhline(0, color="#16293D", lw=0.6)
    for curve in curves:
        _draw_curve(axes, curve, x_factor, y_factor)
    if pane.turn:
        axes.set_xlim(0, 360)
        axes.set_xticks(range(0, 361, 60))
    if pane.log:
        axes.set_xscale("log")
    if sum(bool(c.title) for c in curves) > 1:
        axes.legend(frameon=False, fontsize="small")
    if pane.y[1] == "°" and y_factor == 1.0:
        low, high = axes.get_ylim()
        axes.yaxis.set_major_locator(MultipleLocator(90 if high - low > 200 else 45))
    axes.set_xlabel(x_label)
    axes.set_ylabel(y_label)
    axes.grid(color="#E8E0CD")


def draw(figure: FigureBase, evaluated: Evaluated) -> None:
    """Draw the printed panes of a capture into a figure."""
    draw_panes(figure, [p for p in view_of(evaluated.kind).panes(evaluated.capture, evaluated.result) if p.printed])


def draw_panes(figure: FigureBase, panes: Sequence[Pane], box: Mapping[str, float] | None = None) -> None:
    """Draw panes side by side, the first of two twice as wide as the other; within a ``box`` (left, right, bottom, top) of the figure if it is given."""
    ratios = (2, 1)[: len(panes)] if len(panes) < 3 else (1,) * len(panes)
    grid = figure.add_gridspec(1, len(panes), width_ratios=ratios, **(box or {}))
    all_axes = [figure.add_subplot(grid[0, k]) for k in range(len(panes))]
    for axes, pane in zip(all_axes, panes, strict=True):
        _draw_pane(axes, pane)
