"""Question, answer, error bar and reason: the head of every page."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from crisp_compass.app.widgets.parts import empty, label
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
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._question)
        column.addLayout(row)
        self.setFixedHeight(90)

    def show_answer(self, answer: str, doubt: str = "", reason: str = "", *, stale: bool = False) -> None:
        """Put the texts in; ``stale`` shows the reason in ochre."""
        self._answer.setText(answer)
        self._answer.setStyleSheet("font-size: 24px;" if len(answer) > 20 else "")
        self._doubt.setText(doubt)
        self._doubt.setVisible(bool(doubt))
        self._reason.setText(reason)
        self._reason.setObjectName("stale" if stale else "reason")
        self._reason.style().unpolish(self._reason)
        self._reason.style().polish(self._reason)
        self._answer.setAccessibleName(f"{self._question.text()} {answer} {doubt}")

    @property
    def text(self) -> str:
        """The answer as shown."""
        return self._answer.text()

    @property
    def reason(self) -> str:
        """The reason as shown."""
        return self._reason.text()


class Findings(QWidget):
    """Findings as plain sentences, cautions in ochre, stops in brick; hidden while there are none."""

    def __init__(self, most: int = 3) -> None:
        super().__init__()
        self._most = most
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(2)
        self.texts: list[str] = []

    def show_findings(self, findings: Sequence[Finding]) -> None:
        """Show the gravest first."""
        order = {"stop": 0, "caution": 1, "info": 2}
        chosen = sorted(findings, key=lambda f: order[f.level])[: self._most]
        self.texts = [f.text for f in chosen]
        empty(self._column)
        for finding in chosen:
            line = label(_MARK[finding.level] + finding.text, finding.level)
            line.setWordWrap(True)
            self._column.addWidget(line)
        self.setVisible(bool(chosen))
