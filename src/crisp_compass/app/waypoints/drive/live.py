"""Drive, live: what does the drive tell, as it happens?"""

from __future__ import annotations

import math
import time
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QHideEvent, QShowEvent
from PySide6.QtWidgets import QPushButton, QTableWidgetItem, QWidget

from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.document import Document
from crisp_compass.app.waypoints.drive.live_source import KEPT_S, LiveSource
from crisp_compass.app.waypoints.drive.panes import Panes, Shown, titled
from crisp_compass.app.waypoints.drive.watched import CommandedPage
from crisp_compass.app.widgets.bars import Bar, Bars
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.capture import write_capture
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.running import DRIVE_MOVES
from crisp_compass.drive.headroom import headroom_of
from crisp_compass.drive.live import LiveStore, Rolling, Trigger, capture_columns, measure, thinned
from crisp_compass.errors import Refusal
from crisp_compass.quantities import grouped, show

#: Time between two frames, ms, between two measurements, s, and over which the speed is averaged, s; channels that are shown at first.
_FRAME_MS, _MEASURE_S, _MEAN_S = 16, 0.25, 0.2
_FIRST = ("i_q", "i_q_ref", "i_m", "i_m_ref", "speed", "speed_ref", "speed_reference", "current_q", "v_bus", "bus")
_WIDTH = 372


@dataclass(frozen=True)
class _Window:
    """What is shown: from and to when [s], and which moment is 0."""

    begin: float
    end: float
    zero: float


