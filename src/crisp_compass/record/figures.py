"""The record's plots. Measured is blue, fitted magenta, as everywhere in the program."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import FigureBase

from crisp_compass.commutation.absolute import AbsoluteResult
from crisp_compass.commutation.alignment import AlignmentResult
from crisp_compass.commutation.encoder import EncoderResult
from crisp_compass.commutation.halls import HallTable
from crisp_compass.commutation.pole_search import PoleSearch
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.estimates import FloatArray
from crisp_compass.identify.flux import FluxResult
from crisp_compass.identify.inductance import InductanceResult
from crisp_compass.identify.mechanics import MechanicsResult
from crisp_compass.identify.resistance import ResistanceResult
from crisp_compass.identify.running import RunningResult
from crisp_compass.identify.saliency import SaliencyResult
from crisp_compass.identify.saturation import SaturationResult
from crisp_compass.loops.step_fit import StepFit
from crisp_compass.modulation.command_input import CommandSignal

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


def saturation(figure: FigureBase, result: SaturationResult) -> None:
    """Current over time with the model, and the curve of the inductance."""
    left, right = _pair(figure, "time [ms]", "current i_a [A]", "incremental inductance [mH]")
    t, i, m = _thin(1e3 * result.time, result.current, result.model)
    left.plot(t, i, ".", ms=2, color=_MEASURED, label="measured")
    left.plot(t, m, color=_FITTED, lw=1, label="fit")
    left.legend(frameon=False)
    right.plot(result.curve_current, 1e3 * result.curve_inductance, color=_FITTED)
    right.set_xlabel("current along the axis, peak [A]")


def saliency(figure: FigureBase, result: SaliencyResult) -> None:
    """Readings over the rotor angle with the fitted curve, and the residual."""
    left, right = _pair(figure, "rotor angle [°]", "inductance A–B [mH]", "residual [µH]")
    used, angle = result.used, np.degrees(result.angle)
    left.plot(np.degrees(result.line_angle), 1e3 * result.line_inductance, color=_FITTED, label="fit")
    left.plot(angle[used], 1e3 * result.inductance[used], "o", ms=4, color=_MEASURED, label="read")
    left.plot(angle[~used], 1e3 * result.inductance[~used], "o", ms=4, mfc="none", color=_MEASURED)
    left.legend(frameon=False)
    right.axhline(0, color="#16293D", lw=0.6)
    right.plot(angle[used], 1e6 * result.residual[used], "o", ms=4, color=_MEASURED)


def running(figure: FigureBase, result: RunningResult) -> None:
    """v_q over the electrical frequency with the fitted values, and the residual."""
    left, right = _pair(figure, "electrical frequency [Hz]", "v_q [V]", "residual [mV]")
    f = result.omega / (2 * np.pi)
    left.plot(f, result.model, color=_FITTED, label="fit")
    left.plot(f, result.voltage, "o", ms=4, color=_MEASURED, label="steady speeds")
    left.legend(frameon=False)
    right.axhline(0, color="#16293D", lw=0.6)
    right.plot(f, 1e3 * result.residual, "o", ms=4, color=_MEASURED)


def mechanics(figure: FigureBase, result: MechanicsResult) -> None:
    """Speed over time with the model, and the residual."""
    left, right = _pair(figure, "time [s]", "speed [rpm]", "residual [rpm]")
    t, w, m, r = _thin(result.time, *(x * RPM_PER_RAD_S for x in (result.speed, result.model, result.residual)))
    left.plot(t, w, ".", ms=2, color=_MEASURED, label="measured")
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


def encoder(figure: FigureBase, time: FloatArray, counts: FloatArray, what: str) -> None:
    """The running count (n,) over time (n,) [s]."""
    axes = figure.subplots()
    t, y = _thin(time, counts)
    axes.plot(t, y, color=_MEASURED)
    axes.set_xlabel("time [s]")
    axes.set_ylabel(what)
    axes.grid(color="#E8E0CD")


def alignment(figure: FigureBase, result: AlignmentResult) -> None:
    """Where the rotor rested against the field, from below and from above."""
    axes = figure.subplots()
    for sign, marker, color, name in ((1, "^", _MEASURED, "from below"), (-1, "v", _FITTED, "from above")):
        chosen = result.side == sign
        axes.plot(
            np.degrees(result.commanded[chosen]),
            -np.degrees(result.lag[chosen]),
            marker,
            color=color,
            ms=5,
            label=name,
        )
    axes.axhline(0, color="#888888", lw=0.8)
    axes.legend()
    axes.set_xlabel("field, electrical [°]")
    axes.set_ylabel("rest from zero [°]")
    axes.grid(color="#E8E0CD")


def step(figure: FigureBase, result: StepFit) -> None:
    """A measured current step with prediction and fit."""
    axes = figure.subplots()
    axes.plot(result.time, result.predicted, "--", color="#333333", lw=1, label="predicted")
    axes.plot(result.time, result.measured, ".", color=_MEASURED, ms=3, label="measured")
    axes.plot(result.time, result.fitted, color=_FITTED, label="fitted")
    axes.legend()
    axes.set_xlabel("time from the step [s]")
    axes.set_ylabel("current i_q [A]")
    axes.grid(color="#E8E0CD")


def poles(figure: FigureBase, result: PoleSearch) -> None:
    """Current of the pulses over their direction, with the fit."""
    axes = figure.subplots()
    axes.plot(np.degrees(result.angle) % 360, result.current, ".", color=_MEASURED)
    axes.plot(*result.line(), color=_FITTED)
    axes.set_xlim(0, 360)
    axes.set_xticks(range(0, 361, 60))
    axes.set_xlabel("pulse direction, electrical [°]")
    axes.set_ylabel("current along the pulse [A]")
    axes.grid(color="#E8E0CD")


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


def _over_count(figure: FigureBase, result: EncoderResult) -> None:
    encoder(figure, result.time, result.counts.astype(np.float64), "count (×4)")


def _over_word(figure: FigureBase, result: AbsoluteResult) -> None:
    encoder(figure, result.time, result.position, "position word, unwrapped")


def _over_duty(figure: FigureBase, result: CommandSignal) -> None:
    encoder(figure, result.rises[: len(result.duties)], 100 * result.duties, "duty [%]")


def _steps(figure: FigureBase, result: InductanceResult | SaturationResult) -> None:
    saturation(figure, result) if isinstance(result, SaturationResult) else inductance(figure, result)


#: What draws a kind of capture.
FIGURES: dict[str, Callable[[FigureBase, Any], None]] = {
    "staircase": resistance, "bridge_staircase": resistance, "steps": _steps, "steps_d": _steps, "steps_q": _steps, "saturation": _steps, "lcr_angle": saliency,
    "running": running, "coast": flux, "run_up": mechanics, "halls": halls, "encoder": _over_count, "absolute": _over_word,
    "alignment": alignment, "pole_search": poles, "command": _over_duty, "current_step": step,
}  # fmt: skip
