"""What the person hears of captures on their way in: what is read, where it went, what was refused, which channel is which."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QWidget

from crisp_compass.app.intake import Arrival, Intake, header_or_nothing
from crisp_compass.app.navigation import Navigator
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.mapping import MappingDialog
from crisp_compass.app.widgets.notice import Notice
from crisp_compass.app.widgets.parts import Text
from crisp_compass.app.widgets.plot import refusal_text
from crisp_compass.course.captures import Evaluated
from crisp_compass.course.channels import scales, spoken
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.errors import Refusal


class Arrivals(QFrame):
    """The line that shows what is being read, with a button that stops it. ``said`` carries what goes to the status bar."""

    said = Signal(str)

    def __init__(self, parent: QWidget, intake: Intake, navigator: Navigator, notices: Notice) -> None:
        super().__init__(parent)
        self.setObjectName("busy")
        self._intake, self._navigator, self._notices = intake, navigator, notices
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 2, 6, 2)
        self.text = Text()
        cancel = QPushButton("Cancel reading")
        cancel.setObjectName("small")
        cancel.clicked.connect(intake.cancel)
        row.addWidget(self.text)
        row.addWidget(cancel)
        row.addStretch(1)
        self.hide()
        intake.busy.connect(self._on_busy)
        intake.taken.connect(self._on_taken)
        intake.refused.connect(self._on_refused)
        intake.asks.connect(self._ask_channels)

    def _on_busy(self, text: str) -> None:
        self.setVisible(bool(text))
        self.text.setText(text)

    def _on_taken(self, evaluated: Evaluated) -> None:
        """Say where a capture went, unless the person is looking at it."""
        kind, name = evaluated.kind, Path(evaluated.evidence.file).name
        if evaluated.evidence.columns:
            self.said.emit(f"{name}: channels mapped as {spoken(evaluated.evidence.columns)}")
        waypoint, page = BY_KEY[kind.topic], self._navigator.page
        # where a waypoint's captures all belong to its main page, its other pages show them too
        plain = {k.section for k in waypoint.captures} == {waypoint.sections[0].name}
        if page.key == kind.topic and (plain or page.section == kind.section):
            return
        beside = "" if plain else f", {kind.section}"
        self._notices.add_news(
            f"{name} was read into {waypoint.name}{beside}.",
            f"Show {waypoint.name}",
            partial(self._navigator.travel, kind.topic, kind.section),
        )

    def _on_refused(self, arrival: Arrival, refusal: Refusal) -> None:
        self._notices.add_refusal(refusal_text(refusal.at(str(arrival.path))))

    def _ask_channels(self, arrival: Arrival, refusal: Refusal) -> None:
        if not self._map(arrival, f"{arrival.path.name}: {refusal.problem}."):
            self._on_refused(arrival, refusal)

    def ask_again(self, page: CapturePage) -> None:
        """Let the person say anew which channel of the shown capture is which."""
        evidence = page.evidence()
        if evidence is None:
            return
        path = page.document.base / evidence.file
        self._map(Arrival(path, page.key, columns=evidence.columns, instead=evidence), f"{path.name}, as it is mapped now.")

    def _map(self, arrival: Arrival, why: str) -> bool:
        """Ask which channel is which and take the capture so; return whether the person said it."""
        page = self._navigator.page_of(arrival.topic or arrival.here)
        signals = page.signals if isinstance(page, CapturePage) else ()
        given = scales(page.document.bench, header_or_nothing(arrival.path))
        dialog = MappingDialog(self.window(), arrival.path, signals, why, before=arrival.columns, scales=given)
        if not dialog.usable or not dialog.exec():
            return False
        columns = dialog.mappings()
        self._intake.remember_mappings(arrival, columns)
        self._intake.add(replace(arrival, columns=columns, asked=True), first=True)
        return True
