"""Question, answer, error bar and reason: the head of every page."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from crisp_compass.app.widgets.flow import FlowRow
from crisp_compass.app.widgets.parts import Text, label
from crisp_compass.estimates import Finding
from crisp_compass.guide.reasons import why

#: What is worked out quicker than this is not announced: it would only flicker.
_SOON_MS = 300
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
        for text in (self._doubt, self._reason):  # they wrap, and the head grows with them
            policy = QSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
            policy.setHeightForWidth(True)
            text.setSizePolicy(policy)
            text.setMinimumWidth(160)
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
        self.top = FlowRow(2)  # the question, and at its right the names of a leg's sections
        self.top.add(self._question)
        self._busy = label("", "info")
        self._busy.hide()
        self.top.add(self._busy)
        self._busy_text = ""
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_SOON_MS)
        self._soon.timeout.connect(self._say_busy)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(self.top)
        column.addLayout(row)
        self.setMinimumHeight(92)
        policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def show_answer(self, answer: str, doubt: str = "", reason: str = "", *, stale: bool = False) -> None:
        """Put the texts in; ``stale`` shows the reason in ochre."""
        self._answer.setText(answer)
        sheet = "font-size: 18px;" if len(answer) > 40 else "font-size: 24px;" if len(answer) > 18 else ""
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

    def show_busy(self, text: str) -> None:
        """Say that something is being worked out, once it takes a moment; an empty text takes it back. Where nothing is known yet it is the answer."""
        self._busy_text = text
        if not text:
            self._soon.stop()
            self._busy.hide()
        elif self._answer.text() == "–":
            self.show_answer("…", text)
        elif self._busy.isHidden():
            self._soon.start()

    def _say_busy(self) -> None:
        self._busy.setText(self._busy_text)
        self._busy.setVisible(bool(self._busy_text))

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
        self._text = Text()
        self._text.setTextFormat(Qt.TextFormat.RichText)
        self._text.setWordWrap(True)
        # a stack asks hidden pages too: this text must not make a page higher on which it is not shown
        self._text.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Ignored)
        self._text.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.setMinimumHeight(150)
        column = QVBoxLayout(self)
        column.setContentsMargins(40, 30, 40, 30)
        column.addWidget(self._text, 1)

    def show_steps(self, steps: Sequence[tuple[str, str]]) -> None:
        """List the legs in order with their first step."""
        rows = "".join(
            f"<tr><td style='padding: 7px 18px 7px 0'><b>{escape(name)}</b></td><td style='padding: 7px 0'>{escape(text)}</td></tr>"
            for name, text in steps
        )
        self._text.setText(f"<table>{rows}</table>")
        self.setAccessibleName("; ".join(f"{name}: {text}" for name, text in steps))


class _Line(QWidget):
    """A finding, and beside a caution or a stop what tells why it says so, below it where it is wished."""

    def __init__(self) -> None:
        super().__init__()
        self._code = ""
        self.text = label("", "info")
        self.text.setWordWrap(True)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.why = QPushButton("Why?", flat=True)
        self.why.setObjectName("more")
        self.why.clicked.connect(self._on_why)
        self.reason = label("", "info")
        self.reason.setWordWrap(True)
        self.reason.setIndent(14)
        self.reason.hide()
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        row.addWidget(self.text, 1)
        row.addWidget(self.why, 0, Qt.AlignmentFlag.AlignTop)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(1)
        column.addLayout(row)
        column.addWidget(self.reason)

    def show_finding(self, finding: Finding) -> None:
        """Show one; what was opened of another is closed."""
        self.text.setText(_MARK[finding.level] + finding.text)
        if self.text.objectName() != finding.level:
            self.text.setObjectName(finding.level)
            self.text.style().unpolish(self.text)
            self.text.style().polish(self.text)
        if finding.code != self._code:
            self._code = finding.code
            self.reason.hide()
        told = why(finding.code) if finding.level != "info" else ""
        self.why.setVisible(bool(told))
        self.why.setAccessibleName(f"Why: {finding.text}")
        self.reason.setText(told)

    def _on_why(self) -> None:
        self.reason.setVisible(self.reason.isHidden())


class Findings(QWidget):
    """Findings as plain sentences, cautions in ochre, stops in brick, the gravest first; hidden while there are none.

    The first few stand open; a button opens the others, so that all can be read.
    """

    def __init__(self, most: int = 3) -> None:
        super().__init__()
        self._most, self._open = most, False
        self._lines: list[_Line] = []
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(2)
        self.more = QPushButton("Show more", flat=True)
        self.more.setObjectName("more")
        self.more.clicked.connect(self._on_more)
        self._column.addWidget(self.more, 0, Qt.AlignmentFlag.AlignLeft)
        self.more.hide()
        self.texts: list[str] = []
        self.grave = False  # whether something stands here that speaks against the value

    def show_findings(self, findings: Sequence[Finding]) -> None:
        """Show them, the gravest first."""
        order = {"stop": 0, "caution": 1, "info": 2}
        chosen = sorted(findings, key=lambda f: order[f.level])
        texts = [f.text for f in chosen]
        if texts != self.texts:
            self._open = False
        self.texts = texts
        while len(self._lines) < len(chosen):
            line = _Line()
            self._column.insertWidget(len(self._lines), line)
            self._lines.append(line)
        for line, finding in zip(self._lines, chosen, strict=False):
            line.show_finding(finding)
        self.grave = any(f.level != "info" for f in chosen)
        self._arrange()

    def _arrange(self) -> None:
        count = len(self.texts)
        shown = count if self._open else min(count, self._most)
        for place, line in enumerate(self._lines):
            line.setVisible(place < shown)
        hidden = count - self._most
        self.more.setText("Show fewer" if self._open else f"Show {hidden} more")
        self.more.setVisible(hidden > 0)
        self.setVisible(bool(count))

    def _on_more(self) -> None:
        self._open = not self._open
        self._arrange()
