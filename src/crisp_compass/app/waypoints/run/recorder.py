"""A run kept as a capture that every leg reads."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.capture import write_capture
from crisp_compass.capture.signals import SIGNALS
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.motor import family_of, three_phases, turns_field

#: Longest recording, s.
MOST_S = 120.0


class Recorder(QPushButton):
    """Pressed it keeps what a run tells; ``ended`` brings it, signals of the capture format with time from 0, once it is let go or full."""

    ended = Signal(object)

    def __init__(self) -> None:
        super().__init__("Record")
        self.setCheckable(True)
        self.setToolTip(f"Keeps what the run tells, up to {MOST_S:g} s; pressed again it becomes a capture that every leg reads")
        self.toggled.connect(self._on_toggled)
        self._parts: list[dict[str, FloatArray]] = []

    @property
    def seconds(self) -> float:
        """Time that is kept so far, s."""
        return float(self._parts[-1]["t"][-1] - self._parts[0]["t"][0]) if self._parts else 0.0

    def add(self, trace: Mapping[str, FloatArray]) -> None:
        """Take telemetry, if it is pressed; another run's clock begins it anew."""
        if not self.isChecked() or not len(trace["t"]):
            return
        if self._parts and trace["t"][0] < self._parts[-1]["t"][-1]:
            self._parts = []
        told = {**trace, "speed": trace["speed_seen"]} if "speed_seen" in trace else trace  # as a drive tells it, not as only a simulation knows
        self._parts.append({k: np.asarray(v, dtype=np.float64) for k, v in told.items() if k == "t" or k in SIGNALS})
        self.setText(f"Recorded {self.seconds:.0f} s")
        if self.seconds >= MOST_S:
            self.setChecked(False)

    def forget(self) -> None:
        """Drop what is kept: something else is run."""
        self._parts = []
        blocked = self.blockSignals(True)
        self.setChecked(False)
        self.blockSignals(blocked)
        self.setText("Record")

    def _on_toggled(self, on: bool) -> None:
        if on:
            self._parts = []
            self.setText("Recording")
            return
        self.setText("Record")
        parts, self._parts = self._parts, []
        names = set.intersection(*(set(p) for p in parts)) if parts else set()
        columns = {k: np.concatenate([p[k] for p in parts]) for k in names}
        columns = {k: v for k, v in columns.items() if np.isfinite(v).all()}
        if "t" in columns:
            columns["t"] = columns["t"] - columns["t"][0]
        self.ended.emit(columns)


def save_run(bench: Bench, columns: Mapping[str, FloatArray], path: Path | None, *, simulated: bool) -> str:
    """Write what was recorded as a capture of the bench's motor and return what to say; raises Refusal where there is nothing, or nowhere to write."""
    if path is None or len(columns.get("t", ())) < 2 or len(columns) < 2:
        raise Refusal("nothing was recorded", "start the drive, record, and let some of it pass")
    family = family_of(bench).captures
    if not turns_field(bench):  # one current and one voltage, which the simulation keeps as those across its one direction
        known = {"i_m": columns.get("i_q"), "v_m": columns.get("v_q"), **{k: columns.get(k) for k in ("speed", "speed_ref", "v_bus", "torque", "angle")}}
        columns = {"t": columns["t"], **{k: v for k, v in known.items() if v is not None}}
    elif not three_phases(bench):
        columns = {k: v for k, v in columns.items() if k != "i_c"}
    notes = {"origin": "a run of the simulated drive" if simulated else "a run of a drive on the link", "family": family}
    if simulated:
        notes |= {k: f"{q.value:.9g}" for k in ("kp", "ki") if (q := settled_value(bench, f"speed_loop.{k}")) is not None}
    try:
        write_capture(path, columns["t"], {k: v for k, v in columns.items() if k != "t"}, notes)
    except OSError as error:
        raise Refusal(f"{path.name} cannot be written ({error.strerror})", "choose another folder") from None
    return f"{columns['t'][-1]:.1f} s saved as {path.name}: drop it on a leg, or replay it here"
