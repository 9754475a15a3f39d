"""PWM, schemes: which modulation suits this motor?"""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.computation import Computation
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.theme import font
from crisp_compass.app.widgets.parts import Text, frame, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.bench.settings.pwm import Scheme
from crisp_compass.course.open_points import presumed_text
from crisp_compass.course.pwm_outlook import RippleCurves, SchemeRow, ripple_curves, scheme_rows
from crisp_compass.errors import Refusal
from crisp_compass.quantities import show
from crisp_compass.views.picture import DialView

NAMES: dict[str, str] = {
    "sine": "sine", "space-vector": "space vector", "third-harmonic": "third harmonic", "clamped-low": "DPWMMIN, clamped low",
    "clamped-high": "DPWMMAX, clamped high", "clamped-60": "DPWM1, clamped 60°", "six-step": "six-step",
}  # fmt: skip
_SHOWN: tuple[tuple[Scheme, str, str], ...] = (
    ("sine", "soft", "dot"), ("space-vector", "magenta", "solid"), ("clamped-low", "deep", "dash"), ("clamped-60", "ochre", "dash"),
)  # fmt: skip
_HEADS = ("scheme", "linear limit", "usable", "ripple, peak to peak", "ripple, rms", "switching loss", "all losses")


class SchemesPage(Page):
    """All schemes side by side at one voltage and rated current, and their ripple over the voltage."""

    key = "pwm"
    section = "Schemes"
    question = "Which modulation suits this motor?"
    fields = (
        Pick("scheme", "Scheme", NAMES, width=190),
        Entry("view.modulation_depth", "Modulation depth", "%", width=116),
        Entry("r_switch", "Switch", "Ω", width=96),
        Entry("t_on", "Turns on in", "s", width=100),
        Entry("t_off", "Turns off in", "s", width=100),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._work = Computation(self, self._on_done)
        self.plot = Plot(("voltage, phase peak", "V"), ("phase ripple, rms", "A"), name="ripple over voltage")
        for scheme, token, dash in _SHOWN:
            self.plot.curve(scheme, token, width=2, dash=dash, title=NAMES[scheme])
        self.plot.curve("here", "ink", dash="dot", width=1, title="modulation depth")
        sheet = frame("sheet")
        grid = QGridLayout(sheet)
        grid.setContentsMargins(14, 8, 14, 8)
        grid.setVerticalSpacing(3)
        self.cells: dict[str, list[Text]] = {}
        for column, text in enumerate(_HEADS):
            head = label(text, "label")
            grid.addWidget(
                head, 0, column, Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight
            )
        for line, (key, name) in enumerate(NAMES.items(), 1):
            self.cells[key] = []
            for column in range(len(_HEADS)):
                cell = Text(name if column == 0 else "")
                self.cells[key].append(cell)
                side = Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight
                grid.addWidget(cell, line, column, side)
        area = QWidget()
        column_box = QVBoxLayout(area)
        column_box.setContentsMargins(0, 0, 0, 0)
        column_box.setSpacing(8)
        column_box.addWidget(self.plot, 1)
        column_box.addWidget(sheet)
        self.column.addWidget(area, 1)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        self.show_dial(
            DialView(
                caption="All schemes reach the same hexagon; sine alone stays at 87\u00a0% of the circle",
                voltage=(20.0, bench.settings.view.modulation_depth),
            )
        )
        inputs = (bench.settings.pwm, bench.settings.view, bench.settings.plate, bench.settled)
        self._work.want(inputs, lambda: (scheme_rows(bench), ripple_curves(bench, tuple(s for s, _, _ in _SHOWN))))

    def show_nothing(self, refusal: Refusal) -> None:
        super().show_nothing(refusal)
        for cells in self.cells.values():
            for cell in cells[1:]:
                cell.setText("")

    def _on_done(self, found: tuple[list[SchemeRow], RippleCurves]) -> None:
        (rows, curves), settings = found, self.seen.settings.pwm
        for scheme, _, _ in _SHOWN:
            self.plot.set(scheme, curves.peak, curves.rms[scheme])
        here = self.seen.settings.view.modulation_depth * float(curves.peak[-1])
        top = max(float(np.nanmax(v)) for v in curves.rms.values())
        self.plot.set("here", [here, here], [0.0, top])
        self.plot.fit()
        self._fill(rows, settings.scheme)
        self._say(rows, settings.scheme)

    def _fill(self, rows: list[SchemeRow], chosen: str) -> None:
        for row in rows:
            ripple = row.ripple
            texts = (
                show(row.limit, "V"), show(row.usable, "V"), show(ripple.peak_to_peak, "A") if ripple else "–",
                show(ripple.rms, "A") if ripple else "–", show(row.losses.switching, "W"), show(row.losses.total, "W"),
            )  # fmt: skip
            for k, cell in enumerate(self.cells[row.scheme]):
                cell.setFont(font(13, bold=row.scheme == chosen))
                if k:
                    cell.setText(texts[k - 1])

    def _say(self, rows: list[SchemeRow], chosen: str) -> None:
        modulated = [r for r in rows if r.ripple is not None]
        mine = next(r for r in rows if r.scheme == chosen)
        calm = min(modulated, key=lambda r: r.ripple.rms if r.ripple else 0.0)
        cool = min(modulated, key=lambda r: r.losses.total)
        ripple = (
            f"{show(mine.ripple.peak_to_peak, 'A')} ripple peak to peak"
            if mine.ripple
            else "ripple at six times the speed"
        )
        self.answer.show_answer(
            NAMES[chosen][:1].upper() + NAMES[chosen][1:],
            f"{ripple}, {show(mine.losses.total, 'W')} lost in the bridge at rated current",
            f"Lowest ripple here: {NAMES[calm.scheme]}; lowest loss: {NAMES[cool.scheme]} ({show(cool.losses.total, 'W')}). {presumed_text(self.document.bench, 'pwm', 'r_switch', 't_on', 't_off')} {self._edges()}",
        )

    def _edges(self) -> str:
        """Say how far up the switching edges carry interference: a trapezoid's spectrum bends at 1/(π·t_rise)."""
        settings = self.seen.settings.pwm
        fastest = min((t for t in (settings.t_on, settings.t_off) if t > 0), default=0.0)
        if not fastest:
            return ""
        return (
            f"Edges of {show(fastest, 's', 2)} carry interference up to about {show(1 / (np.pi * fastest), 'Hz', 2)}."
        )
