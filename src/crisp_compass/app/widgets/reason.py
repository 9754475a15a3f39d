"""The question before a value is settled: why is it right, and are the presumed figures right that it rests on?"""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QVBoxLayout, QWidget

from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.parts import Text, label


class ReasonDialog(QDialog):
    """Asks for the reason; Enter takes the proposed one. Nothing is settled without a reason.

    ``presumed`` are figures, as people read them, that nobody has entered: settling confirms them, and the button says so.
    """

    def __init__(self, parent: QWidget, what: str, proposal: str, presumed: Sequence[str] = ()) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Settle {what}")
        self.edit = Line(proposal)
        self.edit.setAccessibleName("Reason")
        self.edit.selectAll()
        self._empty = label("Say in a few words why this value is the right one.", "stop")
        self._empty.hide()
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.settle = buttons.button(QDialogButtonBox.StandardButton.Ok)
        self.settle.setText("Confirm and settle" if presumed else "Settle")
        self.settle.setObjectName("main")
        self.settle.setDefault(True)
        buttons.accepted.connect(self._check)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        question = Text(f"Why is {what} the right value? The reason goes into the ledger and the record.")
        question.setWordWrap(True)
        column.addWidget(question)
        if presumed:
            listed = label(f"Presumed, entered by nobody: {'; '.join(presumed)}. Settling confirms them.", "caution")
            listed.setWordWrap(True)
            column.addWidget(listed)
        column.addWidget(self.edit)
        column.addWidget(self._empty)
        column.addWidget(buttons)
        self.setMinimumWidth(520)

    def _check(self) -> None:
        if self.edit.text().strip():
            self.accept()
            return
        self._empty.show()
        self.edit.setFocus()
