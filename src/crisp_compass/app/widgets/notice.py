"""The notice line: sentences that were refused, or where a capture went, until their cause is gone."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton

from crisp_compass.app.widgets.parts import Text

_MOST = 6


class Notice(QFrame):
    """One or a few sentences with, where it helps, a button that goes there."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("notice")
        self._lines: list[str] = []
        self._go: Callable[[], object] | None = None
        self.label = Text()
        self.label.setTextFormat(Qt.TextFormat.PlainText)
        self.label.setWordWrap(True)
        self.label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._why = ""
        self.why = QPushButton("Why?")
        self.why.clicked.connect(self._on_why)
        self.why.hide()
        self.action = QPushButton()
        self.action.clicked.connect(self._on_action)
        close = QPushButton("Dismiss")
        close.clicked.connect(self.clear)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 4, 6, 4)
        row.addWidget(self.label, 1)
        row.addWidget(self.why)
        row.addWidget(self.action)
        row.addWidget(close)
        self.hide()

    @property
    def text(self) -> str:
        """What is shown, a sentence a line; empty when nothing is."""
        return "\n".join(self._lines) if not self.isHidden() else ""

    def show_sentence(self, sentence: str) -> None:
        """Show one sentence in place of what stood here."""
        self._lines, self._go = [sentence], None
        self.explain("")
        self._show("stop")

    def add_news(self, sentence: str, action: str, go: Callable[[], object]) -> None:
        """Add where something went below earlier news, with a button to the newest."""
        self._lines = self._with(sentence)
        self._go = go
        self.action.setText(action)
        self._show("news" if self.property("kind") == "news" or len(self._lines) == 1 else "stop")

    def _with(self, sentence: str) -> list[str]:
        """Return what stands here with one more sentence, the oldest ones gone where they are many."""
        return [*self._lines, sentence][-_MOST:] if not self.isHidden() else [sentence]

    def add_refusal(self, sentence: str) -> None:
        """Add a refusal of one of several files below what stands here."""
        self._lines = self._with(sentence)
        self._go = self._go if len(self._lines) > 1 else None
        self._show("stop")

    def explain(self, text: str) -> None:
        """Offer what lies behind the sentence that was just shown."""
        self._why = text
        self.why.setVisible(bool(text))

    def _on_why(self) -> None:
        self._lines = self._with(self._why)
        self.explain("")
        self._show("stop")

    def clear(self) -> None:
        """Take everything away."""
        self._lines, self._go = [], None
        self.explain("")
        self.hide()

    def _show(self, kind: str) -> None:
        self.label.setText("\n".join(self._lines))
        self.action.setVisible(self._go is not None)
        if self.property("kind") != kind:
            self.setProperty("kind", kind)
            for widget in (self, self.label):
                widget.style().unpolish(widget)
                widget.style().polish(widget)
        self.setAccessibleName(self.label.text())
        self.show()

    def _on_action(self) -> None:
        go = self._go
        self.clear()
        if go is not None:
            go()
