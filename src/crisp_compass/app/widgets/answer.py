"""Question, answer, error bar and reason: the head of every page."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from crisp_compass.app.widgets.parts import label
from crisp_compass.estimates import Finding

_MARK = {"info": "", "caution": "Caution: ", "stop": "Stop: "}


class Answer(QWidget):
    """One figure the size of a thumb; error bar and base beside it; the reason in one soft line under it."""

    def __init__(self, question: str) -> None:
        super().__init__()
        self._question = label(question, "question")
        self._answer = label("–", "answer")
        self._doubt = label("", "doubt")
        self._reason = label("", "reason")
        for text in (self._doubt, self._reason):
            text.setWordWrap(True)
        for text in (self._doubt, self._reason):  # their place is fixed, so a new text need not lay out the page anew
            text.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        for text in (self._answer, self._doubt, self._reason):
            text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        side = QVBoxLayout()
        side.setSpacing(1)
        side.addWidget(self._doubt)
        side.addWidget(self._reason)
        row = QHBoxLayout()
        row.setSpacing(24)
        row.addWidget(self._answer, 0, Qt.AlignmentFlag.AlignVCenter)
        row.addLayout(side, 1)
        top = QHBoxLayout()
        top.setSpacing(8)
        top.addWidget(self._question, 1)
        self.corner = QHBoxLayout()  # where a leg of several sections puts their names
        self.corner.setSpacing(2)
        top.addLayout(self.corner)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(top)
        column.addLayout(row)
        column.addStretch(1)
        self.setFixedHeight(92)

    def show_answer(self, answer: str, doubt: str = "", reason: str = "", *, stale: bool = False) -> None:
        """Put the texts in; ``stale`` shows the reason in ochre."""
        self._answer.setText(answer)
        sheet = "font-size: 24px;" if len(answer) > 20 else ""
        if self._answer.styleSheet() != sheet:
            self._answer.setStyleSheet(sheet)
        self._doubt.setText(doubt)
        self._doubt.setVisible(bool(doubt))
        self._reason.setText(reason)
        role = "stale" if stale else "reason"
        if self._reason.objectName() != role:
            self._reason.setObjectName(role)
            self._reason.style().unpolish(self._reason)
            self._reason.style().polish(self._reason)
        self._answer.setAccessibleName(f"{self._question.text()} {answer} {doubt}")

    def show_reason(self, reason: str) -> None:
        """Put another reason under the same answer."""
        self._reason.setText(reason)

    @property
    def text(self) -> str:
        """The answer as shown."""
        return self._answer.text()

    @property
    def reason(self) -> str:
        """The reason as shown."""
        return self._reason.text()


class Waiting(QFrame):
    """A sheet that says which legs come first and what to do there; stands where plots would be empty."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self._text = QLabel()
        self._text.setTextFormat(Qt.TextFormat.RichText)
        self._text.setWordWrap(True)
        column = QVBoxLayout(self)
        column.setContentsMargins(40, 30, 40, 30)
        column.addWidget(self._text)
        column.addStretch(1)

    def show_steps(self, steps: Sequence[tuple[str, str]]) -> None:
        """List the legs in order with their first step."""
        rows = "".join(
            f"<tr><td style='padding: 7px 18px 7px 0'><b>{escape(name)}</b></td><td style='padding: 7px 0'>{escape(text)}</td></tr>"
            for name, text in steps
        )
        self._text.setText(f"<table>{rows}</table>")
        self.setAccessibleName("; ".join(f"{name}: {text}" for name, text in steps))


class Findings(QWidget):
    """Findings as plain sentences, cautions in ochre, stops in brick; hidden while there are none."""

    def __init__(self, most: int = 3) -> None:
        super().__init__()
        self._lines = [label("", "info") for _ in range(most)]
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(2)
        for line in self._lines:
            line.setWordWrap(True)
            line.hide()
            self._column.addWidget(line)
        self.texts: list[str] = []

    def show_findings(self, findings: Sequence[Finding]) -> None:
        """Show the gravest first."""
        order = {"stop": 0, "caution": 1, "info": 2}
        chosen = sorted(findings, key=lambda f: order[f.level])[: len(self._lines)]
        self.texts = [f.text for f in chosen]
        for place, finding in enumerate(chosen):
            line = self._lines[place]
            line.setText(_MARK[finding.level] + finding.text)
            if line.objectName() != finding.level:
                line.setObjectName(finding.level)
                line.style().unpolish(line)
                line.style().polish(line)
        for place, line in enumerate(self._lines):
            line.setVisible(place < len(chosen))
        self.setVisible(bool(chosen))
