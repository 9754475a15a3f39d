"""What a person sets for this machine, not for a bench: look, size, numbers, autosave, folder, what instruments are trusted to; kept between sessions."""

from __future__ import annotations

import math
import os
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QDialog, QFileDialog, QGridLayout, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from crisp_compass import quantities
from crisp_compass.app.autosave import AUTOSAVE_MS
from crisp_compass.app.theme import THEME
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.parts import button, label
from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.settings.instruments import InstrumentSettings

if TYPE_CHECKING:
    from crisp_compass.app.window import Window

#: Sizes that may be chosen, % of the usual one; each takes effect at the next start.
SIZES = (90, 100, 110, 125, 150, 175, 200)
_TRUSTED = {
    "v_gain": ("Voltage channel", "u of the gain of a voltage channel, over the reading"), "i_gain": ("Current channel", "u of the gain of a current channel, over the reading"),
    "meter_gain": ("Ohmmeter", "u of the gain of the ohmmeter, over the reading"), "speed_gain": ("Tachometer", "u of the gain of the tachometer, over the reading"),
}  # fmt: skip
_UNITS = ("m/min", "m/s", "mm/s", "ft/min", "km/h")


@dataclass(frozen=True)
class Preferences:
    """``size`` in %, ``autosave`` in s, ``unit`` of velocities and what instruments are trusted to (``v_gain`` …) for new benches, ``folder`` in which files are looked for first (empty: where it was started)."""

    theme: str = "light"
    size: int = 100
    thousands: bool = True
    autosave: float = AUTOSAVE_MS / 1000
    folder: str = ""
    unit: str = "m/min"
    v_gain: float = InstrumentSettings().v_gain
    i_gain: float = InstrumentSettings().i_gain
    meter_gain: float = InstrumentSettings().meter_gain
    speed_gain: float = InstrumentSettings().speed_gain


def read(settings: QSettings) -> Preferences:
    """Return what is kept; what cannot be read is as usual."""
    usual = Preferences()
    found: dict[str, Any] = {}
    for name, value in asdict(usual).items():
        kept = settings.value(name if name == "theme" else f"preferences/{name}")
        if kept is None:
            continue
        try:
            found[name] = str(kept).lower() in ("true", "1") if isinstance(value, bool) else type(value)(kept)
        except (TypeError, ValueError):
            continue
    made = replace(usual, **found)
    sane = math.isfinite(made.autosave) and 0.1 <= made.autosave <= 60
    gains = {k: getattr(made, k) if 0 <= getattr(made, k) <= 0.5 else getattr(usual, k) for k in _TRUSTED}
    return replace(made, size=made.size if made.size in SIZES else 100, theme=made.theme if made.theme in ("light", "night") else "light", autosave=made.autosave if sane else usual.autosave, unit=made.unit if made.unit in _UNITS else usual.unit, **gains)


def keep(settings: QSettings, chosen: Preferences) -> None:
    """Keep them for the next session."""
    for name, value in asdict(chosen).items():
        settings.setValue(name if name == "theme" else f"preferences/{name}", value)


def use_size(settings: QSettings, environment: Any = os.environ) -> None:
    """Let the whole window, its text with it, be of the chosen size; before there is an application, and unless the person's environment says a factor itself."""
    size = read(settings).size
    if size != 100 and "QT_SCALE_FACTOR" not in environment:
        environment["QT_SCALE_FACTOR"] = f"{size / 100:g}"


def apply(window: Window, chosen: Preferences) -> None:
    """Let a window follow them at once, all but the size."""
    quantities.set_off_thousands(on=chosen.thousands)
    window.document.prefer(seconds=chosen.autosave, folder=Path(chosen.folder) if chosen.folder else None, fresh=lambda bench: fresh_bench(bench, chosen))
    if THEME.name != chosen.theme:
        THEME.use(chosen.theme)
    window.menus.refresh()
    window.refresh()


def fresh_bench(bench: Bench, chosen: Preferences) -> Bench:
    """Return an empty bench as a person's benches begin."""
    usual = Preferences()
    gains = {k: getattr(chosen, k) for k in _TRUSTED if getattr(chosen, k) != getattr(usual, k)}
    made = enter(bench, "instruments", gains) if gains else bench
    return enter(made, "load_side", {"unit": chosen.unit}) if chosen.unit != usual.unit else made


