"""What every page shares: its document, its dial view, the notice line, and asking for the reason when settling."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QTimer, Signal
from PySide6.QtGui import QFontMetrics, QResizeEvent
from PySide6.QtWidgets import (
    QDialog,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Field, make_field
from crisp_compass.app.theme import font
from crisp_compass.app.widgets.answer import Answer, Findings, Waiting
from crisp_compass.app.widgets.flow import FlowRow, Scroll
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.parts import button
from crisp_compass.app.widgets.plot import Plot, refusal_text
from crisp_compass.app.widgets.reason import ReasonDialog
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.entered import locate, presumed, presumed_for, standing, value_of
from crisp_compass.bench.models import Bench
from crisp_compass.course.bridge import typed_motor
from crisp_compass.course.course import first_steps, waiting_text
from crisp_compass.course.open_points import describe_field, edited_text, stale_effect
from crisp_compass.course.waypoint import Proposal
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.errors import Refusal
from crisp_compass.guide.reasons import why
from crisp_compass.plant.simulation import READY
from crisp_compass.views.picture import DialView

#: Below this height of a page its settings scroll with its body.
_LOW = 520


class Page(QWidget):
    """A page, or one section of a leg that has several. Subclasses build their middle, implement :meth:`refresh` and set :attr:`dial_view` through show_dial."""

    refused = Signal(str)
    explained = Signal(str)
    mended = Signal()
    done = Signal(str)
    dial_changed = Signal(object)
    section_chosen = Signal(str)
    #: Something of the window is wished: ``open``, ``drills``, ``guide``, ``demo:NAME``.
    wished = Signal(str)
    key = ""
    section = ""
    question = ""
    has_dial = True
    #: What is entered here; see :mod:`crisp_compass.app.page.fields`.
    fields: tuple[Field, ...] = ()
    arranges_fields = False

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self._as_settled: tuple[Bench, Bench] | None = None
        self.waypoint = BY_KEY[self.key]
        self.answer = Answer(self.question or self.waypoint.question)
        self.findings = Findings()
        self.dial_view = DialView()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 10)
        outer.setSpacing(8)
        self.body = Scroll()
        outer.addWidget(self.body, 1)
        self.column = QVBoxLayout(self.body.inside)
        self.column.setContentsMargins(20, 12, 16, 0)
        self.column.setSpacing(8)
        self.column.addWidget(self.answer)
        self.column.addWidget(self.findings)
        self.foot = QVBoxLayout()
        self.foot.setContentsMargins(20, 0, 16, 0)
        self.foot.setSpacing(8)
        outer.addLayout(self.foot)
        self.field_row = FlowRow()
        self.main_button: QPushButton | None = None
        self.tabs: dict[str, QPushButton] = {}
        self._bound: list[tuple[NumberField | Choice, str, str]] = []
        self._rows: list[FlowRow] = []
        self._buttons = FlowRow()
        self._low = False
        #: Widgets of the declared fields, by setting; a page that does not arrange them itself has them in one row.
        self._fields = self._make_fields()

    def setup(self) -> None:
        """Build what needs the subclass; called once, after the page is constructed."""

    def _make_fields(self) -> dict[str, NumberField | Choice]:
        made = {}
        for declared in self.fields:
            made[declared.setting] = widget = make_field(declared, self.key)
            widget.setParent(self)  # before it is first shown: a field without a parent would be a window
            self.bind(widget, declared.setting)
            self._listen(widget)
        return made

    def _place_declared(self) -> None:
        for declared in self.fields:
            self.field_row.add(self._fields[declared.setting])

    @property
    def seen(self) -> Bench:
        """The bench as this page sees it: other legs as settled, whatever is being edited there."""
        bench = self.document.bench
        if self._as_settled is None or self._as_settled[0] is not bench:  # asked for in every frame of a run
            self._as_settled = (bench, standing(bench, self.key))
        return self._as_settled[1]

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
            tab.setMinimumWidth(
                QFontMetrics(font(12, bold=True)).horizontalAdvance(name) + 18
            )  # bold while it is open
            tab.clicked.connect(lambda _on, n=name, t=tab: self._on_section(n, t))
            self.answer.top.add(tab, tail=True)
            self.tabs[name] = tab

    def offer_sections(self, names: tuple[str, ...]) -> None:
        """Show the tabs of these sections only; the open one always stays."""
        for name, tab in self.tabs.items():
            tab.setVisible(len(names) > 1 and (name in names or name == self.section))

    def _on_section(self, name: str, tab: QPushButton) -> None:
        tab.setChecked(name == self.section)
        if name != self.section:
            self.section_chosen.emit(name)

    def add_fields(self, *widgets: QWidget) -> None:
        """Put settings into the row at the bottom and connect their refusals."""
        for widget in widgets:
            self.field_row.add(widget)
            self._listen(widget)

    def _listen(self, widget: QWidget) -> None:
        if isinstance(widget, NumberField):
            widget.refused.connect(self.refused)
            widget.mended.connect(self.mended)

    def break_row(self) -> None:
        """Close a row of settings; what is added from here on stands in a row below."""
        self.add_row(self.field_row)
        self.field_row = FlowRow()

    def add_row(self, row: FlowRow) -> None:
        """Put a closed row of settings below those that stand."""
        self._rows.append(row)
        self.foot.addLayout(row)

    def finish(self, main_text: str = "", *others: QPushButton) -> None:
        """Put the declared fields into their row, unless the page arranges them itself, and close it with its buttons, the main one last."""
        if not self.arranges_fields:
            self._place_declared()
        for other in others:
            self.field_row.add(other, tail=True)
        if main_text:
            self.main_button = button(main_text, "main")
            self.main_button.setShortcut("Ctrl+Return")
            self.main_button.setToolTip("Ctrl+Enter")
            self.main_button.setMinimumWidth(130)
            self.main_button.clicked.connect(self._on_main_pressed)
            self.field_row.add(self.main_button, tail=True)
        self.add_row(self.field_row)
        self.foot.addLayout(self._buttons)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        # never while a picture is being taken: a widget that gets a parent whose updates are off keeps them off
        QTimer.singleShot(0, self, lambda: self._place_fields(low=self.height() < _LOW))

    def _place_fields(self, *, low: bool) -> None:
        """In a low window the settings scroll with the body, and the buttons alone stay in view."""
        if low == self._low or not self._rows:
            return
        self._low = low
        for row in self._rows:
            row.setParent(None)
            (self.column if low else self.foot).addLayout(row)
        last = self._rows[-1]
        origin, target = (last, self._buttons) if low else (self._buttons, last)
        for widget in origin.take_tail():
            target.add(widget, tail=True)
        if not low:  # the buttons' own row stays the last one
            self._buttons.setParent(None)
            self.foot.addLayout(self._buttons)

    def _on_main_pressed(self) -> None:
        """Enter what is still being typed, then do what the button says."""
        for number in self.findChildren(NumberField):
            if number.edit.hasFocus():
                number.commit()
        self.on_main()

    def bind(self, number: NumberField | Choice, field: str, topic: str | None = None) -> None:
        """Tie a number to a field of this page's settings: an edit sets the model; the field shows whether it is presumed."""
        self._bound.append((number, topic or self.key, field))
        number.moved.connect(lambda value: self._set(topic or self.key, field, value))

    def _set(self, topic: str, field: str, value: Any) -> None:
        if isinstance(value, float) and math.isnan(value):
            value = None  # an optional field was emptied
        if isinstance(value_of(self.document.bench, topic, field), int) and isinstance(value, float | str):
            value = round(float(value))  # a choice between numbers tells its key
        try:
            self.document.set_field(topic, field, value)
        except Refusal as refusal:
            self.refuse(refusal)
            self.show_document()

    # ---- behaviour

    def refresh(self) -> None:
        """Show the document; called when the page is open and something changed. A Refusal is shown instead of it."""
        raise NotImplementedError

    def show_nothing(self, refusal: Refusal) -> None:
        """Show why there is nothing to show: one sentence, no finding, empty plots and tables, nothing to settle."""
        self.answer.show_answer("Not yet", "", refusal_text(refusal), stale=True)
        self.findings.show_findings(())
        for plot in self.findChildren(Plot):
            plot.clear_data()
        for rows in self.findChildren(Rows):
            rows.show_rows(())
        if self.main_button is not None:
            self.main_button.setEnabled(False)

    def show_document(self) -> None:
        """Show the fields, and the page's own or why there is nothing to show."""
        self.show_fields()
        try:
            self.refresh()
        except Refusal as refusal:
            self.show_nothing(refusal)

    def number(self, setting: str) -> NumberField:
        """Return the number declared for a setting."""
        found = self._fields[setting]
        assert isinstance(found, NumberField)
        return found

    def show_fields(self) -> None:
        """Show what the declared fields hold, and which of it is presumed."""
        bench = self.document.bench
        motor = typed_motor(bench)
        for number in self.findChildren(NumberField):
            number.know(motor)
        for setting, widget in self._fields.items():
            of, name = locate(self.key, setting)
            page = getattr(bench.settings, of)
            if not hasattr(page, name):
                continue  # another kind of motor's
            value = getattr(page, name)
            if isinstance(widget, Choice):
                widget.show_value(str(value))
            else:
                widget.show_value(value)
        for widget, topic, field in self._bound:
            widget.show_presumed(presumed(bench, topic, field))

    def on_main(self) -> None:
        """The main button was pressed: settle what this page proposes."""
        try:
            proposal = self.propose()
        except Refusal as refusal:
            self.refuse(refusal)
            return
        if proposal is not None:
            self.settle(proposal)

    def on_dial(self, angle: float) -> None:
        """The dial's hand was turned to an electrical angle in degrees."""

    def enter(self) -> None:
        """The page is opened, also when it is the open one already."""

    def leave(self) -> None:
        """The page is left or the window closes."""

    def show_computing(self, busy: bool) -> None:
        """Say beside the question that something is being worked out, and what."""
        self.answer.show_busy(f"Working out {self.section.lower() or self.waypoint.inline_name} …" if busy else "")

    def check_ready(self, sheet: Waiting, stack: QStackedWidget) -> None:
        """Show the waiting sheet (page 0 of ``stack``) while earlier legs are missing.

        Raises Refusal while they are, or while the simulation is still being compiled.
        """
        bench = self.document.bench
        waiting = waiting_text(bench, self.waypoint)
        sheet.show_steps(first_steps(bench, self.waypoint))
        stack.setCurrentIndex(0 if waiting else 1)
        if waiting:
            raise Refusal(waiting)
        if not READY.is_set():
            raise Refusal("The simulation is being prepared; this happens once, at the first start")

    def refuse(self, refusal: Refusal) -> None:
        """Put one sentence on the notice line."""
        self.refused.emit(refusal_text(refusal))
        self.explained.emit(why(refusal.code) if refusal.code else "")

    def attempt(self, request: Callable[[], object]) -> None:
        """Do something that may be refused; the refusal goes to the notice line."""
        try:
            request()
        except Refusal as refusal:
            self.refuse(refusal)

    def _change(self, make: Callable[[Bench], Bench], text: str = "") -> bool:
        """Make a change of the bench that may be refused; return whether it was made."""
        try:
            self.document.edit(text or self.section.lower() or self.waypoint.name.lower(), make(self.document.bench))
        except Refusal as refusal:
            self.refuse(refusal)
            self.show_document()
            return False
        return True

    def show_dial(self, view: DialView) -> None:
        """Show something on the dial."""
        self.dial_view = view
        self.dial_changed.emit(view)

    def stale_text(self) -> str:
        """Return what staleness of this leg would change, or what was edited here and is not settled yet."""
        bench, topic = self.document.bench, self.waypoint.topic
        if topic is None or topic not in bench.settled:
            return ""
        return stale_effect(bench, topic) or edited_text(bench, topic)

    def settle(self, proposal: Proposal) -> None:
        """Ask for the reason and settle; what nobody has entered is confirmed with it, and never the reason."""
        bench, topic = self.document.bench, self.key
        fields = presumed_for(bench, topic)
        listed = [describe_field(bench, topic, f) for f in fields]
        # a reason is proposed only where nothing on this page speaks against the value
        reason = "" if fields or self.findings.grave else proposal.reason
        dialog = ReasonDialog(self, proposal.headline, reason, listed)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return
        try:
            self.document.settle(topic, proposal, reason=dialog.edit.text(), confirmed=fields)
        except Refusal as refusal:
            self.refuse(refusal)

    def propose(self) -> Proposal | None:
        """Return what the main button settles here; raises Refusal where it cannot be worked out."""
        design = self.waypoint.propose
        return design(self.seen) if design is not None else None
