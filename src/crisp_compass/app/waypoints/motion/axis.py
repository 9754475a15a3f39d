"""Motion, axis: where does it stand, and does the table bring it there?"""

from __future__ import annotations

import math
import time
from collections import deque
from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QApplication, QPushButton, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.map_work import MapWork
from crisp_compass.app.widgets.flow import FlowRow
from crisp_compass.app.widgets.parts import Text, beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.course.load_side import speed_text, way_text
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.points import rows_of, with_rows
from crisp_compass.course.position import as_designed, holds_position, move_of, place_counts
from crisp_compass.drive.port import Token
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.drive.table_runner import TableRunner
from crisp_compass.errors import Refusal
from crisp_compass.motion.points import INPUTS, Row
from crisp_compass.plant.simulation import READY
from crisp_compass.quantities import counted, show
from crisp_compass.studies.drift import Drift, drift

_FRAME_MS, _SHOWN, _TEXT_EVERY = 33, 12.0, 4
_MOST_SILENT = 0.1
_CYCLES = 1000
_TURN = 2 * math.pi


class AxisPage(Page):
    """The simulated axis: jogged at two speeds or by a step, run row by row, once or for ever; where it is commanded, believed and really is; the inputs that rows branch on; what is left after a thousand cycles."""

    key = "motion"
    section = "Axis"
    question = "Where does it stand, and does the table bring it there?"
    has_dial = False
    fields = (
        Entry("jog_slow", "Jogs at", "rpm", width=88, tip="Speed of the shaft while a jog button is held"),
        Entry("jog_fast", "with Shift at", "rpm", width=92, tip="Speed of the shaft while a jog button is held with Shift"),
        Entry("jog_step", "A step is", "turn", width=88, tip="Way of the shaft of a single step, in turns, ° or mm"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.drive: SimulatedDrive | None = None
        self._token: Token | None = None
        self._made_for: object = None
        self.runner: TableRunner | None = None
        self._jogs = 0
        self._wall, self._clock, self._frames = 0.0, 0.0, 0
        self._seen: deque[tuple[float, float, float, float]] = deque(maxlen=int(_SHOWN * 1000 / _FRAME_MS) + 2)
        self.strip = Plot(("place", "turns"), ("", ""), name="strip of places")
        for name, colour, size, title in (("points", "soft", 6, "points"), ("commanded", "ink", 15, "commanded"), ("believed", "ochre", 11, "believed"), ("real", "magenta", 7, "real")):
            self.strip.curve(name, colour, symbol="o", size=size, title=title)
        self.strip.setMaximumHeight(130)
        self.strip.grade_y(on=False)
        self.place = Plot(("time, 0 is now", "s"), ("place", "turns"), name="place over time")
        self.place.curve("commanded", "ink", width=1.2, dash="dash", title="commanded")
        self.place.curve("believed", "ochre", width=1.4, title="believed")
        self.place.curve("real", "magenta", width=2.0, title="real")
        self.drifts = Plot(("cycle", ""), ("off at its end", "°"), name="what is left at the end of each cycle")
        self.drifts.curve("off", "magenta", symbol="o", size=4, width=1.0)
        self.drifts.hide()
        self._work = MapWork(self)
        self._work.grown.connect(self._show_drift)
        self._work.done.connect(self._on_drift)
        self._work.refused.connect(self._on_no_drift)
        self.rows = Rows("The axis", width=272)
        self.column.addWidget(beside(QWidget(), (self.strip, self.place, self.drifts), (self.rows,), (2, 5, 3)), 1)
        self.state = Text("")
        self.state.setObjectName("stop")
        self.column.addWidget(self.state)
        self.inputs = [self._input(k) for k in range(1, INPUTS + 1)]
        line = FlowRow(4)
        told = Text("Inputs")
        line.add(told)
        for box in self.inputs:
            line.add(box)
        self.bits = Text("0x00")
        line.add(self.bits)
        self.jog_back, self.jog_on = self._jog("◂ Jog", -1), self._jog("Jog ▸", 1)
        tip = "Goes on by one step from where it was sent last"
        line.add(self._button("Two turns each way", self.prove, "Two turns forwards and back, whatever inputs and table say: proves wiring and sense of rotation"), tail=True)
        for button in (self.jog_back, self._button("◂ Step", lambda: self.step(-1), tip), self._button("Step ▸", lambda: self.step(1), tip), self.jog_on):
            line.add(button, tail=True)
        self.add_row(line)
        self.many = self._button("Run 1000 cycles", self.thousand, "As fast as it can be worked out, from a drive of its own; pressed again it ends")
        self.finish(
            "Start", self._button("Take as row", self.take, "The place where it stands becomes a row of the table, at its end"), self._button("Run row", self.run_row, "The row marked on the section Points, or the next one"),
            self._button("Run once", lambda: self.run(again=False), "The table from its first row to its end"), self._button("Cycle", lambda: self.run(again=True), "The table again and again, until Stop"),
            self.many,
        )  # fmt: skip
        assert self.main_button is not None
        self.main_button.setToolTip("Ctrl+Enter starts; Space or Esc stops")
        self._stop_keys = [QShortcut(QKeySequence(key), self) for key in (Qt.Key.Key_Space, Qt.Key.Key_Escape)]
        for key in self._stop_keys:
            key.setEnabled(False)
            key.activated.connect(self.halt)
        self._timer = QTimer(self)
        self._timer.setInterval(_FRAME_MS)
        self._timer.timeout.connect(self._on_frame)
        self._row = 0

    def _button(self, text: str, slot: Callable[..., None], tip: str) -> QPushButton:
        button = QPushButton(text)
        button.setToolTip(tip)
        button.clicked.connect(slot)
        return button

    def _jog(self, text: str, way: int) -> QPushButton:
        button = QPushButton(text)
        button.setToolTip("Turns while it is held; with Shift at the faster speed")
        button.setAutoRepeat(False)
        button.pressed.connect(lambda: self.jog(way))
        button.released.connect(lambda: self.jog(0))
        return button

    def _input(self, number: int) -> QPushButton:
        box = QPushButton(str(number))
        box.setCheckable(True)
        box.setFixedWidth(42)
        box.setObjectName("small")
        box.setToolTip(f"Input {number}, mask 0x{1 << (number - 1):02X}: rows branch on it")
        box.setAccessibleName(f"Input {number}")
        box.toggled.connect(self._show_bits)
        return box

    def _show_bits(self) -> None:
        self.bits.setText(f"0x{sum(1 << k for k, box in enumerate(self.inputs) if box.isChecked()):02X}")

    # ---- what is run

    def refresh(self) -> None:
        bench = self.seen
        s = bench.settings
        if not READY.is_set():
            raise Refusal("The simulation is being prepared; this happens once, at the first start")
        tried = bench if holds_position(bench) else as_designed(bench)
        kinds = (self.document.path, s.plate.family, s.sensor.kind, s.stepping.encoder, s.circuit.firmware, s.current_loop.commutation, s.homing)
        if self.drive is None or kinds != self._made_for:
            self.halt()
            self.drive, self._made_for = SimulatedDrive(tried), kinds
            self._seen.clear()
        else:
            self.drive.follow(tried)
        if self.drive.surroundings is not None:
            self.drive.surroundings.set_load(s.run.load, drives=s.run.load_kind == "drives")
        self._show()

    @property
    def running(self) -> bool:
        """Whether the axis is armed."""
        return self._token is not None

    def on_main(self) -> None:
        if self.running:
            self.halt()
        else:
            self.start()

    def start(self) -> None:
        """Arm the axis, which holds its place; a fault is acknowledged by that."""
        if self.drive is None:
            return
        if self.drive.fault:
            self.drive.acknowledge()
        self._token = self.drive.arm("axis page")
        self.drive.move_to(self._token, place_counts(self.seen, self.drive.believed))
        self._wall = time.monotonic()
        self._timer.start()
        self._show()

    def halt(self) -> None:
        """Let the shaft go."""
        if self.drive is not None:
            self.drive.disarm()
        self._token, self.runner, self._jogs = None, None, 0
        if self.main_button is not None:
            self._show()

    def leave(self) -> None:
        self.halt()
        self._timer.stop()
        if self._work.running:
            self._work.cancel()

    def jog(self, way: int) -> None:
        """Turn backwards (−1) or forwards (1), or stand (0)."""
        if self.drive is None or self._token is None:
            return
        s = self.seen.settings.motion
        fast = bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.runner, self._jogs = None, way
        self.drive.run_at(self._token, way * (s.jog_fast if fast else s.jog_slow))

    def step(self, way: int) -> None:
        """Go on by a step."""
        if self.drive is None or self._token is None:
            return
        self.runner, usual = None, move_of(self.seen)
        self.drive.within(usual.speed, usual.accel, math.inf)
        self.drive.move_to(self._token, self.drive.asked_place + way * self.seen.settings.motion.jog_step)

    def take(self) -> None:
        """Make a row of where it stands."""
        if self.drive is None:
            return
        place = place_counts(self.seen, self.drive.believed)
        self._change(lambda bench: with_rows(bench, [*rows_of(bench), Row(place)]), "take place as point")

    def prove(self) -> None:
        """Turn two turns forwards and two back."""
        turns = [Row(2 * _TURN, "by", dwell=0.3), Row(-2 * _TURN, "by")]
        self._begin(lambda runner, drive, token: runner.start(drive, token), turns)

    def run_row(self) -> None:
        """Run the next row alone, from standstill."""
        rows = rows_of(self.seen)
        self._begin(lambda runner, drive, token: runner.start(drive, token, self._row % max(len(rows), 1), only=True))
        self._row += 1

    def run(self, *, again: bool) -> None:
        """Run the table."""
        self._row = 0
        self._begin(lambda runner, drive, token: runner.start(drive, token, again=again))

    def _begin(self, begin: Callable[[TableRunner, SimulatedDrive, Token], None], rows: list[Row] | None = None) -> None:
        if not self.running:
            self.start()
        if self.drive is None or self._token is None:
            return
        runner = TableRunner(self.seen if rows is None else with_rows(self.seen, rows))
        try:
            begin(runner, self.drive, self._token)
        except Refusal as refusal:
            self.refuse(refusal)
            return
        self.runner = runner

    def thousand(self) -> None:
        """Run many cycles without waiting for the clock, or end that."""
        if self._work.running:
            self._work.cancel()
            self.many.setText("Run 1000 cycles")
            return
        bench = self.seen
        self.many.setText("Cancel cycles")
        self._work.start(_CYCLES, lambda arrived, called_off: drift(bench, _CYCLES, arrived, called_off))

    def _show_drift(self, made: Drift) -> None:
        self.drifts.show()
        self.drifts.set("off", np.arange(1.0, len(made.off) + 1), made.off * 180 / math.pi)
        self.drifts.keep_in_view()
        self._told = made
        self._show()

    def _on_drift(self, made: Drift) -> None:
        self.many.setText("Run 1000 cycles")
        self._show_drift(made)

    def _on_no_drift(self, refusal: Refusal) -> None:
        self.many.setText("Run 1000 cycles")
        self.refuse(refusal)

    _told: Drift | None = None

    # ---- what is shown

    def _on_frame(self) -> None:
        now = time.monotonic()
        elapsed, self._wall = min(now - self._wall, _MOST_SILENT), now
        self.advance(elapsed)
        if not self.running and self.drive is not None and abs(self.drive.speed) < 1e-6:
            self._timer.stop()

    def advance(self, seconds: float) -> None:
        """Let some seconds pass."""
        drive = self.drive
        if drive is None or seconds <= 0:
            return
        self._clock += seconds
        while seconds > 1e-9:
            part = min(seconds, 0.02)
            drive.exchange(self._token, part)
            if self.runner is not None and self._token is not None and drive.armed:
                self.runner.step(drive, self._token, part, lambda k: self.inputs[k - 1].isChecked())
            seconds -= part
        if self.running and not drive.armed:
            self._token, self.runner = None, None
        self._seen.append((self._clock, drive.profile / _TURN, drive.believed / _TURN, drive.place / _TURN))
        self._frames += 1
        self._draw()
        if self._frames % _TEXT_EVERY == 0 or not self.running:
            self._show()

    def _draw(self) -> None:
        t, commanded, believed, real = np.array(self._seen).T
        for name, values in (("commanded", commanded), ("believed", believed), ("real", real)):
            self.place.set(name, t - t[-1], values)
            self.strip.set(name, [values[-1]], [0.0])
        self.place.keep_in_view()

    def _show(self) -> None:
        drive = self.drive
        assert self.main_button is not None
        self.main_button.setText("Stop" if self.running else "Start")
        for key in self._stop_keys:
            key.setEnabled(self.running)
        if drive is None:
            return
        rows = rows_of(self.seen)
        targets = [r.target / _TURN for r in rows if r.way == "to"]
        self.strip.set("points", targets, [0.0] * len(targets))
        s = self.seen.settings.motion
        ends = [x for x in (s.low, s.high) if x is not None]
        around = [drive.place / _TURN, *targets, *(x / _TURN for x in ends)]
        low, high = min(around), max(around)
        self.strip.setXRange(low - 0.05 * max(high - low, 1.0), high + 0.05 * max(high - low, 1.0), padding=0)
        self.strip.setYRange(-1, 1, padding=0)
        turns = round(drive.place / _TURN, 4) + 0.0  # no minus before a zero
        way = way_text(self.seen, turns * _TURN)
        head = f"{turns:.3f} turns".replace("-", "−")
        self.answer.show_answer(head, ", ".join(x for x in (f"{way} at the load" if way else "", self._doing()) if x), "The simulated axis with the load of the run leg; on the bench the same is jogged slowly, hands out of it.")
        fault = drive.fault
        self.state.setText(f"Stop: {fault}; Start acknowledges it." if fault else "")
        self.state.setVisible(bool(fault))
        self.rows.show_rows(self._rows_shown(drive))

    def _doing(self) -> str:
        if self.drive is None or not self.running:
            return "off"
        if self.runner is not None and self.runner.row is not None:
            return f"row {self.runner.row + 1} runs"
        return {0: "holds its place", 1: "jogs forwards", -1: "jogs backwards"}[self._jogs]

    def _rows_shown(self, drive: SimulatedDrive) -> Sequence[tuple[str, str]]:
        offs = [] if self.runner is None else self.runner.offs
        told = self._told
        return (
            ("commanded", f"{drive.profile / _TURN:.4f} turns"), ("believed", f"{drive.believed / _TURN:.4f} turns"), ("real", f"{drive.place / _TURN:.4f} turns"),
            ("speed", speed_text(self.seen, drive.speed, 3)), ("off its command", show(drive.profile - drive.place, "deg", 2)),
            *((("steps lost", str(abs(drive.lost_steps))),) if drive.lost_steps is not None and steps_open(self.seen) else ()),
            ("rows of the table", str(len(rows_of(self.seen)))), ("next row alone", str(self._row % max(len(rows_of(self.seen)), 1) + 1)),
            *((("cycles run", str(self.runner.cycles)),) if self.runner is not None else ()), *((("off at the last end", show(offs[-1], "deg", 2)),) if offs else ()),
            *(((f"after {counted(len(told.off), 'cycle')}", show(float(told.off[-1]), "deg", 2)), ("they spread over", show(float(np.ptp(told.off)), "deg", 2)), *((("steps lost by then", str(abs(told.lost))),) if steps_open(self.seen) else ()), *((("ended by", told.fault),) if told.fault else ())) if told is not None and len(told.off) else ()),
        )  # fmt: skip
