"""Drive, scope: what happens within the drive, in its own sampling period?"""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
from PySide6.QtWidgets import QCheckBox, QPushButton

from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.document import Document
from crisp_compass.app.waypoints.drive.panes import Panes, Shown
from crisp_compass.app.waypoints.drive.watched import CommandedPage
from crisp_compass.app.widgets.flow import FlowRow
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.parts import label
from crisp_compass.capture import write_capture
from crisp_compass.capture.signals import SIGNALS
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.running import DRIVE_MOVES
from crisp_compass.drive.conversation import Occupied
from crisp_compass.drive.description import Scope
from crisp_compass.drive.hand import Hand
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray


def _crossing(values: FloatArray, level: float, *, rising: bool) -> int:
    """Return the first row behind a crossing; fewer rows than were wanted may lie before it, where it came early."""
    over = values >= level if rising else values <= level
    return int(np.argmax(over[1:] & ~over[:-1])) + 1 if len(over) > 1 else 0


_ROWS, _PATIENCE_S = 2000, 30.0


class ScopePage(CommandedPage):
    """Channels of the drive's capture memory, a trigger with what was before it, plots by unit with cursors, saved as a capture."""

    key = "drive"
    section = "Scope"
    question = "What happens within the drive, in its own sampling period?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._scope: Scope | None = None
        self._taken: dict[str, FloatArray] = {}
        self.panes = Panes("in the drive")
        self.column.addWidget(self.panes, 1)
        self.choices: dict[str, QCheckBox] = {}
        self._row = FlowRow()
        self._row.add(label("Channels", "info"))
        self.add_row(self._row)
        self.span = NumberField("Time", "s", width=96)
        self.span.show_value(0.2)
        self.trigger = Choice("Trigger", {"": "at once"}, width=130)
        self.edge = Choice("Edge", {"rising": "rising", "falling": "falling"}, width=100)
        self.level = NumberField("Level", "", width=96)
        self.level.setToolTip("In the channel's own unit, speeds in rpm")
        self.level.show_value(0.0)
        self.before = NumberField("Before it", "s", width=96)
        self.before.show_value(0.02)
        self.save = QPushButton("Save capture…")
        self.save.clicked.connect(self._on_save)
        self.add_fields(self.span, self.before, self.level)
        for widget in (self.trigger, self.edge):
            self.field_row.add(widget)
        self.field_row.add(self.speed)
        self.finish("Take", self.save, self.arm, self.stop)

    # ---- what is asked

    def on_main(self) -> None:
        """Take a capture while the drive goes on doing what it does."""
        self.attempt(self._take)

    def _take(self) -> None:
        scope = self._scope
        chosen = [n for n, b in self.choices.items() if b.isChecked() or n == self.trigger.box.currentData()]
        if scope is None or not chosen:
            raise Refusal("no channel is chosen", "choose some")
        on, rising = str(self.trigger.box.currentData() or "") or None, self.edge.box.currentData() == "rising"
        span, level, before = (w.value or 0.0 for w in (self.span, self.level, self.before))
        if not (math.isfinite(span) and scope.period_s < span <= 100.0):
            raise Refusal(f"a time of {span:g} s cannot be captured", f"choose {scope.period_s:g} to 100 s")
        unit, signal = next(((c.unit, c.signal or c.name) for c in scope.channels if c.name == on), ("", ""))
        every = max(1, math.ceil(span / scope.period_s / _ROWS))
        rows = max(round(span / scope.period_s / every), 2)
        kept = round(min(max(before, 0.0), 0.9 * span) / scope.period_s / every) if on else 0
        threshold = level / RPM_PER_RAD_S if unit == "rad/s" else level

        def work(hand: Hand, busy: Occupied) -> None:
            hand.trigger_on(on, threshold, rising=rising, before=kept)
            try:
                hand.open_scope(chosen, rows, every)
                found = hand.close_scope(_PATIENCE_S if on else 0.0)
                at = _crossing(found[signal], threshold, rising=rising) if on else 0
                busy.tell({k: v - found["t"][at] if k == "t" else v for k, v in found.items()})
            finally:
                hand.trigger_on(None)

        self.session.occupy(work, alone=False)
        self.began()

    def _on_save(self) -> None:
        known = {k: v for k, v in self._taken.items() if k in SIGNALS}
        if not known:
            self.refuse(Refusal("there is nothing to save yet", "take a capture first"))
            return
        path = ask_save_path(self, "Save as a capture", self.document.base / "scope.csv", "Captures (*.csv)", suffixes=(".csv",))
        if path is None:
            return
        t = self._taken["t"]
        notes = {"recorded from": self.session.description.name if self.session.description else "a drive"}
        if self._scope is not None and t[1] - t[0] < 1.5 * self._scope.period_s:  # where periods are left out, a row tells of one of them only
            notes["voltages"] = "means over the sampling period"
        try:
            write_capture(path, t - t[0], known, notes)
        except OSError as error:
            self.refuse(Refusal(f"{path.name} cannot be written ({error.strerror})", "choose another folder"))
            return
        self.done.emit(f"{len(t)} rows saved as {path.name}")

    # ---- what comes back

    def take(self, told: object) -> None:
        """Take a capture."""
        if isinstance(told, Mapping):
            self._taken = dict(told)

    # ---- what is shown

    def refresh(self) -> None:
        session = self.session
        connected = session.state == "connected" and session.description is not None
        scope = session.description.scope if connected and session.description is not None else None
        if scope != self._scope:
            self._offer(scope)
        assert self.main_button is not None
        self.main_button.setEnabled(scope is not None and not session.busy)
        self.save.setEnabled(bool(self._taken))
        self.findings.show_findings((DRIVE_MOVES,) if connected else ())
        self.stop.setEnabled(connected)
        self.follow_arming()
        self._draw()
        if not connected:
            self.answer.show_answer("Not connected", "connect to a drive first", session.why, stale=True)
        elif scope is None:
            self.answer.show_answer("No capture memory", "the description names no scope: Save strip on Connect keeps telemetry instead", stale=True)
        elif self.mine:
            self.answer.show_answer("Waits for the trigger" if self.trigger.box.currentData() else "Takes", "the drive goes on meanwhile")
        elif self.why:
            self.answer.show_answer("Nothing taken", "", self.why, stale=True)
        elif self._taken:
            t = self._taken["t"]
            self.answer.show_answer(f"{len(t)} rows", f"{(t[1] - t[0]) * 1e6:.4g} µs apart; C shows two cursors, F fits")
        else:
            self.answer.show_answer("Nothing taken yet", f"{len(scope.channels)} channels every {scope.period_s * 1e6:.4g} µs; it may run meanwhile")

    def _offer(self, scope: Scope | None) -> None:
        """Show the channels of a drive's memory."""
        self._scope, self._taken = scope, {}
        for widget in self.choices.values():
            widget.hide()
            widget.deleteLater()
        self.choices = {}
        wanted = ("i_a", "i_m", "i_q", "speed", "speed_ref")
        for channel in scope.channels if scope is not None else ():
            widget = QCheckBox(channel.name.replace("_", " "))
            widget.setChecked(channel.name in wanted)
            self.choices[channel.name] = widget
            self._row.add(widget)
        plain = [c.name for c in (scope.channels if scope is not None else ()) if not c.bits and not c.wraps]
        self.trigger.set_options({"": "at once", **{n: n.replace("_", " ") for n in plain}}, "")

    def _draw(self) -> None:
        """Show what was taken."""
        shown = []
        for channel in self._scope.channels if self._scope is not None else ():
            unit = {"deg": "rad", "rpm": "rad/s"}.get(channel.unit, channel.unit)
            shown += [Shown(n, unit, bool(channel.bits)) for n in channel.bits or (channel.signal or channel.name,) if n in self._taken]
        self.panes.show_channels(shown)
        for channel_shown in shown:
            self.panes.set(channel_shown.name, self._taken["t"], self._taken[channel_shown.name])
        if shown:
            self.panes.fit()
