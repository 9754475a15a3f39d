"""Rows of name and figure under a heading, on sheet ground."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QGridLayout, QLabel, QVBoxLayout

from crisp_compass.app.widgets.parts import Text, label


class Rows(QFrame):
    """Name left, figure right (left too where it is ``prose``); the labels are kept and refilled, so that a moving number lays nothing out anew."""

    def __init__(self, heading: str, *, width: int = 0, prose: bool = False) -> None:
        super().__init__()
        self.setObjectName("sheet")
        if width:
            self.setFixedWidth(width)
        self._align = Qt.AlignmentFlag.AlignTop | (
            Qt.AlignmentFlag.AlignLeft if prose else Qt.AlignmentFlag.AlignRight
        )
        self._heading = label(heading, "heading")
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(5)
        self._grid.setColumnStretch(1, 1)
        self._note = label("", "info")
        self._note.setWordWrap(True)
        self._cells: list[tuple[QLabel, QLabel]] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 10, 14, 10)
        column.addWidget(self._heading)
        column.addLayout(self._grid)
        column.addStretch(1)
        column.addWidget(self._note)

    def show_rows(self, rows: Sequence[tuple[str, str]], *, heading: str = "", note: str = "") -> None:
        """Fill the rows."""
        if heading:
            self._heading.setText(heading)
        if not (rows or note or heading):
            self.hide()  # an empty panel takes room and says nothing
        elif self.parent() is not None:
            self.show()
        self._note.setText(note)
        while len(self._cells) < len(rows):
            name = label("", "label")
            value: QLabel = Text("", self)
            value.setAlignment(self._align)
            value.setWordWrap(True)
            value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            name.setAlignment(Qt.AlignmentFlag.AlignTop)
            self._grid.addWidget(name, len(self._cells), 0)
            self._grid.addWidget(value, len(self._cells), 1)
            self._cells.append((name, value))
        for index, (name, value) in enumerate(self._cells):
            shown = index < len(rows)
            name.setVisible(shown)
            value.setVisible(shown)
            if shown:
                name.setText(rows[index][0])
                value.setText(rows[index][1])

    @property
    def texts(self) -> dict[str, str]:
        """Name → figure as shown."""
        return {n.text(): v.text() for n, v in self._cells if not n.isHidden()}
