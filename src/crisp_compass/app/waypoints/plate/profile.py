"""What a motor profile would change on the open bench, before anything is taken over."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.widgets.parts import Text
from crisp_compass.app.widgets.table import Cell, Table
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
        self.table = Table("Figures that differ", ("figure", "this bench", profile.name))
        self.table.show_rows([_row(item) for item in self._found])
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Take over ticked")
        buttons.button(QDialogButtonBox.StandardButton.Ok).setObjectName("main")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        text = Text(
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
        return {self._found[row].key for row in self.table.ticked()}


def _row(item: Difference) -> tuple[Cell, ...]:
    topic, _, name = item.key.partition(".")
    shown = (name if topic == "plate" else f"{name}, measured").replace("_", " ")
    unit = item.unit or _UNITS.get(name, "")
    first = Cell(shown, ticked=not item.measured)
    return (first, Cell(_text(item.here, unit)), Cell(_text(item.there, unit), "magenta"))


def _text(value: str | float | None, unit: str) -> str:
    if value is None:
        return "–"
    if isinstance(value, str):
        return value
    return show(float(value), unit, 4) if unit else f"{value:g}"
