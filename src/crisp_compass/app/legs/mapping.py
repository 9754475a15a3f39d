"""Mapping a foreign instrument's channels to signal names, with sign and factor."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QGridLayout,
    QLabel,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.widgets.parts import label
from crisp_compass.capture.dialect import detect, number
from crisp_compass.capture.mapping import ColumnMapping
from crisp_compass.errors import Refusal

_NONE = "– not in this file –"


class MappingDialog(QDialog):
    """One row a wanted signal: which channel it is, whether to flip it, and the probe's factor."""

    def __init__(self, parent: QWidget, path: Path, wanted: tuple[str, ...], why: str) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Which channel is which in {path.name}?")
        self._rows: dict[str, tuple[QComboBox, QCheckBox, QLineEdit]] = {}
        try:
            dialect = detect(path)
            names, units = dialect.names, dialect.units
        except (Refusal, OSError):
            names, units = (), ()
        self.usable = len(names) > 1
        grid = QGridLayout()
        for place, text in enumerate(("signal", "channel in the file", "flip", "times")):
            grid.addWidget(label(text, "label"), 0, place)
        free = list(names[1:])
        for row, signal in enumerate(("t", *wanted), 1):
            box = QComboBox()
            box.setAccessibleName(f"channel for {signal}")
            box.addItem(_NONE, "")
            for name, unit in zip(names, units, strict=True):
                box.addItem(f"{name} [{unit}]" if unit else name, name)
            guess = (
                names[0]
                if signal == "t" and names
                else (signal if signal in names else (free.pop(0) if free else ""))
            )
            box.setCurrentIndex(max(box.findData(guess), 0))
            flip = QCheckBox()
            flip.setAccessibleName(f"flip the sign of {signal}")
            factor = QLineEdit("1")
            factor.setAccessibleName(f"factor for {signal}")
            factor.setFixedWidth(80)
            grid.addWidget(QLabel(signal), row, 0)
            grid.addWidget(box, row, 1)
            grid.addWidget(flip, row, 2)
            grid.addWidget(factor, row, 3)
            self._rows[signal] = (box, flip, factor)
        intro = QLabel(why + " Say which channel is which; a factor is for probes, for example 10 A per volt.")
        intro.setWordWrap(True)
        self._error = label("", "stop")
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Read it so")
        buttons.accepted.connect(self._check)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(intro)
        column.addLayout(grid)
        column.addWidget(self._error)
        column.addWidget(buttons)
        self.setMinimumWidth(560)

    def _check(self) -> None:
        try:
            for signal, (_, _, factor) in self._rows.items():
                if number(factor.text() or "1") is None:
                    raise Refusal(f"the factor “{factor.text()}” of {signal} is not a number")
            for text in self.mappings():
                ColumnMapping.parse(text)
        except Refusal as refusal:
            self._error.setText(refusal.sentence)
            return
        self.accept()

    def choose(self, signal: str, channel: str, *, flip: bool = False, factor: str = "1") -> None:
        """Set one row, as a person would."""
        box, check, edit = self._rows[signal]
        box.setCurrentIndex(max(box.findData(channel), 0))
        check.setChecked(flip)
        edit.setText(factor)

    def mappings(self) -> tuple[str, ...]:
        """Return the chosen mappings in text form."""
        result = []
        for signal, (box, flip, factor) in self._rows.items():
            source = box.currentData()
            if source:
                times = factor.text().strip()
                result.append(
                    f"{signal}={'-' if flip.isChecked() else ''}{source}"
                    + (f"*{times}" if times not in ("", "1") else "")
                )
        return tuple(result)
