"""Run: the drive in real time, through its port."""

from __future__ import annotations

import math
import time

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QStackedWidget

from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.waypoints.run.figures import live_figures
from crisp_compass.app.waypoints.run.recorder import Recorder, save_run
from crisp_compass.app.waypoints.run.source import RunSource
from crisp_compass.app.waypoints.run.traces import RunTraces, dial_of
from crisp_compass.app.widgets.answer import Waiting
from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.app.widgets.parts import Text, button, label
from crisp_compass.bench.base import Topic
from crisp_compass.bench.rules import stale_inputs
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.block import in_blocks
from crisp_compass.course.drive import plate_needs_angle
from crisp_compass.course.envelope import above_reason
from crisp_compass.course.load_side import velocity_text
from crisp_compass.course.open_points import edited_text, presumed_text
from crisp_compass.course.position import holds_position, moves
from crisp_compass.course.running import fault_cause, run_findings, trip_of
from crisp_compass.course.torque_mode import holds_torque
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.drive.port import Port, Token
from crisp_compass.drive.replayed import ReplayedDrive
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.preparation.checks import blocking_checks
from crisp_compass.quantities import grouped, show
from crisp_compass.sensing import SENSORS
from crisp_compass.views.picture import DialView

FRAME_MS = 33
#: Highest bus that the plate takes too, V.
MOST_BUS = 1500.0
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
        Pick("holds", "Holds", {"speed": "speed", "torque": "torque", "position": "position"}, width=92, tip="What the simulated drive is asked for: a torque without a load lets it run up to where the voltage ends; a position takes the loop of the Motion leg"),
        Entry("speed", "Speed", "rpm", width=92),
        Entry("place", "Place", "turn", width=98, tip="Of the shaft from where the drive was started, in turns or °; in mm where Plate, Load side says what a turn moves"),
        Entry("torque", "Torque", "N·m", width=98, tip="At the current that makes it, within the limit"),
        Entry("load", "Load torque", "N·m", width=98),
        Entry("quadratic", "Propeller", "", width=84, plain=True, tip="N·m·s²/rad² of a propeller or pump, whose torque grows with the speed's square"),
        Entry("flywheel", "Flywheel", "kg·m²", width=104, tip="Inertia that turns with the shaft besides what Mechanics has measured"),
        Entry("swing", "Swing", "N·m", width=88, tip="Amplitude of a load that swings with the shaft's angle: cogging, a crank, a drum that is not round"),
        Entry("swing_order", "a turn", width=64, plain=True, tip="Times a turn of the motor's shaft that it swings"),
        Entry("i_limit", width=88, base="peak"),
        Entry("i_trip", width=82, base="peak"),
        Entry("v_min", width=88),
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
        self._last: dict[str, FloatArray] = {}
        self.traces = RunTraces()
        self.speed_plot, self.current_plot = self.traces.speed_plot, self.traces.current_plot
        self.source = RunSource(document, self)
        self.source.moved.connect(self._on_source)
        self.source.refused.connect(self.refuse)
        document.drive.changed.connect(self._on_link)
        self.waiting = Waiting()
        self.stack = QStackedWidget()
        self.stack.addWidget(self.waiting)
        self.stack.addWidget(self.traces)
        self.column.addWidget(self.stack, 1)
        self.figures = Text("")
        self.figures.setObjectName("info")
        self.column.addWidget(self.figures)
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
        self.add_fields(self.source.choice, *self._fields.values(), self.supply)
        self.reverse = QPushButton("Reverse")
        self.reverse.setShortcut("Ctrl+R")
        self.reverse.clicked.connect(self._on_reverse)
        self.recorder = Recorder()
        self.recorder.ended.connect(self._on_recorded)
        self.unplug = QPushButton("Unplug sensor")
        self.unplug.setCheckable(True)
        self.unplug.setToolTip("Takes the simulated sensor away, to see what the firmware does then; pressed again it is back")
        self.unplug.toggled.connect(self._on_unplugged)
        self.obstacle = QPushButton("Block shaft")
        self.obstacle.setCheckable(True)
        self.obstacle.setToolTip("Drops an obstacle on the simulated axis, to see what the firmware does then; pressed again it is gone")
        self.obstacle.toggled.connect(lambda _: self._load())
        self.finish("Start", self.recorder, self.reverse, self.unplug, self.obstacle)
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
        bench, kind = self.seen, self.source.kind
        assert self.main_button is not None
        what = "current, two phases" if kind == "simulation" and in_blocks(bench) else "current i_q"
        self.current_plot.set_axes(("time, 0 is now", "s"), (what, "A"))
        self._show_fields()
        try:
            if kind == "simulation":
                self.check_ready(self.waiting, self.stack)
            else:
                self.stack.setCurrentIndex(1)
            stops = blocking_checks(bench) if kind != "replay" else ()
            raised = [f for f in above_reason(bench) if f.level == "stop"] if kind == "simulation" else []
            if raised:
                raise Refusal(f"Disarmed: {raised[0].text[:1].lower()}{raised[0].text[1:]}".removesuffix("."))
            if self._held() == "position" and not holds_position(bench):
                raise Refusal("No moves are settled", "settle them on the Motion leg, or hold a speed")
            if stops and not (kind == "link" and self.document.drive.simulated):
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
        if kind == "link":
            self._timer.start()  # what it does is shown whoever commands it
        self._findings = run_findings(bench, kind)
        self.main_button.setEnabled(True)
        self.reverse.setEnabled(True)
        self._show()

    def _show_fields(self) -> None:
        """Show the settings that reach what is run, and no other."""
        kind, held = self.source.kind, self._held()
        reaches = {
            "holds": holds_torque(self.seen) or moves(self.seen), "speed": held == "speed", "torque": held == "torque",
            "place": held == "position", "swing_order": self.seen.settings.run.swing > 0,
        }  # fmt: skip
        for name, widget in self._fields.items():
            widget.setVisible(reaches.get(name, True) if kind == "simulation" else kind == "link" and name == "speed")
        self.supply.setVisible(kind == "simulation")
        self.reverse.setVisible(kind != "replay" and self._held() != "position")
        self.unplug.setVisible(kind == "simulation" and bool(SENSORS[self.seen.settings.sensor.kind].leads) and plate_needs_angle(self.seen))
        self.obstacle.setVisible(kind == "simulation")
        self.recorder.setVisible(kind != "replay")

    def _load(self) -> None:
        """Load the shaft as entered, or block it."""
        run = self.seen.settings.run
        if self.port is not None and self.port.surroundings is not None:
            if self.obstacle.isChecked() and isinstance(self.port, SimulatedDrive):
                self.port.surroundings.set_load(self.port.blocking)
            else:
                self.port.surroundings.set_load(run.load, drives=run.load_kind == "drives")

    def _held(self) -> str:
        """Return what is held: speed, torque or position, as far as this firmware holds it."""
        holds = self.seen.settings.run.holds
        can = {"torque": holds_torque, "position": moves}.get(holds)
        return holds if self.source.kind == "simulation" and can is not None and can(self.seen) else "speed"

    def _on_unplugged(self, lost: bool) -> None:
        if isinstance(self.port, SimulatedDrive):
            self.port.lose_sensor(lost)

    def _follow(self) -> None:
        """Build the drive, or carry changed settings into the one that runs."""
        bench = self.seen
        s = bench.settings  # another sensor or kind of firmware is another drive
        kinds = (s.plate.family, s.sensor.kind, s.stepping.encoder, s.circuit.firmware, s.current_loop.commutation)
        made_from = (self.document.path, bench.settled.get("commutation"), kinds) if self.source.kind == "simulation" else self.source.port(bench)
        if self.port is None or made_from != self._made_from:
            self.stop()
            self.port, self._made_from = self.source.port(bench), made_from
            self.traces.forget()
            self.unplug.setChecked(False)
            self.obstacle.setChecked(False)
            self.show_dial(DialView())
            around = self.port.surroundings
            if around is not None:
                self.supply.show_value(around.supply)
        else:
            self.port.follow(bench)
        self._load()
        if self._token is not None and self.port.armed and self.port.identity.kind != "replay":
            self._ask(self._token)

    def _on_recorded(self, columns: dict[str, FloatArray]) -> None:
        """Save what was recorded as a capture."""
        path = ask_save_path(self, "Save the run as a capture", self.document.base / "run.csv", "Captures (*.csv)", suffixes=(".csv",)) if len(columns.get("t", ())) > 1 else None
        try:
            if path is not None or len(columns.get("t", ())) < 2:
                self.done.emit(save_run(self.seen, columns, path, simulated=self.source.kind == "simulation"))
        except Refusal as refusal:
            self.refuse(refusal)

    def _on_source(self) -> None:
        self.stop()
        self.recorder.forget()
        self.port = None
        self.show_document()

    def _on_link(self) -> None:
        """Follow the line: a drive that is gone is run no more."""
        if self.source.kind == "link" and self.isVisible():
            self.show_document()

    def _on_supply(self, value: float) -> None:
        if self.port is not None and self.port.surroundings is not None:
            self.port.surroundings.set_supply(value)

    def _on_reverse(self) -> None:
        field = self._held()
        self._set("run", field, -getattr(self.seen.settings.run, field))

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
            if self.source.kind == "link" and self.document.drive.busy:
                raise Refusal("something else has the drive just now", "wait for its end, or stop it")
            self._token = self.port.arm("run page")
        except Refusal as refusal:
            self.refuse(refusal)
            return
        self.running, self._wall = True, time.monotonic()
        self.window().installEventFilter(self)
        if self.port.identity.kind != "replay":
            self._ask(self._token)
        self._timer.start()
        self._show()

    def _ask(self, token: Token) -> None:
        """Ask for speed, or for torque where that is held."""
        assert self.port is not None
        run, held = self.seen.settings.run, self._held()
        if held == "torque" and isinstance(self.port, SimulatedDrive):
            self.port.pull(token, run.torque)
        elif held == "position" and isinstance(self.port, SimulatedDrive):
            self.port.move_to(token, run.place)
        else:
            self.port.run_at(token, run.speed)

    def stop(self) -> None:
        """Release the shaft; it coasts until friction stops it, which is still shown."""
        if self.port is not None:
            self.port.disarm()
        ran, self.running, self._token = self.running, False, None
        self._show()
        if ran and self.port is not None and self.port.identity.kind != "replay" and not self.port.fault:  # a trip is not what was to be seen
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
        rests = self.port is not None and (self.source.kind == "replay" or not abs(self.port.speed) >= 1e-6)
        if rests and not self.running and self.source.kind != "link":
            self._timer.stop()

    def advance(self, seconds: float) -> None:
        """Take the telemetry of some seconds and show it."""
        if self.port is None or seconds <= 0:
            return
        while seconds > 1e-9:
            part = min(seconds, _MOST_SILENT)
            trace = self.port.exchange(self._token, part)
            self.traces.remember(trace)
            self.recorder.add(trace)
            seconds -= part
        if not self.port.armed and self.running:
            if self.port.fault:
                self.document.trips.append(trip_of(self.seen, self.port.fault, trace))
            self.running, self._token = False, None
        self.traces.draw(self.seen, self.port)
        view = dial_of(self.seen, self.port, trace)
        if view is not None:
            self.show_dial(view)
        self._frames += 1
        self._last = trace
        if self._frames % _TEXT_EVERY == 0 or not self.running:
            self._show()

    def _show(self) -> None:
        if self.main_button is None:
            return
        self.main_button.setText("Stop" if self.running else "Play" if self.source.kind == "replay" else "Start")
        for key in self._stop_keys:
            key.setEnabled(self.running)
        fault = self.port.fault if self.port else ""
        cause = fault_cause(self.seen, fault) if self.source.kind == "simulation" and fault else "see Faults on the Drive leg"
        self.fault_text.setText(f"Stop: {fault}: {cause}. {'The field holds the shaft until it is acknowledged' if isinstance(self.port, SimulatedDrive) and self.port.holds_lost else 'The drive is off'}; find the cause, then acknowledge." if fault else "")
        self.fault_text.setVisible(bool(fault))
        self.acknowledge.setVisible(bool(fault))
        if self.port is None:
            return
        waits = ""
        if self.source.kind == "simulation":
            waits = self._waits() or presumed_text(self.document.bench, "run", "i_limit", "i_trip", "v_min")
        rpm = self.port.speed * RPM_PER_RAD_S
        shown = "no speed told" if math.isnan(rpm) else f"{rpm:.0f} rpm".replace("-0 ", "0 ") if abs(rpm) < 0.5 else f"{rpm:.0f} rpm".replace("-", "−")
        self.answer.show_answer(shown, self._state(fault), waits, stale=bool(waits))
        self.findings.show_findings(self._findings)
        self.figures.setText("     ".join(f"{name} {figure}" for name, figure in live_figures(self.seen, self.port, self._last)))

    def _state(self, fault: str) -> str:
        """Say on what this is, and whether it runs."""
        assert self.port is not None
        identity = self.port.identity
        if isinstance(self.port, ReplayedDrive):
            beside = "; green: the simulated drive over the same reference" if self.port.has_beside else ""
            return f"{identity.name}, replayed: {self.port.at:.1f} of {self.port.lasts:.1f} s{beside}"
        name = "simulated drive" if identity.kind == "simulation" else f"{identity.name}, on the link"
        if not self.running:
            return f"{name}, {'fault' if fault else 'off'}"
        wanted = self.seen.settings.run.speed * RPM_PER_RAD_S
        run = self.seen.settings.run
        asked = {"torque": f"torque {show(run.torque, 'N·m', 3)}", "position": f"to {run.place / (2 * math.pi):.6g} turns"}.get(self._held(), f"reference {grouped(wanted)} rpm")
        there = velocity_text(self.seen, self.port.speed) if not math.isnan(self.port.speed) else ""
        warm = f", {there} at the load".replace("-", "−") if there else ""
        return f"{asked}, {'simulated' if identity.kind == 'simulation' else name}".replace("-", "−") + warm

    def _waits(self) -> str:
        """Say what is outdated or edited of what the run uses, which stays as it was settled."""
        bench = self.document.bench
        loops: tuple[Topic, ...] = ("current_loop", "speed_loop")
        for topic in loops:
            if topic in bench.settled and stale_inputs(bench, topic):
                return f"{BY_KEY[topic].name} uses outdated values: the run uses the gains as settled."
        used: tuple[Topic, ...] = ("plate", "pwm", *loops)
        return next((text for t in used if (text := edited_text(bench, t))), "")
