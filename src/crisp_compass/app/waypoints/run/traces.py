"""The last seconds of a run: speed and torque current beside their references."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget

from crisp_compass.app.widgets.plot import Plot
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.observed import estimates
from crisp_compass.course.open_loop import closes_loops
from crisp_compass.drive.port import Port
from crisp_compass.drive.simulated import PHASES
from crisp_compass.estimates import FloatArray
from crisp_compass.motor import family_of
from crisp_compass.quantities import show
from crisp_compass.views.picture import DialView

WINDOW_S = 4.0
_KEPT = ("t", "speed", "speed_ref", "i_q", "i_q_ref", "speed_sim", "i_q_sim")


class RunTraces(QWidget):
    """Two plots, one above the other, that move on with the run."""

    def __init__(self) -> None:
        super().__init__()
        self.speed_plot = Plot(("time, 0 is now", "s"), ("speed", "rpm"), name="speed")
        self.current_plot = Plot(("time, 0 is now", "s"), ("current i_q", "A"), name="torque current")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        for plot in (self.speed_plot, self.current_plot):
            # dense: no more points than pixels, and none smoothed, or a second of run takes longer than a second to draw
            plot.curve("reference", "ink", width=1, dense=True)
            plot.curve("actual", "magenta", width=1, dense=True)
            plot.curve("simulated", "moss", width=1, dense=True)
            plot.setXRange(-WINDOW_S, 0.0, padding=0)
            column.addWidget(plot)
        self.forget()

    def forget(self) -> None:
        """Begin anew: another drive has another clock."""
        self.history: dict[str, FloatArray] = {k: np.empty(0) for k in _KEPT}
        for plot in (self.speed_plot, self.current_plot):
            plot.set("reference", [], [])
            plot.set("actual", [], [])
            plot.set("simulated", [], [])

    def remember(self, trace: Mapping[str, FloatArray]) -> None:
        """Take telemetry; what it does not tell stays empty."""
        rows = len(trace["t"])
        if not rows:
            return
        if len(self.history["t"]) and trace["t"][0] < self.history["t"][-1]:
            self.forget()  # a replay that begins again
        keep = self.history["t"] >= float(trace["t"][-1]) - WINDOW_S
        for key, old in self.history.items():
            self.history[key] = np.concatenate([old[keep], trace.get(key, np.full(rows, np.nan))])

    def draw(self, bench: Bench, port: Port) -> None:
        """Draw what is remembered."""
        h = self.history
        if not len(h["t"]):
            return
        # time before now: the axis stands still, so that a frame draws curves and nothing else
        ago = h["t"] - float(h["t"][-1])
        simulated = port.identity.kind == "simulation"
        asked = not simulated or closes_loops(bench)  # a voltage that is turned asks for no current
        for plot, name, factor, wanted in ((self.speed_plot, "speed", RPM_PER_RAD_S, True), (self.current_plot, "i_q", 1.0, asked)):
            told = wanted and bool(np.isfinite(h[f"{name}_ref"]).any())
            plot.set("reference", ago if told else [], h[f"{name}_ref"] * factor if told else [])
            plot.set("actual", ago, h[name] * factor)
            beside = bool(np.isfinite(h[f"{name}_sim"]).any())
            plot.set("simulated", ago if beside else [], h[f"{name}_sim"] * factor if beside else [])
        run = bench.settings.run
        replayed = port.identity.kind == "replay"  # nothing of this bench says what is little of it
        self.speed_plot.follow(-WINDOW_S, 0.0, floor=2.0 if replayed else max(0.05 * abs(run.speed) * RPM_PER_RAD_S, 2.0))
        self.current_plot.follow(-WINDOW_S, 0.0, floor=0.0 if replayed else 0.1 * run.i_limit)


def dial_of(bench: Bench, port: Port, trace: Mapping[str, FloatArray]) -> DialView | None:
    """Return rotor, current and voltage at the end of a trace; None where it does not tell the angle."""
    last = {k: float(v[-1]) for k, v in trace.items() if len(v)}
    if not all(math.isfinite(last.get(k, math.nan)) for k in ("theta_e", "i_d", "i_q", "v_d", "v_q", "v_bus")):
        return None
    run = bench.settings.run
    theta = math.degrees(last["theta_e"]) % 360
    i_size, v_size = math.hypot(last["i_d"], last["i_q"]), math.hypot(last["v_d"], last["v_q"])
    limit_v, limit_i = last["v_bus"] * port.parameters().get("volts_per_bus", 0.0), run.i_limit
    ahead = math.degrees(math.atan2(last["i_q"], last["i_d"]))
    caption = f"θe {theta:.0f}°   i {show(i_size, 'A', 2)}   v {100 * v_size / limit_v:.0f} % of limit" if limit_v > 0 else ""
    estimated, seen = estimates(bench), math.degrees(last.get("theta_seen", last["theta_e"])) % 360
    if estimated and caption and round(last.get("phase", -1.0)) in PHASES:
        caption += f"   {PHASES[round(last['phase'])]}"
    frame = seen if family_of(bench).own_circuit or estimated else None
    held = seen if estimated else theta  # the frame in which the firmware's voltages are told
    return DialView(
        caption=caption, rotor=theta, frame=frame, current=(theta + ahead, i_size / limit_i) if i_size > 0.01 * limit_i else None,
        voltage=(held + math.degrees(math.atan2(last["v_q"], last["v_d"])), v_size / limit_v) if v_size > 0 and limit_v > 0 else None,
    )  # fmt: skip