class PreferencesDialog(QDialog):
    """The settings in one column; each is kept and at work as it is entered."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.setWindowTitle("Settings")
        self.setMinimumWidth(520)
        self._window = window
        self._chosen = read(window.settings)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(18)
        self._grid.setVerticalSpacing(8)
        self._grid.setColumnStretch(2, 1)
        p = self._chosen
        self.theme = self._choice("Look", {"light": "light", "night": "night"}, p.theme, lambda v: self._set(theme=v), note="Ctrl+T changes it, too")
        self.text_size = self._choice("Text size", {str(s): f"{s} %" for s in SIZES}, str(p.size), lambda v: self._set(size=int(v)), note="")
        self.thousands = self._choice("Numbers", {"True": "10\u202f000", "False": "10000"}, str(p.thousands), lambda v: self._set(thousands=v == "True"), note="from five digits on")
        self.autosave = self._number("Autosave after", "s", p.autosave, (0.1, 60.0), entered=lambda v: self._set(autosave=v), note="of the last change; what is not saved is offered after a crash")
        self.unit = self._choice("Velocities in", {u: u for u in _UNITS}, p.unit, lambda v: self._set(unit=v), note="at the load, for new benches")
        self.trusted = {k: self._number(title, "%", getattr(p, k), (0.0, 0.5), entered=lambda v, key=k: self._set(**{key: v}), note=f"{tip}; for new benches") for k, (title, tip) in _TRUSTED.items()}
        self.where = label("", "reason")
        self.folder = button("Choose…", "")
        self.folder.clicked.connect(self._ask_folder)
        row = QHBoxLayout()
        row.addWidget(self.where, 1)
        row.addWidget(self.folder)
        self._row("Folder of benches", None, "")
        self._grid.addLayout(row, self._grid.rowCount() - 1, 1, 1, 2)
        shut = button("Close", "main")
        shut.clicked.connect(self.accept)
        foot = QHBoxLayout()
        self.said = label("", "caution")
        self.said.setWordWrap(True)
        foot.addWidget(self.said, 1)
        foot.addWidget(shut)
        for key in (self.folder, shut):  # Enter in a field is that field's
            key.setAutoDefault(False)
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 16, 20, 16)
        column.addWidget(label("Kept on this machine; a bench keeps its own.", "reason"))
        column.addLayout(self._grid)
        column.addStretch(1)
        column.addLayout(foot)
        self._show()

    def _row(self, title: str, widget: QWidget | None, note: str) -> None:
        at = self._grid.rowCount()
        self._grid.addWidget(label(title, "label"), at, 0)
        if widget is not None:
            self._grid.addWidget(widget, at, 1)
        if note:
            told: QLabel = label(note, "info")
            told.setWordWrap(True)
            self._grid.addWidget(told, at, 2)

    def _choice(self, title: str, options: Mapping[str, str], now: str, chosen: Any, note: str) -> Choice:
        box = Choice("", dict(options), width=150, compact=True)
        box.setAccessibleName(title)
        box.show_value(now)
        box.moved.connect(chosen)
        self._row(title, box, note)
        return box

    def _number(self, title: str, unit: str, now: float, between: tuple[float, float], entered: Any, note: str) -> NumberField:
        field = NumberField("", unit, width=150, between=between, compact=True)
        field.setAccessibleName(title)
        field.show_value(now)
        field.moved.connect(entered)
        self._row(title, field, note)
        return field

    def _ask_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Folder of benches", self._chosen.folder or str(Path.cwd()))
        if path:
            self._set(folder=path)

    def _set(self, **changed: Any) -> None:
        self._chosen = replace(self._chosen, **changed)
        keep(self._window.settings, self._chosen)
        apply(self._window, self._chosen)
        self._show()

    def _show(self) -> None:
        self.where.setText(self._chosen.folder or "where the program was started")
        now = os.environ.get("QT_SCALE_FACTOR", "1")
        waits = f"{self._chosen.size / 100:g}" != now
        self.said.setText("The text size counts from the next start on." if waits else "")
