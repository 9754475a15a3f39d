"""Plate, checks before power: may this motor get power?"""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QInputDialog, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.theme import THEME
from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.parts import button, frame, label, unmarked
from crisp_compass.preparation.checks import (
    CHECKS,
    CHOICES,
    Check,
    Judged,
    forget_check,
    judge,
    judge_all,
    record_choice,
    record_reading,
    skip_check,
)

_TOKENS = {"open": "soft", "passed": "moss", "caution": "ochre", "stop": "brick"}
_ROLES = {"open": "info", "passed": "passed", "caution": "caution", "stop": "stop"}


class VerdictMark(QWidget):
    """The verdict as a shape: ring, tick, triangle, barred square."""

    def __init__(self) -> None:
        super().__init__()
        self._verdict = "open"
        self.setFixedSize(QSize(20, 20))
        THEME.changed.connect(self.update)

    def show_verdict(self, verdict: str) -> None:
        """Show another verdict."""
        self._verdict = verdict
        self.setToolTip(unmarked(verdict))
        self.setAccessibleName(verdict)
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        token = _TOKENS[self._verdict]
        painter.setPen(THEME.pen(token, 2))
        if self._verdict == "open":
            painter.drawEllipse(QPointF(10, 10), 6, 6)
        elif self._verdict == "passed":
            painter.drawPolyline(QPolygonF([QPointF(4, 10), QPointF(8.5, 15), QPointF(16, 5)]))
        elif self._verdict == "caution":
            painter.drawPolygon(QPolygonF([QPointF(10, 3), QPointF(17, 16), QPointF(3, 16)]))
            painter.drawLine(QPointF(10, 8), QPointF(10, 12))
        else:
            painter.setBrush(THEME.color(token))
            painter.drawRect(4, 4, 12, 12)
            painter.setPen(THEME.pen("sheet", 2.4))
            painter.drawLine(QPointF(6.5, 10), QPointF(13.5, 10))


class _Row:
    """Widgets of one check."""

    def __init__(self, page: ChecksPage, check: Check, grid: QGridLayout, line: int) -> None:
        self.check = check
        self.mark = VerdictMark()
        self.title = label(check.title, "title")
        self.reason = label("", "info")
        self.reason.setWordWrap(True)
        words = QVBoxLayout()
        words.setSpacing(0)
        words.addWidget(self.title)
        words.addWidget(self.reason)
        self.settings: dict[str, NumberField] = {}
        self.said = Line()
        self.choice = Choice(check.title, {"": "choose…", **CHOICES}, width=132, compact=True)
        fields = QHBoxLayout()
        fields.setSpacing(6)
        if check.fields:
            for item in check.fields:
                number = NumberField(item.title, item.unit, width=116, optional=True, compact=True, tip=item.title)
                number.edit.setPlaceholderText(item.title.removesuffix(" to frame"))
                number.moved.connect(lambda value, n=item.name: page.on_reading(check.key, n, value))
                number.refused.connect(page.refused)
                number.mended.connect(page.mended)
                number.set_group(check.title)
                fields.addWidget(number)
                self.settings[item.name] = number
        else:
            self.said.setPlaceholderText(check.hint)
            self.said.setAccessibleName(f"{check.title}: remark")
            self.said.setFixedSize(226, 32)
            self.said.editingFinished.connect(lambda: page.on_remark(check.key, self.said))
            self.choice.moved.connect(lambda choice: page.on_choice(check.key, choice, self.said))
            fields.addWidget(self.choice)
            fields.addWidget(self.said)
        fields.addStretch(1)
        self.skip = button("Skip…", "small")
        self.skip.setAccessibleName(f"Skip {check.title}")
        self.skip.clicked.connect(lambda: page.on_skip(check))
        grid.addWidget(self.mark, line, 0, Qt.AlignmentFlag.AlignVCenter)
        grid.addLayout(words, line, 1)
        grid.addLayout(fields, line, 2)
        grid.addWidget(self.skip, line, 3, Qt.AlignmentFlag.AlignVCenter)

    def show_judged(self, judged: Judged) -> None:
        """Show readings and verdict."""
        self.mark.show_verdict(judged.verdict)
        self.reason.setText(judged.reason)
        role = _ROLES[judged.verdict]
        if self.reason.objectName() != role:
            self.reason.setObjectName(role)
            self.reason.style().unpolish(self.reason)
            self.reason.style().polish(self.reason)
        values = judged.record.values if judged.record else {}
        for name, number in self.settings.items():
            number.show_value(values.get(name))
        if not self.settings:
            self.choice.show_value(judged.record.choice if judged.record else "")
            if not self.said.hasFocus():
                self.said.setText(judged.record.said if judged.record else "")
        self.skip.setText("Reset" if judged.verdict != "open" else "Skip…")


