"""What a motor profile would change on the open bench, before anything is taken over."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHeaderView,
    QLabel,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.theme import THEME
from crisp_compass.bench.models import Profile
from crisp_compass.bench.profile import Difference
from crisp_compass.quantities import show

_UNITS = {
    "rated_current": "A", "top_speed": "rad/s", "inertia": "kg·m²", "viscous": "N·m·s/rad", "coulomb": "N·m", "kv": "rpm/V",
    "kt": "N·m/A", "r": "Ω", "inductance": "H", "rated_power": "W", "rated_speed": "rad/s", "rated_torque": "N·m",
    "rated_voltage": "V", "stall_current": "A", "no_load_speed": "rad/s", "no_load_current": "A", "mains_hz": "Hz",
    "holding_torque": "N·m", "v1": "V", "v2": "V", "i1": "A", "i2": "A", "n1": "rad/s", "n2": "rad/s",
}  # fmt: skip


class ProfileDialog(QDialog):
    """A row for every figure that differs; a tick takes it over. Measured constants start without one."""

    def __init__(self, parent: QWidget, profile: Profile, found: Sequence[Difference]) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Start from {profile.name}")
        self._found = list(found)
        self.table = QTableWidget(len(found), 3)
        self.table.setHorizontalHeaderLabels(["figure", "this bench", profile.name])
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.setAccessibleName("Figures that differ")
        for row, item in enumerate(self._found):
            topic, _, name = item.key.partition(".")
            shown = name if topic == "plate" else f"{name}, measured"
            first = QTableWidgetItem(shown.replace("_", " "))
            first.setFlags(Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
            first.setCheckState(Qt.CheckState.Unchecked if item.measured else Qt.CheckState.Checked)
            self.table.setItem(row, 0, first)
            for column, value in ((1, item.here), (2, item.there)):
                cell = QTableWidgetItem(_text(value, item.unit or _UNITS.get(name, "")))
                cell.setFlags(Qt.ItemFlag.ItemIsEnabled)
                if column == 2:
                    cell.setForeground(THEME.color("magenta"))
                self.table.setItem(row, column, cell)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Take over ticked")
        buttons.button(QDialogButtonBox.StandardButton.Ok).setObjectName("main")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        text = QLabel(
            f"{profile.name} differs from this bench in {len(found)} figure{'s' if len(found) != 1 else ''}. "
            "A similar motor is a start: measured constants come marked as such and are to be measured again."
        )
        text.setWordWrap(True)
        layout = QVBoxLayout(self)
        layout.addWidget(text)
        layout.addWidget(self.table, 1)
        layout.addWidget(buttons)
        self.resize(640, 460)

    def chosen(self) -> set[str]:
        """Return the keys that are ticked."""
        cells = [self.table.item(row, 0) for row in range(len(self._found))]
        return {
            item.key
            for item, cell in zip(self._found, cells, strict=True)
            if cell is not None and cell.checkState() == Qt.CheckState.Checked
        }


def _text(value: str | float | None, unit: str) -> str:
    if value is None:
        return "–"
    if isinstance(value, str):
        return value
    return show(float(value), unit, 4) if unit else f"{value:g}"
