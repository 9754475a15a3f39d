"""Plate, interference: what brought the spikes down?"""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QComboBox, QSizePolicy, QVBoxLayout, QWidget

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.theme import THEME, font
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.parts import button, label
from crisp_compass.errors import Refusal
from crisp_compass.preparation.interference import REMEDIES, Interference, add_spike, drop_spike, judge_spikes
from crisp_compass.quantities import show

_FIRST = "nothing changed yet"


class SpikeBars(QWidget):
    """One bar a reading, the first on top, then the remedies in order of help."""

    def __init__(self) -> None:
        super().__init__()
        self._found: Interference | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        THEME.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(700, 320)

    def show_found(self, found: Interference) -> None:
        """Show other readings."""
        self._found = found
        effects = "; ".join(f"{e.remedy} {show(e.peak, 'V')}" for e in found.effects)
        self.setAccessibleName(
            f"Spikes: before {show(found.before.peak, 'V') if found.before else 'not read'}; {effects}"
        )
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), THEME.color("sheet"))
        if self._found is None or self._found.before is None:
            self._empty(painter)
            return
        before = self._found.before
        bars = [("before", before.peak, f"{show(before.peak, 'V')}", True, before.loaded)]
        for e in self._found.effects:
            text = f"{show(e.peak, 'V')}   {'−' if e.reduction >= 0 else '+'}{abs(100 * e.reduction):.0f} %   {e.decibel:.1f} dB".replace(
                "-", "−"
            )
            bars.append((e.remedy, e.peak, text, e.comparable, e.loaded))
        step = min((self.height() - 30) / len(bars), 84.0)
        reach = self.width() - 210.0
        top = max(peak for _, peak, *_ in bars)
        for k, (name, peak, text, comparable, loaded) in enumerate(bars):
            y = 16 + k * step
            width = max(reach * peak / top, 3.0)
            painter.setPen(THEME.color("ink"))
            painter.setFont(font(12, bold=k == 0))
            where = "" if loaded else "  (no load)"
            painter.drawText(QRectF(14, y, self.width() - 28, 18), int(Qt.AlignmentFlag.AlignVCenter), name + where)
            token = "ochre" if not comparable else "deep" if k == 0 else "moss" if peak < before.peak else "brick"
            painter.fillRect(QRectF(14, y + 19, width, 14), THEME.color(token))
            painter.setFont(font(13, bold=True))
            painter.drawText(QRectF(22 + width, y + 15, 190, 22), int(Qt.AlignmentFlag.AlignVCenter), text)

    def _empty(self, painter: QPainter) -> None:
        painter.setPen(THEME.color("soft"))
        painter.setFont(font(13))
        box = QRectF(60, self.height() / 2 - 60, self.width() - 120, 120)
        text = (
            "Put the probe's short ground spring on the signal's own ground, load connected, and read the highest spike. "
            "Enter it as “nothing changed yet”, then change one thing at a time and read again."
        )
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap), text)


def _all_together(found: Interference) -> str:
    """Say what everything that is in place makes of the first reading."""
    last = found.last
    if last is None or found.before is None or not last.on_top:
        return ""
    return f"All that is in place: from {show(found.before.peak, 'V')} to {show(last.peak, 'V')}, −{100 * last.total:.0f} %. ".replace("−-", "+")


class InterferencePage(Page):
    """Peak readings with what was changed; reduction in % and dB."""

    key = "plate"
    section = "Interference"
    has_dial = False
    question = "What brought the spikes down?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.bars = SpikeBars()
        self.column.addWidget(self.bars, 1)
        self.remedy = QComboBox()
        self.remedy.setObjectName("plain")
        self.remedy.setEditable(True)
        self.remedy.addItems([_FIRST, *REMEDIES])
        self.remedy.setAccessibleName("What was changed")
        self.remedy.setFixedSize(330, 32)
        box = QVBoxLayout()
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(3)
        box.addWidget(label("Changed", "label"))
        box.addWidget(self.remedy)
        holder = QWidget()
        holder.setLayout(box)
        self.peak = NumberField("Peak", "V", width=96, optional=True)
        self.load = Choice("Load", {"on": "connected", "off": "not connected"}, width=126)
        self.before = Choice("Changes before it", {"": "undone", "kept": "still in place"}, width=142, tip="Still in place: judged against the reading before it; undone: against the first one")
        self.add_fields(holder, self.peak, self.load, self.before)
        self.loaded = True
        self.load.moved.connect(self._on_load)
        self.remove = button("Remove last reading", "small")
        self.remove.clicked.connect(self._on_remove)
        self.finish("Add reading", self.remove)

    def _on_load(self, key: str) -> None:
        self.loaded = key == "on"

    def refresh(self) -> None:
        bench = self.document.bench
        found = judge_spikes(bench)
        self.bars.show_found(found)
        self.remove.setEnabled(bool(bench.spikes))
        best = next((e for e in found.effects if e.comparable), None)
        if found.before is None:
            self.answer.show_answer(
                "No reading yet",
                "",
                "Interference is judged by before and after: read the peak first, then change one thing at a time.",
            )
        elif best is None or best.reduction < 0.05:
            self.answer.show_answer(
                show(found.before.peak, "V"), "peak before any remedy", "Change one thing, read again, add it here."
            )
        else:
            percent = f"−{100 * best.reduction:.0f} %"
            self.answer.show_answer(
                percent,
                f"{best.decibel:.1f} dB by {best.remedy}",
                f"{_all_together(found)}A dense braid, earth at one point, signals short, twisted and apart (common practice).",
            )
        self.findings.show_findings(found.findings)

    def on_main(self) -> None:
        """Add the reading typed."""
        if self.peak.value is None:
            self.refuse(Refusal("the peak is missing", "type the height of the spike, e.g. 6.5 V"))
            return
        text = self.remedy.currentText().strip()
        remedy = "" if text in ("", _FIRST) else text
        peak = self.peak.value
        if self._change(lambda bench: add_spike(bench, remedy, peak, self.loaded, when=now(), on_top=bool(self.before.box.currentData()))):
            self.peak.show_value(None)

    def _on_remove(self) -> None:
        self._change(lambda bench: drop_spike(bench, len(bench.spikes) - 1))
