"""Mapping a foreign instrument's channels to signal names, with sign, scale and offset."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QGridLayout,
    QLabel,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.page.debug_output import DebugRow
from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.parts import Text, label
from crisp_compass.app.widgets.sparkline import Sparkline
from crisp_compass.capture.dialect import number
from crisp_compass.capture.mapping import ColumnMapping, probe_factor, propose_channels
from crisp_compass.capture.preview import preview
from crisp_compass.capture.signals import SIGNALS
from crisp_compass.course.channels import by_signal
from crisp_compass.errors import Refusal
from crisp_compass.files import shortened
from crisp_compass.quantities import find_unit

_NONE = "– not in this file –"


@dataclass
class _Row:
    """The fields of one signal."""

    box: QComboBox
    curve: Sparkline
    said: QLabel
    flip: QCheckBox
    scale: Line
    offset: Line


class MappingDialog(QDialog):
    """One row a wanted signal: which channel it is and how that looks, whether to flip it, the probe's scale and what it reads at zero.

    ``before`` are the mappings that stand, where it is opened again; ``scales`` what probes were given on other legs, by channel.
    """

    def __init__(
        self,
        parent: QWidget,
        path: Path,
        wanted: tuple[str, ...],
        why: str,
        *,
        before: tuple[str, ...] = (),
        scales: Mapping[str, tuple[str, float]] | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Which channel is which in {path.name}?")
        self._rows: dict[str, _Row] = {}
        try:
            self._channels = {c.name: c for c in preview(path)}
        except (Refusal, OSError):
            self._channels = {}
        self._scales, names = scales or {}, tuple(self._channels)
        self._units = {n: c.unit for n, c in self._channels.items()}
        self.usable = len(names) > 1
        grid = QGridLayout()
        for place, text in enumerate(("signal", "channel in the file", "", "range in the file", "flip", "scale", "reads at zero")):
            grid.addWidget(label(text, "label"), 0, place)
        standing = by_signal(before)
        proposed = propose_channels(wanted, names, tuple(self._units.values()), {n: c.look for n, c in self._channels.items()})
        for line, signal in enumerate(("t", *wanted), 1):
            row = self._rows[signal] = _Row(QComboBox(), Sparkline(), label("", "info"), QCheckBox(), scale=Line(), offset=Line())
            row.box.setAccessibleName(f"channel for {signal}")
            row.box.addItem(_NONE, "")
            for name, unit in self._units.items():
                row.box.addItem(f"{name} [{unit}]" if unit else name, name)
            stands = standing.get(signal)
            chosen = "" if before and stands is None and signal != "t" else proposed.get(signal, "")
            row.box.setCurrentIndex(max(row.box.findData(stands.source if stands else chosen), 0))
            row.box.currentIndexChanged.connect(lambda _i, s=signal: self._show_channel(s))
            row.said.setMinimumWidth(170)
            row.flip.setAccessibleName(f"flip the sign of {signal}")
            row.scale.setAccessibleName(f"scale of {signal}")
            row.scale.setPlaceholderText("1, or 10 A/V" if SIGNALS.get(signal) == "A" else "1")
            row.offset.setAccessibleName(f"what {signal} reads at zero, in the channel's unit")
            row.offset.setPlaceholderText("0")
            row.scale.setFixedWidth(110)
            row.offset.setFixedWidth(90)
            if stands is not None:
                row.flip.setChecked(stands.factor < 0)
                # one as well: a channel in another unit than its signal needs a scale
                row.scale.setText("" if signal == "t" and stands.factor == 1 else f"{abs(stands.factor):.12g}")
                row.offset.setText(f"{stands.offset:.12g}" if stands.offset else "")
            for place, widget in enumerate(
                (Text(signal), row.box, row.curve, row.said, row.flip, row.scale, row.offset)
            ):
                grid.addWidget(widget, line, place)
            self._show_channel(signal, keep=stands is not None)
        intro = Text(
            f"{why} Choose the channel of each signal; a probe's scale is written like 10 A/V or 100 mV/A."
        )
        intro.setWordWrap(True)
        self._error = label("", "stop")
        self._error.setWordWrap(True)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Apply mapping")
        buttons.accepted.connect(self._check)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(intro)
        column.addLayout(grid)
        self.debug = DebugRow(wanted, self._use_debug)
        column.addWidget(self.debug)
        column.addWidget(self._error)
        column.addWidget(buttons)
        self.setMinimumWidth(820)

    def _show_channel(self, signal: str, *, keep: bool = False) -> None:
        """Show how the chosen channel looks; a probe's scale that it was given before is offered where the signal has the same unit."""
        row = self._rows[signal]
        channel = self._channels.get(row.box.currentData())
        row.curve.show_values(channel.values if channel else np.empty(0), channel.range_text if channel else "no channel")
        row.said.setText(channel.range_text if channel else "")
        known = self._scales.get(row.box.currentData() or "")
        if known is not None and not keep and known[0] == SIGNALS.get(signal) and not row.scale.text():
            row.scale.setText(f"{known[1]:.12g}")

    def _use_debug(self, signal: str, per_volt: float, zero: float) -> None:
        """Take over what a debug output stands for."""
        row = self._rows[signal]
        row.flip.setChecked(per_volt < 0)
        row.scale.setText(f"{abs(per_volt):.9g} {SIGNALS[signal]}/V")
        found = find_unit(self._units.get(row.box.currentData() or "") or "V")
        own = zero / found[1] if found is not None and found[0].dimension == "voltage" else zero  # the channel's own unit
        row.offset.setText(f"{own:.9g}" if own else "")

    def _check(self) -> None:
        try:
            for text in self.mappings():
                ColumnMapping.parse(text)
        except Refusal as refusal:
            self._error.setText(Refusal(refusal.problem, refusal.remedy).sentence)
            return
        self.accept()

    def choose(self, signal: str, channel: str, *, flip: bool = False, scale: str = "", offset: str = "") -> None:
        """Set one row, as a person would."""
        row = self._rows[signal]
        row.box.setCurrentIndex(max(row.box.findData(channel), 0))
        row.flip.setChecked(flip)
        row.scale.setText(scale)
        row.offset.setText(offset)

    def mappings(self) -> tuple[str, ...]:
        """Return the chosen mappings in text form; raises Refusal where a scale or an offset is not understood."""
        result = []
        for signal, row in self._rows.items():
            source = row.box.currentData()
            if not source:
                continue
            try:
                unit = "s" if signal == "t" else SIGNALS[signal]
                factor = probe_factor(row.scale.text(), self._units[source] or "", unit)
                offset = number(row.offset.text() or "0")
                if offset is None:
                    raise Refusal(
                        f"“{shortened(row.offset.text())}” is no reading", "write what the channel reads at zero"
                    )
            except Refusal as refusal:
                raise Refusal(f"{signal}: {refusal.problem}", refusal.remedy) from None
            scaled = f"*{factor:.12g}" if factor != 1 or offset else ""
            shifted = f"@{offset:.12g}" if offset else ""
            result.append(f"{signal}={'-' if row.flip.isChecked() else ''}{source}{scaled}{shifted}")
        return tuple(result)
