"""Names of bench and motor: they stand in the title, the record and the header's guard."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QVBoxLayout, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.widgets.line import Line
from crisp_compass.bench.entered import enter


class NamesDialog(QDialog):
    """Two names; one undo step."""

    def __init__(self, parent: QWidget, document: Document) -> None:
        super().__init__(parent)
        self.setWindowTitle("Names")
        self._document = document
        self.bench, self.motor = Line(document.bench.name), Line(document.bench.settings.plate.motor)
        for line, name in ((self.bench, "Bench name"), (self.motor, "Motor type")):
            line.setAccessibleName(name)
            line.setMaxLength(120)
        form = QFormLayout()
        form.addRow("Bench", self.bench)
        form.addRow("Motor", self.motor)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(buttons)
        self.setMinimumWidth(380)

    def accept(self) -> None:
        bench = enter(self._document.bench, "plate", {"motor": self.motor.text().strip()})
        name = self.bench.text().strip() or "Untitled bench"
        self._document.edit("names", bench.model_copy(update={"name": name}))
        super().accept()
