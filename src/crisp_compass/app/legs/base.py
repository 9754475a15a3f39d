"""What every page shares: its document, its dial view, the notice line, and asking for the reason when settling."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.dial import DialView
from crisp_compass.app.document import Document
from crisp_compass.app.widgets.answer import Answer, Findings, Waiting
from crisp_compass.app.widgets.lever import Choice, Lever
from crisp_compass.app.widgets.parts import button
from crisp_compass.app.widgets.plot import refusal_text
from crisp_compass.bench.models import Bench, Topic
from crisp_compass.bench.rules import family_gap
from crisp_compass.errors import Refusal
from crisp_compass.plant.simulation import READY
from crisp_compass.voyage.course import BY_KEY, first_steps, stale_effect, waiting_text


class ReasonDialog(QDialog):
    """Asks why this value is the right one; Enter takes the proposed reason."""

    def __init__(self, parent: QWidget, what: str, proposal: str) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Settle {what}")
        self.edit = QLineEdit(proposal)
        self.edit.setAccessibleName("Reason")
        self.edit.selectAll()
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Settle")
        buttons.button(QDialogButtonBox.StandardButton.Ok).setObjectName("main")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(QLabel(f"Why is {what} the right value? The reason goes into the ledger and the record."))
        column.addWidget(self.edit)
        column.addWidget(buttons)
        self.setMinimumWidth(520)


class LegPage(QWidget):
    """A page, or one section of a leg that has several. Subclasses build their middle, implement :meth:`refresh` and set :attr:`dial_view` through show_dial."""

    refused = Signal(str)
    dial_changed = Signal(object)
    section_chosen = Signal(str)
    key = ""
    section = ""
    question = ""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.leg = BY_KEY[self.key]
        self.answer = Answer(self.question or self.leg.question)
        self.findings = Findings()
        self.dial_view = DialView()
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(20, 12, 16, 10)
        self.column.setSpacing(8)
        self.column.addWidget(self.answer)
        self.column.addWidget(self.findings)
        self.lever_row = QHBoxLayout()
        self.lever_row.setSpacing(8)
        self.main_button: QPushButton | None = None
        self.tabs: dict[str, QPushButton] = {}
        self._hidden: list[QWidget] = []

    # ---- building

    def show_sections(self, names: tuple[str, ...]) -> None:
        """Put the names of the leg's sections beside the question, this one marked."""
        if len(names) < 2:
            return
        for name in names:
            tab = button(name, "section")
            tab.setCheckable(True)
            tab.setChecked(name == self.section)
            tab.setAccessibleName(f"Section {name}")
            tab.clicked.connect(lambda _on, n=name, t=tab: self._on_section(n, t))
            self.answer.corner.addWidget(tab)
            self.tabs[name] = tab

    def offer_sections(self, names: tuple[str, ...]) -> None:
        """Show the tabs of these sections only; the open one always stays."""
        for name, tab in self.tabs.items():
            tab.setVisible(name in names or name == self.section)

    def _on_section(self, name: str, tab: QPushButton) -> None:
        tab.setChecked(name == self.section)
        if name != self.section:
            self.section_chosen.emit(name)

    def add_levers(self, *widgets: QWidget) -> None:
        """Put levers into the row at the bottom and connect their refusals."""
        for widget in widgets:
            self.lever_row.addWidget(widget)
            if isinstance(widget, Lever):
                widget.refused.connect(self.refused)

    def break_levers(self) -> None:
        """Close a row of levers; what is added from here on stands in a row below."""
        self.lever_row.addStretch(1)
        self.column.addLayout(self.lever_row)
        self.lever_row = QHBoxLayout()
        self.lever_row.setSpacing(8)

    def finish(self, main_text: str = "", *others: QPushButton) -> None:
        """Close the lever row with its buttons, the main one last."""
        self.lever_row.addStretch(1)
        for other in others:
            self.lever_row.addWidget(other, 0)
            self.lever_row.setAlignment(other, self._bottom())
        if main_text:
            self.main_button = button(main_text, "main")
            self.main_button.setShortcut("Ctrl+Return")
            self.main_button.setToolTip("Ctrl+Enter")
            self.main_button.setMinimumWidth(130)
            self.main_button.clicked.connect(self.on_main)
            self.lever_row.addWidget(self.main_button, 0)
            self.lever_row.setAlignment(self.main_button, self._bottom())
        self.column.addLayout(self.lever_row)

    @staticmethod
    def _bottom() -> Any:
        return Qt.AlignmentFlag.AlignBottom

    def bind(self, lever: Lever | Choice, field: str, topic: str | None = None) -> None:
        """Tie a lever to a field of this page's levers: an edit sets the model."""
        lever.moved.connect(lambda value: self._set(topic or self.key, field, value))

    def _set(self, topic: str, field: str, value: Any) -> None:
        levers = getattr(self.document.bench.levers, topic)
        if isinstance(value, float) and math.isnan(value):
            value = None  # an optional field was emptied
        if isinstance(getattr(levers, field), int) and isinstance(value, float):
            value = round(value)
        try:
            self.document.set_lever(topic, field, value)
        except Refusal as refusal:
            self.refuse(refusal)
            self.refresh()

    # ---- behaviour

    def refresh(self) -> None:
        """Show the document; called when the page is open and something changed."""
        raise NotImplementedError

    def show_document(self) -> None:
        """Refresh, or say in one sentence why this page is not for the bench's motor and show nothing else."""
        gap = family_gap(self.document.bench) if self.key not in ("plate", "hand_over") else ""
        if not gap:
            for widget in self._hidden:
                widget.show()
            self._hidden = []
            self.column.setAlignment(Qt.AlignmentFlag(0))
            self.refresh()
            return
        shown = [w for w in self.children() if isinstance(w, QWidget) and w is not self.answer and not w.isHidden()]
        for widget in shown:
            widget.hide()
        self._hidden += shown
        self.column.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.answer.show_answer("Not for this motor", "", f"{gap[:1].upper()}{gap[1:]}.", stale=True)
        self.show_dial(DialView())

    def on_main(self) -> None:
        """The main button was pressed."""

    def on_dial(self, angle: float) -> None:
        """The dial's hand was turned to an electrical angle in degrees."""

    def leave(self) -> None:
        """The page is left or the window closes."""

    def check_ready(self, sheet: Waiting, stack: QStackedWidget) -> None:
        """Show the waiting sheet (page 0 of ``stack``) while earlier legs are missing.

        Raises Refusal while they are, or while the simulation is still being compiled.
        """
        bench = self.document.bench
        waiting = waiting_text(bench, self.leg)
        sheet.show_steps(first_steps(bench, self.leg))
        stack.setCurrentIndex(0 if waiting else 1)
        if waiting:
            raise Refusal(waiting)
        if not READY.is_set():
            raise Refusal("The simulation is being prepared; this happens once, at the first start")

    def refuse(self, refusal: Refusal) -> None:
        """Put one sentence on the notice line."""
        self.refused.emit(refusal_text(refusal))

    def _change(self, make: Callable[[Bench], Bench], text: str = "") -> bool:
        """Make a change of the bench that may be refused; return whether it was made."""
        try:
            self.document.edit(text or self.section.lower() or self.leg.name.lower(), make(self.document.bench))
        except Refusal as refusal:
            self.refuse(refusal)
            self.refresh()
            return False
        return True

    def show_dial(self, view: DialView) -> None:
        """Show something on the dial."""
        self.dial_view = view
        self.dial_changed.emit(view)

    def stale_text(self) -> str:
        """Return what staleness of this leg would change."""
        return stale_effect(self.document.bench, self.key) if self.key in self.document.bench.settled else ""

    def settle(self, topic: Topic, what: str, proposal: str, **arguments: Any) -> None:
        """Ask for the reason and settle."""
        dialog = ReasonDialog(self, what, proposal)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return
        try:
            self.document.settle(topic, reason=dialog.edit.text(), headline=what, **arguments)
        except Refusal as refusal:
            self.refuse(refusal)
