"""The record's plots. Measured is blue, fitted magenta, as everywhere in the program."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import FigureBase

from crisp_compass.commutation.halls import HallTable
from crisp_compass.estimates import FloatArray
from crisp_compass.identify.flux import FluxResult
from crisp_compass.identify.inductance import InductanceResult
from crisp_compass.identify.resistance import ResistanceResult

_MEASURED, _FITTED = "#1E5A8C", "#B3296B"
_MOST = 3000


def _thin(*arrays: FloatArray) -> list[FloatArray]:
    stride = max(1, len(arrays[0]) // _MOST)
    return [a[::stride] for a in arrays]


def _pair(figure: FigureBase, x: str, y: str, residual: str) -> tuple[Axes, Axes]:
    left, right = figure.subplots(1, 2, width_ratios=(2, 1))
    for axes, label in ((left, y), (right, residual)):
        axes.set_xlabel(x)
        axes.set_ylabel(label)
        axes.grid(color="#E8E0CD")
    return left, right


def resistance(figure: FigureBase, result: ResistanceResult) -> None:
    """Voltage over current with the fitted line, and the residual of each level."""
    left, right = _pair(figure, "current i_a [A]", f"{result.voltage_name} [V]", "residual [mV]")
    used = result.used
    left.plot(result.line_current, result.line_voltage, color=_FITTED, label="fit")
    left.plot(result.current[used], result.voltage[used], "o", color=_MEASURED, label="levels")
    left.plot(result.current[~used], result.voltage[~used], "o", mfc="none", color=_MEASURED, label="left out")
    left.legend(frameon=False)
    right.axhline(0, color="#16293D", lw=0.6)
    right.plot(result.current[used], 1e3 * result.residual[used], "o", color=_MEASURED)


def inductance(figure: FigureBase, result: InductanceResult) -> None:
    """Current over time with the model, and the residual."""
    left, right = _pair(figure, "time [ms]", "current i_a [A]", "residual [mA]")
    t, i, m, r = _thin(1e3 * result.time, result.current, result.model, 1e3 * result.residual)
    left.plot(t, i, ".", ms=2, color=_MEASURED, label="measured")
    left.plot(t, m, color=_FITTED, lw=1, label="fit")
    left.legend(frameon=False)
    right.plot(t, r, color=_MEASURED, lw=0.5)


def flux(figure: FigureBase, result: FluxResult) -> None:
    """First channel over time with the model, and the residual."""
    left, right = _pair(figure, "time [s]", f"{result.channels[0]} [V]", "residual [mV]")
    t, v, m, r = _thin(result.time, result.voltage[:, 0], result.model[:, 0], 1e3 * result.residual[:, 0])
    left.plot(t, v, ".", ms=2, color=_MEASURED, label="measured")
    left.plot(t, m, color=_FITTED, lw=0.7, label="fit")
    left.legend(frameon=False)
    right.plot(t, r, color=_MEASURED, lw=0.5)


def halls(figure: FigureBase, table: HallTable) -> None:
    """Code over electrical angle, with the sector bounds found."""
    axes = figure.subplots()
    angle, code = _thin(np.degrees(table.theta) % 360, table.codes)
    axes.plot(angle, code, ".", ms=2, color=_MEASURED)
    for state in table.states.values():
        axes.axvline(state.from_deg % 360, color=_FITTED, lw=0.8)
    axes.set_xlim(0, 360)
    axes.set_xticks(range(0, 361, 60))
    axes.set_xlabel("electrical angle θe [°]")
    axes.set_ylabel("hall code")
    axes.grid(color="#E8E0CD")
