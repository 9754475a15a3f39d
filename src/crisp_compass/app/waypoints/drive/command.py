"""Drive, command: what does a command ask for, and does the drive read it so?"""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QPushButton, QTableWidgetItem, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.settings.command import CommandPoint
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.drive.command_scale import (
    FIELDS,
    SOURCES,
    Scale,
    findings_of,
    highest,
    judge_points,
    lost,
    mended,
    ramp_of,
    scale_of,
    truth_table,
)
from crisp_compass.errors import Refusal
from crisp_compass.quantities import parse

_VERDICTS = {"agrees": "The points lie on it", "span": "The span is wrong", "offset": "The offset is wrong", "both": "Both ends are wrong", "noise": "The points scatter"}
_MOST_POINTS = 24


class CommandPage(Page):
    """Source, span and speeds; the line with points that were read; what is wrong with them, and what happens without a signal."""

    key = "drive"
    section = "Command"
    question = "What does a command ask for, and does the drive read it so?"
    has_dial = False
    fields = (
        Pick("command.source", "Source", SOURCES, width=130),
        Entry("command.volts_low", "Low end", "V", width=84, group="Volts"), Entry("command.volts_high", "high end", "V", width=84, group="Volts"),
        Entry("command.amps_low", "Low end", "A", width=84, group="Current loop"), Entry("command.amps_high", "high end", "A", width=84, group="Current loop"),
        Entry("command.hertz_low", "Low end", "Hz", width=84, group="Frequency"), Entry("command.hertz_high", "high end", "Hz", width=84, group="Frequency"),
        Entry("command.duty_low", "Low end", width=84, plain=True, group="Duty"), Entry("command.duty_high", "high end", width=84, plain=True, group="Duty"),
        Entry("command.speed_low", "Speed, low", "rpm", width=96), Entry("command.speed_high", "high", "rpm", width=96, group="Speed"),
        Entry("command.bits", "Converter bits", width=100, plain=True), Entry("command.dead_band", width=84, plain=True, tip="share of the span around standstill"),
        Entry("command.ramp_time", "Ramp", "s", width=76), Entry("command.ramp_speed", "over", "rpm", width=96, group="Ramp"),
        Entry("command.safe_speed", "Machine's safe speed", "rpm", width=130), Entry("command.gear", "Motor turns for one", width=120, plain=True),
        Pick("command.enable", "Enable", {"edge": "anew after power", "level": "by level"}, width=140),
    )  # fmt: skip

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.line = Plot(("command", "V"), ("speed", "rpm"), name="what the command asks for")
        self.line.curve("line", "magenta", width=2.0, title="asked for")
        self.line.curve("points", "ink", width=0.0, symbol="o", size=8, title="read")
        self.line.curve("safe", "ochre", width=1.2, dash="dash", title="safe speed")
        self.rows = Rows("The command", width=340)
        self.column.addWidget(beside(QWidget(), (self.line,), (self.rows,)), 3)
        self.table = Table("Points that were read", ("Command", "Asks for", "Read at the shaft", "Difference", "Ratio"), row_height=26)
        self.table.setMinimumHeight(170)
        self.table.itemChanged.connect(self._on_typed)
        self.column.addWidget(self.table, 2)
        self.clear = QPushButton("Drop the points")
        self.clear.clicked.connect(lambda: self.document.set_field("command", "points", ()))
        self.finish("", self.clear)

    # ---- what is typed

    def _on_typed(self, item: QTableWidgetItem) -> None:
        if item.column() in (0, 2):
            self.attempt(lambda: self._take(item.row(), item.column(), item.text().strip().replace("−", "-")))
            self.show_document()

    def _take(self, row: int, column: int, text: str) -> None:
        """Take a command or a speed of a point; an emptied command drops it."""
        scale, points = scale_of(self.document.bench), [(p.command, p.speed) for p in self.document.bench.settings.command.points]
        if column == 0 and not text:
            if row < len(points):
                del points[row]
        else:
            value = _typed(text, scale) if column == 0 else parse(text, "rpm")
            if row >= len(points) and len(points) >= _MOST_POINTS:
                raise Refusal(f"{_MOST_POINTS} points are the most", "drop some first")
            old = points[row] if row < len(points) else (math.nan, math.nan)
            new = (value, scale.speed(value) if math.isnan(old[1]) else old[1]) if column == 0 else (scale.low if math.isnan(old[0]) else old[0], value)
            points = [*points[:row], new, *points[row + 1 :]]
        self.document.set_field("command", "points", tuple(CommandPoint(command=x, speed=y) for x, y in points))

    # ---- what is shown

    def refresh(self) -> None:
        bench = self.document.bench
        s = bench.settings.command
        for source, prefix in {"volts": "volts", "current": "amps", "frequency": "hertz", "duty": "duty"}.items():
            for end in ("low", "high"):
                self._fields[f"command.{prefix}_{end}"].setVisible(FIELDS[s.source] == FIELDS[source])
        self._fields["command.bits"].setVisible(s.source != "frequency")
        scale = scale_of(bench)
        points = [(p.command, p.speed) for p in s.points]
        judged = judge_points(scale, points)
        self._draw(scale)
        text = f"{scale.shown(scale.low)} to {scale.shown(scale.high)}"
        speeds = f"{scale.slow * RPM_PER_RAD_S:,.0f} to {scale.fast * RPM_PER_RAD_S:,.0f} rpm".replace(",", "\u202f").replace("-", "−")
        if judged.verdict == "none":
            self.answer.show_answer(speeds, text, "" if not s.points else f"To judge the points: {judged.text}.")
        else:
            self.answer.show_answer(_VERDICTS[judged.verdict], judged.text, stale=judged.verdict != "agrees")
        self.findings.show_findings(tuple(findings_of(bench, scale)))
        per_step = scale.step / abs(scale.high - scale.low) * abs(scale.fast - scale.slow)
        ramp = ramp_of(bench, scale)
        rows = [("one step", f"{scale.shown(scale.step)}, {_rpm(per_step)}" if scale.step else "by its counter")]
        if s.dead_band:
            rows.append(("stands within", f"±{_rpm(s.dead_band * abs(scale.fast - scale.slow))}"))
        rows.append(("ramp", "none" if math.isinf(ramp) else f"{ramp * RPM_PER_RAD_S:.4g} rpm/s"))
        beyond = highest(bench, scale)
        if s.safe_speed is not None:
            rows.append(("highest command", scale.shown(beyond) if beyond is not None else "all of it is safe"))
        if judged.verdict in ("span", "offset", "both"):
            low, high = mended(scale, judged)
            rows.append(("ends to enter in the drive", f"{_rpm(low)} and {_rpm(high)}"))
        rows += [(f"enable {enable}, {way}" if way != "either" else f"enable {enable}", what) for enable, way, what in truth_table(bench)]
        self.rows.show_rows(rows, note=_sentence(lost(scale)[0]))
        self.table.blockSignals(True)
        self.table.show_rows([*(self._cells(scale, x, y) for x, y in points), [Cell("", editable=True), *(Cell("") for _ in range(4))]])
        self.table.blockSignals(False)
        self.clear.setEnabled(bool(s.points))

    def _draw(self, scale: Scale) -> None:
        s = self.document.bench.settings.command
        factor = 100.0 if not scale.unit else 1.0
        x = np.linspace(scale.low, scale.high, 201)
        self.line.set("line", x * factor, np.array([scale.speed(float(v)) for v in x]) * RPM_PER_RAD_S)
        self.line.set("points", np.array([p.command for p in s.points]) * factor, np.array([p.speed for p in s.points]) * RPM_PER_RAD_S)
        safe = s.safe_speed * s.gear * RPM_PER_RAD_S if s.safe_speed is not None else math.nan
        self.line.set("safe", [] if math.isnan(safe) else [scale.low * factor, scale.high * factor], [] if math.isnan(safe) else [safe, safe])
        self.line.set_axes(("command", scale.unit or "%"), ("speed", "rpm"))
        self.line.fit()

    def _cells(self, scale: Scale, x: float, y: float) -> list[Cell]:
        asked = scale.speed(x)
        ratio = f"{y / asked:.4f}" if abs(asked) > 1e-9 else "–"
        return [
            Cell(scale.shown(x), editable=True, right=True), Cell(_tenth(asked), "soft", right=True), Cell(_tenth(y), editable=True, right=True, bold=True), Cell(_tenth(y - asked), right=True), Cell(ratio, right=True),
        ]  # fmt: skip


def _typed(text: str, scale: Scale) -> float:
    """Return a command as people write it: ``2.5``, ``12 mA``, ``40 %``."""
    if scale.unit:
        return parse(text, "mA" if scale.unit == "A" and text.replace(".", "").isdigit() else scale.unit)
    bare = text.removesuffix("%").strip()
    value = parse(bare, "")
    return value / 100.0 if text.endswith("%") or value > 1.0 else value


def _tenth(speed: float) -> str:
    return f"{speed * RPM_PER_RAD_S:.1f} rpm".replace("-", "−")


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}."


def _rpm(speed: float) -> str:
    return f"{speed * RPM_PER_RAD_S:.4g} rpm".replace("-", "−")