class LivePage(CommandedPage):
    """Every row that the drive tells: rolling or by a trigger, held, measured between cursors, saved as a capture."""

    key = "drive"
    section = "Live"
    question = "What does the drive tell, as it happens?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.source = LiveSource(self.session, self)
        self._rolling: Rolling | None = None
        self._trigger: Trigger | None = None
        self._window: _Window | None = None
        self._measured = self._counted_at = 0.0
        self._counted = 0
        self._rate = 0.0
        self.frames = 0
        self.panes = Panes("as the drive tells it")
        self.bars = Bars(width=_WIDTH)
        self.table = Table("Channels, and what they are over the time that is shown", ("shown", "mean", "rms", "swing", "wave"), widths={0: 118}, row_height=22)
        self.table.setFixedWidth(_WIDTH)
        self.table.itemChanged.connect(self._on_ticked)
        self.column.addWidget(beside(QWidget(), (self.panes,), (self.bars, self.table), (1,)), 1)
        #: Channels that are shown, by their names.
        self.chosen: set[str] = set()
        self._build_fields()
        self._timer = QTimer(self)
        self._timer.setTimerType(Qt.TimerType.PreciseTimer)
        self._timer.setInterval(_FRAME_MS)
        self._timer.timeout.connect(self.draw)

    def _build_fields(self) -> None:
        self.span = NumberField("Time", "s", width=92)
        self.span.setToolTip(f"Time that is shown, at most {KEPT_S:g} s")
        self.span.show_value(1.0)
        self.trigger = Choice("Trigger", {"": "none, it rolls"}, width=140)
        self.edge = Choice("Edge", {"rising": "rising", "falling": "falling"}, width=92)
        self.level = NumberField("Level", "", width=84)
        self.level.setToolTip("In the unit of the channel's plot")
        self.level.show_value(0.0)
        self.before = NumberField("Before it", "s", width=92)
        self.before.show_value(0.1)
        for field in (self.span, self.level, self.before):
            field.moved.connect(lambda *_: self._begin())
        for choice in (self.trigger, self.edge):
            choice.moved.connect(lambda *_: self._begin())
        self.save = QPushButton("Save capture…")
        self.save.setToolTip("What is shown, every row of it, as a capture that every leg reads")
        self.save.clicked.connect(self._on_save)
        self.add_fields(self.span, self.before, self.level)
        for choice in (self.trigger, self.edge):
            self.field_row.add(choice)
        self.field_row.add(self.speed)
        self.finish("Hold", self.save, self.arm, self.stop)
        assert self.main_button is not None
        self.main_button.setCheckable(True)
        self.main_button.setToolTip("Ctrl+Enter: holds what is shown, to look at with two cursors (C in a plot); the drive goes on")

    # ---- what is asked

    def on_main(self) -> None:
        """Hold what is shown, or go on."""
        assert self.main_button is not None
        if self.main_button.isChecked():
            self._show_whole()
        else:
            self._begin()
        self.refresh()

    @property
    def held(self) -> bool:
        """Whether what is shown is held."""
        return self.main_button is not None and self.main_button.isChecked()

    @property
    def triggered(self) -> bool:
        """Whether a trigger is set and has come, and everything behind it is shown and measured."""
        return self._trigger is not None and self._window is not None and self._measured > 0

    def _on_save(self) -> None:
        store, window = self.source.store, self._window
        t, columns = capture_columns(store, window.begin, window.end) if store is not None and window is not None else (np.empty(0), {})
        if len(t) < 2 or not columns:
            self.refuse(Refusal("there is nothing to save yet", "connect, and let some of it pass"))
            return
        path = ask_save_path(self, "Save as a capture", self.document.base / "live.csv", "Captures (*.csv)", suffixes=(".csv",))
        if path is None:
            return
        try:
            write_capture(path, t, columns, {"recorded from": self.session.description.name if self.session.description else "a drive"})
        except OSError as error:
            self.refuse(Refusal(f"{path.name} cannot be written ({error.strerror})", "choose another folder"))
            return
        self.done.emit(f"{grouped(float(len(t)))} rows saved as {path.name}")

    # ---- what is shown

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._follow_source()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self._timer.stop()
        self.source.follow(listens=False)

    def _follow_source(self) -> None:
        if self.source.follow(listens=self.isVisible()):
            self._offer()
        if self.isVisible() and self.source.store is not None:
            if not self._timer.isActive():
                self._begin()
                self._timer.start()
        else:
            self._timer.stop()

    def refresh(self) -> None:
        self._follow_source()
        connected = self.session.state == "connected"
        store = self.source.store
        assert self.main_button is not None
        self.main_button.setEnabled(store is not None)
        self.main_button.setText("Go on" if self.held else "Hold")
        self.save.setEnabled(store is not None)
        self.findings.show_findings((DRIVE_MOVES,) if self.listens else ())
        self.stop.setEnabled(self.listens)
        self.speed.setEnabled(self.listens)
        self.follow_arming()
        if not connected:
            self.answer.show_answer("Not connected", "connect to a drive first", self.session.why, stale=True)
        elif store is None:
            self.answer.show_answer("Nothing is told", "the description names no telemetry", stale=True)
        else:
            self._say(store)

    def _say(self, store: LiveStore) -> None:
        told = self.session.description
        assert told is not None
        why = self.source.why
        who = "a stream: it tells and cannot be told" if told.streams else "ARMED" if self.session.armed else "disarmed: nothing moves"
        how = f"{grouped(float(f'{self._rate:.3g}'))} rows a second" if self._rate else "rows are being counted" if store.rows else "nothing came yet"
        lost = f"{grouped(float(self.source.lost))} lost" if self.source.lost else "none lost"
        speed = next((k for k, c in enumerate(store.channels) if c.signal == "speed"), None)
        lately = store.stretch(store.now - _MEAN_S, store.now, [speed])[1] if speed is not None else np.empty((1, 0))
        value = float(np.nanmean(lately)) if np.isfinite(lately).any() else math.nan
        text = f"{grouped(round(value * RPM_PER_RAD_S))} rpm".replace("-", "−") if math.isfinite(value) else how
        waits = "Waits for the trigger: it shows what was before" if self._trigger is not None and self._window is None else ""
        self.answer.show_answer("Held" if self.held else text, f"{who}; {how}, {lost}", f"{why[:1].upper()}{why[1:]}" if why else waits, stale=bool(why))

    def _offer(self) -> None:
        """Show the channels of another drive."""
        store = self.source.store
        channels = store.channels if store is not None else ()
        self.chosen = {c.name for c in channels if c.bit is None and c.name in _FIRST} or {c.name for c in channels[:4]}
        self.trigger.set_options({"": "none, it rolls", **{c.name: titled(c.name) for c in channels}}, "")
        self._window, self._rate, self._counted = None, 0.0, 0
        self._counted_at = time.monotonic()
        assert self.main_button is not None
        self.main_button.setChecked(False)
        self.bars.show_bars(())
        self._show_table(None)
        self._begin()

    def _on_ticked(self, item: QTableWidgetItem) -> None:
        store = self.source.store
        if store is None or item.column() != 0:
            return
        name = store.channels[item.row()].name
        if (item.checkState() == Qt.CheckState.Checked) != (name in self.chosen):
            self.chosen ^= {name}
            self._begin()

    def _chosen(self, store: LiveStore) -> list[int]:
        return [k for k, c in enumerate(store.channels) if c.name in self.chosen or c.name == self.trigger.box.currentData()]

    def _begin(self) -> None:
        """Show what is chosen from now on."""
        store = self.source.store
        if store is None:
            self.panes.show_channels(())
            return
        chosen = self._chosen(store)
        self.panes.show_channels([Shown(store.channels[k].name, store.channels[k].unit, store.channels[k].bit is not None) for k in chosen])
        span, before = self._times()
        name = str(self.trigger.box.currentData() or "")
        self._rolling = self._trigger = self._window = None
        if name:
            factor = self.panes.factor(name)
            self._trigger = Trigger(store, store.place(name), self._level(store, name) / factor, rising=self.edge.box.currentData() == "rising", before=before, after=span - before)
        else:
            self._rolling = Rolling(store, chosen, span, self.panes.pixels)
        for plot in self.panes.seen:
            plot.set_axes(("time, 0 is the trigger" if name else "time, 0 is now", "s"), plot.y_axis)
        if self.held:
            self._window = self._last(store)
            self._show_whole()

    def _level(self, store: LiveStore, name: str) -> float:
        level = self.level.value or 0.0
        return 0.5 if store.channels[store.place(name)].bit is not None else level

    def _times(self) -> tuple[float, float]:
        """Return the time that is shown and how much of it lies before the trigger [s], as far as the memory reaches."""
        span = min(max(self.span.value or 1.0, 1e-4), KEPT_S)
        return span, min(max(self.before.value or 0.0, 0.0), 0.9 * span)

    def _last(self, store: LiveStore) -> _Window:
        now = store.now
        return _Window(now - self._times()[0], now, now)

    def draw(self) -> None:
        """Draw what came since the last frame."""
        store = self.source.store
        if store is None:
            return
        self._count(store)
        if self.held:
            if time.monotonic() - self._measured > _MEASURE_S:
                self._measured = time.monotonic()
                self._measure(store)  # cursors move
                self._say(store)
            return
        if self._trigger is not None:
            self._draw_triggered(store)
        elif self._rolling is not None:
            self._draw_rolling(store, self._rolling)
        self.frames += 1
        if time.monotonic() - self._measured > _MEASURE_S:
            self._measured = time.monotonic()
            self._measure(store)
            self._say(store)

    def _count(self, store: LiveStore) -> None:
        now = time.monotonic()
        if now - self._counted_at > 1.0:
            rows = store.rows
            self._rate, self._counted, self._counted_at = (rows - self._counted) / (now - self._counted_at), rows, now

    def _draw_rolling(self, store: LiveStore, rolling: Rolling) -> None:
        t, x = rolling.update()
        self._window = self._last(store)
        for row, place in enumerate(rolling.places):
            self.panes.stream(store.channels[place].name, t, x[row])
        for plot in self.panes.seen:
            plot.follow(-rolling.span, 0.0, floor=1e-3)

    def _draw_triggered(self, store: LiveStore) -> None:
        assert self._trigger is not None
        at = self._trigger.found()
        if at is None:
            return
        span, before = self._times()
        self._window, self._measured = _Window(at - before, at - before + span, at), 0.0
        self._show_window(store, self._window, self.panes.pixels)
        for plot in self.panes.seen:
            plot.follow(-before, span - before, floor=1e-3)

    def _show_window(self, store: LiveStore, window: _Window, pixels: int) -> None:
        chosen = self._chosen(store)
        t, x = store.stretch(window.begin, window.end, chosen)
        if pixels:
            t, x = thinned(t, x, pixels)
        for row, place in enumerate(chosen):
            name = store.channels[place].name
            (self.panes.stream if pixels else self.panes.set)(name, t - window.zero, x[row])

    def _show_whole(self) -> None:
        """Show every row of what is held, so that one can look closely."""
        store, window = self.source.store, self._window
        if store is not None and window is not None and not math.isnan(window.begin):
            self._show_window(store, window, 0)
            self._measure(store)

    def _measure(self, store: LiveStore) -> None:
        """Measure what is shown, between the cursors where there are two."""
        window, told = self._window, self.session.description
        if window is None or told is None or math.isnan(window.begin):
            return
        between = next((p.between for p in self.panes.seen if p.between is not None), None)
        begin, end = (window.zero + between[0], window.zero + between[1]) if between is not None else (window.begin, window.end)
        self._show_table((begin, end))
        bars = []
        for head in headroom_of(store, window.begin, window.end, told, held=self.session.held):
            limit = f"{head.limit * RPM_PER_RAD_S:.4g} rpm" if head.channel.unit == "rad/s" else show(head.limit, head.channel.unit, 3)
            bars.append(Bar(titled(head.channel.name), head.now / head.limit, head.most / head.limit, f"{100 * head.now / head.limit:.0f} % of {limit}"))
        self.bars.show_bars(bars)

    def _show_table(self, stretch: tuple[float, float] | None) -> None:
        """Show every channel, and of those that are shown what they are over a stretch [s]."""
        store = self.source.store
        if store is None:
            self.table.show_rows(())
            return
        chosen = self._chosen(store)
        t, x = store.stretch(*(stretch or (0.0, -1.0)), chosen)
        rows = []
        for place, channel in enumerate(store.channels):
            figures = ["", "", "", ""]
            if place in chosen and stretch is not None:
                found = measure(t, x[chosen.index(place)])
                figures = [*(self.panes.written(channel.name, v) for v in (found.mean, found.rms, found.high - found.low)), show(found.hertz, "Hz", 3) if found.hertz else ""]
            name = Cell(titled(channel.name), size=12, ticked=channel.name in self.chosen, tip=f"{titled(channel.name)}: {store.entries[channel.entry].text}".rstrip(": "))
            rows.append([name, *(Cell(f, size=12, right=True) for f in figures)])
        self.table.show_rows(rows)
