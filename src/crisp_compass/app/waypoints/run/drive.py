"""Run: the drive in real time, through its port."""

from __future__ import annotations

import math
import time

import numpy as np
from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.answer import Waiting
from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.app.widgets.parts import button, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.bench.base import Topic
from crisp_compass.bench.rules import stale_inputs
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.block import in_blocks
from crisp_compass.course.open_points import edited_text, presumed_text
from crisp_compass.course.running import fault_cause, run_findings
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.course.waypoints.circuit import closes_loops
from crisp_compass.drive.port import Port, Token
from crisp_compass.drive.simulated import PHASES, SimulatedDrive
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.motor import family_of
from crisp_compass.preparation.checks import blocking_checks
from crisp_compass.quantities import grouped, show
from crisp_compass.views.picture import DialView

FRAME_MS = 33
#: Highest bus that the plate takes too, V.
MOST_BUS = 1500.0
WINDOW_S = 4.0
#: The drive hears of this page at least as often, s.
_MOST_SILENT = 0.1
#: Figures are written anew in every so many frames: faster cannot be read.
_TEXT_EVERY = 5


class RunPage(Page):
    """Start, stop, speed, load and supply while it runs; a fault latches until it is acknowledged."""

    key = "run"
    section = "Drive"
    arranges_fields = True
    fields = (
        Entry("speed", "Speed", "rpm", width=92),
        Entry("load", "Load torque", "N·m", width=98),
        Entry("i_limit", "Current limit", "A", width=88, base="peak"),
        Entry("i_trip", "Trip level", "A", width=82, base="peak"),
        Entry("v_min", "Minimum bus", "V", width=88),
        Pick(
            "load_kind",
            "Load",
            {"brakes": "brakes", "drives": "drives"},
            width=88,
            tip="Friction only brakes; a weight or wind drives, at rest too",
        ),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.port: Port | None = None
        self._token: Token | None = None
        self._made_from: object = None
        self._findings: tuple[Finding, ...] = ()
        self.running = False
        self._wall = 0.0
        self._frames = 0
        self._history: dict[str, np.ndarray] = {k: np.empty(0) for k in ("t", "speed", "speed_ref", "i_q", "i_q_ref")}
        self.speed_plot = Plot(("time, 0 is now", "s"), ("speed", "rpm"), name="speed")
        # dense: no more points than pixels, and none smoothed, or a second of run takes longer than a second to draw
        self.speed_plot.curve("reference", "ink", width=1, dense=True)
        self.speed_plot.curve("actual", "magenta", width=1, dense=True)
        self.current_plot = Plot(("time, 0 is now", "s"), ("current i_q", "A"), name="torque current")
        self.current_plot.curve("reference", "ink", width=1, dense=True)
        self.current_plot.curve("actual", "magenta", width=1, dense=True)
        for plot in (self.speed_plot, self.current_plot):
            plot.setXRange(-WINDOW_S, 0.0, padding=0)
        plots = QWidget()
        column = QVBoxLayout(plots)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(self.speed_plot)
        column.addWidget(self.current_plot)
        self.waiting = Waiting()
        self.stack = QStackedWidget()
        self.stack.addWidget(self.waiting)
        self.stack.addWidget(plots)
        self.column.addWidget(self.stack, 1)
        self._fault = QHBoxLayout()
        self.fault_text = label("", "stop")
        self.acknowledge = button("Acknowledge fault", "fault")
        self.acknowledge.setShortcut("Ctrl+K")
        self.acknowledge.clicked.connect(self._on_acknowledge)
        self._fault.addWidget(self.fault_text, 1)
        self._fault.addWidget(self.acknowledge)
        self.column.addLayout(self._fault)
        self.fault_text.hide()
        self.acknowledge.hide()
        self._build_fields()
        self._timer = QTimer(self)
        self._timer.setInterval(FRAME_MS)
        self._timer.setTimerType(Qt.TimerType.PreciseTimer)
        self._timer.timeout.connect(self._on_frame)

    def _build_fields(self) -> None:
        self.supply = NumberField("Supply now", "V", width=86, between=(0.0, MOST_BUS))
        self.supply.moved.connect(self._on_supply)
        self.add_fields(*self._fields.values(), self.supply)
        self.reverse = QPushButton("Reverse")
        self.reverse.setShortcut("Ctrl+R")
        self.reverse.clicked.connect(self._on_reverse)
        self.finish("Start", self.reverse)
        assert self.main_button is not None
        self.main_button.setToolTip("Ctrl+Enter starts; Space or Esc stops")
        self.main_button.installEventFilter(self)
        # in a field Space is a blank, because a field takes what it can type before any shortcut; Esc stops there, too
        self._stop_keys = [QShortcut(QKeySequence(key), self) for key in (Qt.Key.Key_Space, Qt.Key.Key_Escape)]
        for key in self._stop_keys:
            key.setEnabled(False)
            key.activated.connect(self._on_stop_key)

    def _on_stop_key(self) -> None:
        self.stop()
        for number in self.findChildren(NumberField):
            if number.edit.hasFocus():
                number.restore()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.main_button and isinstance(event, QKeyEvent) and event.key() == Qt.Key.Key_Space:
            return True  # pressed twice in a fright it must not start again
        if watched is self.window() and event.type() == QEvent.Type.WindowBlocked:
            self.stop()  # a dialog stands before the stop button
        return super().eventFilter(watched, event)

    # ---- document → drive

    def refresh(self) -> None:
        bench = self.seen
        assert self.main_button is not None
        what = "current, two phases" if in_blocks(bench) else "current i_q"
        self.current_plot.set_axes(("time, 0 is now", "s"), (what, "A"))
        try:
            self.check_ready(self.waiting, self.stack)
            stops = blocking_checks(bench)
            if stops:
                raise Refusal(f"Disarmed: {stops[0].check.inline} says stop. {stops[0].reason}")
            self._follow()
        except Refusal as refusal:
            self.stop()
            self.port = None
            self._show()
            self.main_button.setEnabled(False)
            self.reverse.setEnabled(False)
            self.answer.show_answer("Not yet", "", refusal.sentence, stale=True)
            self.findings.show_findings(())
            self.show_dial(DialView(caption="The drive is disarmed"))
            return
        self._findings = run_findings(bench)
        self.main_button.setEnabled(True)
        self.reverse.setEnabled(True)
        self._show()

    def _follow(self) -> None:
        """Build the drive, or carry changed settings into the one that runs."""
        bench, run = self.seen, self.seen.settings.run
        made_from = (self.document.path, bench.settled.get("commutation"))
        if self.port is None or made_from != self._made_from:
            self.stop()
            self.port, self._made_from = SimulatedDrive(bench), made_from
            self._history = {k: np.empty(0) for k in self._history}
            around = self.port.surroundings
            self.supply.setVisible(around is not None)
            if around is not None:
                self.supply.show_value(around.supply)
        else:
            self.port.follow(bench)
        if self.port.surroundings is not None:
            self.port.surroundings.set_load(run.load, drives=run.load_kind == "drives")
        if self._token is not None and self.running:
            self.port.run_at(self._token, run.speed)

    def _on_supply(self, value: float) -> None:
        if self.port is not None and self.port.surroundings is not None:
            self.port.surroundings.set_supply(value)

    def _on_reverse(self) -> None:
        self._set("run", "speed", -self.seen.settings.run.speed)

    # ---- running

    def on_main(self) -> None:
        if self.running:
            self.stop()
        else:
            self.start()

    def start(self) -> None:
        """Arm the drive and run it; refused while a fault stands."""
        if self.port is None:
            return
        try:
            self._token = self.port.arm("run page")
        except Refusal as refusal:
            self.refuse(refusal)
            return
        self.running, self._wall = True, time.monotonic()
        self.window().installEventFilter(self)
        self.port.run_at(self._token, self.seen.settings.run.speed)
        self._timer.start()
        self._show()

    def stop(self) -> None:
        """Release the shaft; it coasts until friction stops it, which is still shown."""
        if self.port is not None:
            self.port.disarm()
        ran, self.running, self._token = self.running, False, None
        self._show()
        if ran and self.port is not None and not self.port.fault:  # a trip is not what was to be seen
            self.document.note_run()

    def leave(self) -> None:
        """Leaving the page or closing the window stops the motor."""
        self.stop()
        self._timer.stop()

    def _on_acknowledge(self) -> None:
        if self.port is not None:
            self.port.acknowledge()
            self.running, self._token = False, None
            self._show()

    def _on_frame(self) -> None:
        now = time.monotonic()
        elapsed, self._wall = min(now - self._wall, _MOST_SILENT), now
        self.advance(elapsed)
        if self.port is not None and not self.running and abs(self.port.speed) < 1e-6:
            self._timer.stop()

    def advance(self, seconds: float) -> None:
        """Take the telemetry of some seconds and show it."""
        if self.port is None or seconds <= 0:
            return
        while seconds > 1e-9:
            part = min(seconds, _MOST_SILENT)
            trace = self.port.exchange(self._token, part)
            self._remember(trace)
            seconds -= part
        if not self.port.armed and self.running:
            self.running, self._token = False, None
        self._draw(trace)
        self._frames += 1
        if self._frames % _TEXT_EVERY == 0 or not self.running:
            self._show()

    def _remember(self, trace: dict[str, FloatArray]) -> None:
        start = float(trace["t"][-1]) - WINDOW_S if len(trace["t"]) else 0.0
        keep = self._history["t"] >= start
        for key, old in self._history.items():
            self._history[key] = np.concatenate([old[keep], trace[key]])

    def _draw(self, trace: dict[str, FloatArray]) -> None:
        h = self._history
        if len(h["t"]):
            # time before now: the axis stands still, so that a frame draws curves and nothing else
            ago = h["t"] - float(h["t"][-1])
            self.speed_plot.set("reference", ago, h["speed_ref"] * RPM_PER_RAD_S)
            self.speed_plot.set("actual", ago, h["speed"] * RPM_PER_RAD_S)
            asked = closes_loops(self.seen)  # a voltage that is turned asks for no current
            self.current_plot.set("reference", ago if asked else [], h["i_q_ref"] if asked else [])
            self.current_plot.set("actual", ago, h["i_q"])
            run = self.seen.settings.run
            self.speed_plot.follow(-WINDOW_S, 0.0, floor=max(0.05 * abs(run.speed) * RPM_PER_RAD_S, 2.0))
            self.current_plot.follow(-WINDOW_S, 0.0, floor=0.1 * run.i_limit)
        self._draw_dial(trace)

    def _draw_dial(self, trace: dict[str, FloatArray]) -> None:
        assert self.port is not None
        last = {k: float(v[-1]) for k, v in trace.items()}
        theta = math.degrees(last["theta_e"]) % 360
        i_size, v_size = math.hypot(last["i_d"], last["i_q"]), math.hypot(last["v_d"], last["v_q"])
        limit_v, limit_i = (
            last["v_bus"] * self.port.parameters()["volts_per_bus"],
            self.seen.settings.run.i_limit,
        )
        ahead = math.degrees(math.atan2(last["i_q"], last["i_d"]))
        caption = (
            f"θe {theta:.0f}°   i {show(i_size, 'A', 2)}   v {100 * v_size / limit_v:.0f} % of limit"
            if limit_v > 0
            else ""
        )
        estimated, seen = without_sensor(self.seen), math.degrees(last["theta_seen"]) % 360
        if estimated and caption and round(last["phase"]) in PHASES:
            caption += f"   {PHASES[round(last['phase'])]}"
        frame = seen if family_of(self.seen).own_circuit or estimated else None
        held = seen if estimated else theta  # the frame in which the firmware's voltages are told
        self.show_dial(DialView(
            caption=caption, rotor=theta, frame=frame, current=(theta + ahead, i_size / limit_i) if i_size > 0.01 * limit_i else None,
            voltage=(held + math.degrees(math.atan2(last["v_q"], last["v_d"])), v_size / limit_v) if v_size > 0 else None,
        ))  # fmt: skip

    def _show(self) -> None:
        if self.main_button is None:
            return
        self.main_button.setText("Stop" if self.running else "Start")
        for key in self._stop_keys:
            key.setEnabled(self.running)
        fault = self.port.fault if self.port else ""
        self.fault_text.setText(
            f"Stop: {fault}: {fault_cause(self.seen, fault)}. The drive is off; find the cause, then acknowledge."
            if fault
            else ""
        )
        self.fault_text.setVisible(bool(fault))
        self.acknowledge.setVisible(bool(fault))
        if self.port is None:
            return
        rpm = self.port.speed * RPM_PER_RAD_S
        wanted = self.seen.settings.run.speed * RPM_PER_RAD_S
        state = (
            f"reference {grouped(wanted)} rpm, simulated".replace("-", "−")
            if self.running
            else "simulated drive, fault"
            if fault
            else "simulated drive, off"
        )
        waits = self._waits() or presumed_text(self.document.bench, "run", "i_limit", "i_trip", "v_min")
        shown = f"{rpm:.0f}".replace("-0", "0") if abs(rpm) < 0.5 else f"{rpm:.0f}".replace("-", "−")
        self.answer.show_answer(f"{shown} rpm", state, waits, stale=bool(waits))
        self.findings.show_findings(self._findings)

    def _waits(self) -> str:
        """Say what is outdated or edited of what the run uses, which stays as it was settled."""
        bench = self.document.bench
        loops: tuple[Topic, ...] = ("current_loop", "speed_loop")
        for topic in loops:
            if topic in bench.settled and stale_inputs(bench, topic):
                return f"{BY_KEY[topic].name} uses outdated values: the run uses the gains as settled."
        used: tuple[Topic, ...] = ("plate", "pwm", *loops)
        return next((text for t in used if (text := edited_text(bench, t))), "")