class ChecksPage(Page):
    """Each check takes what was read or seen and answers passed, caution or stop with the reason."""

    key = "plate"
    section = "Checks"
    has_dial = False
    question = "May this motor get power?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        sheet = frame("sheet")
        grid = QGridLayout(sheet)
        grid.setContentsMargins(14, 8, 14, 8)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(3)
        grid.setColumnStretch(1, 1)
        self.rows = {check.key: _Row(self, check, grid, line) for line, check in enumerate(CHECKS)}
        grid.setRowStretch(len(CHECKS), 1)
        area = QScrollArea()
        area.setObjectName("sheet")
        area.setWidgetResizable(True)
        area.setWidget(sheet)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.column.addWidget(area, 1)
        caution = label(
            "Insulation testers put hundreds of volts on the winding: hands off, nothing else connected, discharge afterwards. "
            "Mains wiring, lifting gear and machine guarding follow local codes and qualified people.",
            "caution",
        )
        caution.setWordWrap(True)
        self.column.addWidget(caution)

    def refresh(self) -> None:
        judged = judge_all(self.document.bench)
        for item in judged:
            self.rows[item.check.key].show_judged(item)
        counts = {v: sum(1 for j in judged if j.verdict == v) for v in _TOKENS}
        stops = [j for j in judged if j.verdict == "stop"]
        following = next((j.check for j in judged if j.verdict == "open"), None)
        if stops:
            names = ", ".join(j.check.inline for j in stops)
            self.answer.show_answer(
                "No",
                f"{len(stops)} stop{'s' if len(stops) > 1 else ''}: {names}",
                "The run stays disarmed until it is mended and measured again.",
                stale=True,
            )
        elif following:
            done = len(judged) - counts["open"]
            self.answer.show_answer(
                "Not yet",
                f"{done} of {len(judged)} checks done",
                f"Next: {following.inline}. {following.how}",
            )
        elif counts["caution"]:
            self.answer.show_answer(
                "Proceed with caution",
                f"{counts['caution']} caution{'s stand' if counts['caution'] > 1 else ' stands'}",
                "No blocking finding; read the cautions once more.",
                stale=True,
            )
        else:
            self.answer.show_answer(
                "Yes", f"all {len(judged)} checks passed", "Set the limits of a first run under Drive and supply."
            )

    def on_reading(self, key: str, name: str, value: float) -> None:
        """Keep a reading."""
        if math.isnan(value):  # emptied
            return
        self._change(lambda bench: record_reading(bench, key, name, value, when=now()))

    def on_choice(self, key: str, choice: str, edit: QLineEdit) -> None:
        """Keep what was found; the remark beside it goes along."""
        self._change(lambda bench: record_choice(bench, key, choice, edit.text(), when=now()))  # type: ignore[arg-type]

    def on_remark(self, key: str, edit: QLineEdit) -> None:
        """Keep the remark; the verdict stays what the choice says."""
        record = self.document.bench.checks.get(key)
        if edit.text().strip() != (record.said if record else ""):
            choice = record.choice if record else ""
            self._change(lambda bench: record_choice(bench, key, choice, edit.text(), when=now()))

    def on_skip(self, check: Check) -> None:
        """Skip an open check for a reason; open a judged one again."""
        if judge(self.document.bench, check).verdict != "open":
            self._change(lambda bench: forget_check(bench, check.key, now()))
            return
        reason, ok = QInputDialog.getText(
            self, f"Skip {check.title}", "Why is this check left out? The reason goes into the ledger and the record."
        )
        if ok:
            self._change(lambda bench: skip_check(bench, check.key, reason, now()))
