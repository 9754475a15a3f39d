"""The guide beside a page: what the step is for, what to do with the hands, what to look at, what goes wrong. It takes the room of dial and ledger."""

from __future__ import annotations

from PySide6.QtCore import QUrl, Signal
from PySide6.QtGui import QTextBlockFormat, QTextCharFormat, QTextCursor, QTextFormat
from PySide6.QtWidgets import QHBoxLayout, QTextBrowser, QVBoxLayout, QWidget

from crisp_compass.app.theme import THEME, font
from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.parts import button, label
from crisp_compass.guide import Chapter, chapter_at, chapter_of, search
from crisp_compass.guide.reasons import reasons_with

#: Sizes of the text and of its headings by level, px.
_SIZE, _HEADINGS = 13, {1: 18, 2: 13}


#: Reasons of findings that a search shows at most.
_REASONS = 6


class GuidePanel(QWidget):
    """A chapter of the guide with its search; ``wanted`` carries the chapter whose page is to be opened, ``closed`` that it is put away."""

    wanted = Signal(object)
    closed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.chapter: Chapter | None = None
        self.line = Line(placeholderText="search the guide")
        self.line.setAccessibleName("Search the guide")
        self.line.textChanged.connect(self._on_words)
        shut = button("Close", "small")
        shut.setToolTip("F1")
        shut.clicked.connect(self.closed)
        self.view = QTextBrowser()
        self.view.setObjectName("guide")
        self.view.setAccessibleName("Guide")
        self.view.setOpenLinks(False)
        self.view.anchorClicked.connect(self._on_link)
        head = QHBoxLayout()
        head.addWidget(label("Guide", "heading"), 1)
        head.addWidget(shut)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 8, 10, 8)
        column.setSpacing(6)
        column.addLayout(head)
        column.addWidget(self.line)
        column.addWidget(self.view, 1)
        THEME.changed.connect(self._show)

    def show_page(self, key: str, section: str) -> None:
        """Show the chapter of a page."""
        self.chapter = chapter_of(key, section)
        if self.line.text():
            self.line.clear()  # which shows it
        else:
            self._show()

    def _show(self) -> None:
        if self.line.text().strip():
            self._on_words(self.line.text())
        elif self.chapter is not None:
            self._put(self.chapter.text)

    def _on_words(self, words: str) -> None:
        if not words.strip():
            self._show()
            return
        found = search(words)
        lines = [f"**[{hit.chapter.title}]({hit.chapter.place})**  \n{hit.line}" for hit in found]
        lines += [f"*Why: {code.replace('-', ' ')}*  \n{text}" for code, text in reasons_with(words)[:_REASONS] if "*" not in code]
        self._put("\n\n".join(lines) if lines else "Nothing in the guide has all of these words.")

    def _put(self, text: str) -> None:
        document = self.view.document()
        document.setDefaultFont(font(_SIZE))
        self.view.setMarkdown(text)
        document.setIndentWidth(15)
        block = document.begin()
        while block.isValid():
            cursor, shape, letters = QTextCursor(block), block.blockFormat(), QTextCharFormat()
            level = shape.headingLevel()
            spaced = QTextBlockFormat(shape)
            spaced.setLineHeight(118, QTextBlockFormat.LineHeightTypes.ProportionalHeight.value)
            spaced.setTopMargin(2 if level == 1 else 10 if level else 3)
            spaced.setBottomMargin(3)
            spaced.setLeftMargin(0)
            cursor.setBlockFormat(spaced)
            cursor.select(QTextCursor.SelectionType.BlockUnderCursor)
            if level:
                letters.setProperty(int(QTextFormat.Property.FontSizeAdjustment.value), 0)
                letters.setFont(font(_HEADINGS.get(level, _SIZE), bold=True))
                letters.setForeground(THEME.color("ink" if level == 1 else "soft"))
                cursor.mergeCharFormat(letters)
            elif shape.property(int(QTextBlockFormat.Property.BlockQuoteLevel.value)):
                letters.setForeground(THEME.color("ochre"))
                cursor.mergeCharFormat(letters)
            block = block.next()
        self.view.moveCursor(QTextCursor.MoveOperation.Start)

    def _on_link(self, link: QUrl) -> None:
        chapter = chapter_at(link.toString())
        if chapter is not None:
            self.wanted.emit(chapter)
