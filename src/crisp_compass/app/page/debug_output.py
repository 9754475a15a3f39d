"""The row of a mapping that works out what a firmware's analogue debug output stands for."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.parts import Text, label
from crisp_compass.capture.debug_output import DebugOutput
from crisp_compass.capture.dialect import number
from crisp_compass.capture.signals import SIGNALS
from crisp_compass.errors import Refusal


class DebugRow(QWidget):
    """Two voltages and what stands there; ``use`` is told the signal, what one volt is, and the voltage of zero."""

    def __init__(self, signals: Sequence[str], use: Callable[[str, float, float], None]) -> None:
        super().__init__()
        self._use = use
        self.signal = QComboBox()
        self.signal.setAccessibleName("signal of the debug output")
        for name in signals:
            if SIGNALS.get(name) != "logic":
                self.signal.addItem(name, name)
        self.ends = [Line(t) for t in ("0", "", "3.3", "")]
        for line, name in zip(self.ends, ("lower voltage", "what stands there", "upper voltage", "what stands at the upper"), strict=True):
            line.setAccessibleName(name)
            line.setFixedWidth(64)
            line.textChanged.connect(self._show)
        self.asked = Line("")
        self.asked.setPlaceholderText("1.9 V, or 5 A")
        self.asked.setAccessibleName("a voltage or a quantity to convert")
        self.asked.setFixedWidth(120)
        self.asked.textChanged.connect(self._show)
        self.take = QPushButton("Use")
        self.take.setAutoDefault(False)
        self.take.clicked.connect(self._on_use)
        self._unit: list[QLabel] = [Text(""), Text("")]
        self.said = label("", "info")
        self.said.setWordWrap(True)
        row = QHBoxLayout()
        for widget in (Text("A debug output of the firmware:"), self.signal, self.ends[0], Text("V is"), self.ends[1], self._unit[0], self.ends[2], Text("V is"), self.ends[3], self._unit[1], self.take):
            row.addWidget(widget)
        row.addStretch(1)
        row.addWidget(self.asked)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(row)
        column.addWidget(self.said)
        self.signal.currentIndexChanged.connect(self._show)
        self.setVisible(self.signal.count() > 0)
        self._show()

    def _output(self) -> DebugOutput:
        values = [number(line.text()) if line.text().strip() else math.nan for line in self.ends]
        a, b, c, d = (math.nan if v is None else v for v in values)
        return DebugOutput((a, b), (c, d), SIGNALS.get(str(self.signal.currentData()), ""))

    def _show(self) -> None:
        unit = SIGNALS.get(str(self.signal.currentData()), "")
        for text in self._unit:
            text.setText(unit)
        self.take.setEnabled(False)
        if not (self.ends[1].text().strip() or self.ends[3].text().strip()):
            self.said.setText("")
            return
        try:
            output = self._output()
            told = output.told(self.asked.text()) if self.asked.text().strip() else ""
        except Refusal as refusal:
            self.said.setText(refusal.sentence)
            return
        self.take.setEnabled(True)
        self.said.setText(f"{output.text}{'; ' if told else ''}{told}")

    def _on_use(self) -> None:
        output = self._output()
        self._use(str(self.signal.currentData()), output.per_volt, output.zero)
