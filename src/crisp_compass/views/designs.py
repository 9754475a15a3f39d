"""What is drawn of a designed loop: the predicted step, and the open loop's gain and phase over frequency."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.course.speed_design import design_speed
from crisp_compass.course.waypoints.current_loop import design_current
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import AxisLoop
from crisp_compass.loops.speed import SpeedDesign
from crisp_compass.quantities import show
from crisp_compass.studies.step_prediction import bode, predict_current_step, predict_speed_step
from crisp_compass.views.picture import Curve, Pane

#: Phase [°] below which nothing is drawn: the delay alone goes on for ever.
_LOWEST = -360.0


def _open_loop(loop: AxisLoop | SpeedDesign) -> tuple[Pane, Pane]:
    curve, m = bode(loop), loop.margins
    crosses = math.isfinite(m.crossover_hz)
    shown = curve.phase_deg >= _LOWEST
    at = np.array([m.crossover_hz] if crosses else [])
    gain = (Curve("", "fit", curve.frequency[shown], curve.gain_db[shown]), Curve("", "expected", at, np.zeros(len(at)), shape="points"))
    phase = (
        Curve("", "fit", curve.frequency[shown], curve.phase_deg[shown]),
        Curve("", "expected", at, np.full(len(at), m.phase_margin_deg - 180.0), shape="points"),
    )
    frequency = ("frequency", "Hz")
    return Pane("gain", frequency, ("gain", "dB"), gain, log=True), Pane("phase", frequency, ("phase", "°"), phase, log=True)


def _require_stable(loop: AxisLoop | SpeedDesign) -> None:
    if not loop.margins.stable:
        raise Refusal("the loop is not stable", "choose a lower crossover")


def _margins(loop: AxisLoop | SpeedDesign) -> str:
    m = loop.margins
    return f"{m.phase_margin_deg:.1f}° and {m.gain_margin_db:.1f} dB margin, crossover {show(m.crossover_hz, 'Hz')}"


def loop_drawn(bench: Bench, key: str) -> tuple[float, str, tuple[Pane, ...]]:
    """Return the designed Kp, the design in words, and the panes of a bench's ``current_loop`` or ``speed_loop``; raises Refusal where it cannot be designed."""
    if key == "current_loop":
        design = design_current(bench)
        _require_stable(design.q)
        step = predict_current_step(bench, design)
        curves = (Curve("reference", "expected", step.reference_time, step.reference), Curve("predicted", "fit", step.time, step.response))
        pane = Pane("step", ("time", "s"), ("current i_q", "A"), curves)
        return design.q.kp, f"{design.method[:1].upper()}{design.method[1:]}; {_margins(design.q)}, {design.q.overshoot_pct:.1f} % overshoot.", (pane, *_open_loop(design.q))
    speed = design_speed(bench)
    _require_stable(speed)
    time, plain, filtered = predict_speed_step(speed)
    curves = (Curve("without set-point filter", "expected", time, plain), Curve("with set-point filter", "fit", time, filtered))
    pane = Pane("step", ("time", "s"), ("speed, part of the step", ""), curves)
    return speed.kp, f"{speed.method[:1].upper()}{speed.method[1:]}; {_margins(speed)}, {speed.overshoot_pct:.0f} % overshoot, {speed.overshoot_filtered_pct:.0f} % with set-point filter.", (pane, *_open_loop(speed))
