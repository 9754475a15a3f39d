"""What the pages share that let something run on a drive: a stop that always works, one answer to who has the drive, and what came of it."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QPushButton

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.errors import Refusal
from crisp_compass.preparation.checks import blocking_checks


class WatchedPage(Page):
    """A page of a drive: Space, Esc and its button stop; leaving it stops what this window commands."""

    has_dial = False
    arranges_fields = True

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.session = document.drive
        #: Why the last run of this page was broken off, and whether one is under way.
        self.why, self.mine = "", False
        self.stop = QPushButton("Stop")
        self.stop.setToolTip("Stops and disarms; Space or Esc too, while it may move")
        self.stop.clicked.connect(self.session.stop)
        self._keys = [QShortcut(QKeySequence(key), self) for key in (Qt.Key.Key_Space, Qt.Key.Key_Escape)]
        self.offer_stop(on=False)
        for key in self._keys:
            key.activated.connect(self.session.stop)
        self.session.changed.connect(self.follow)
        self.session.occupied.connect(self._on_told)
        self.session.freed.connect(self._on_freed)

    def offer_stop(self, *, on: bool) -> None:
        """Let Space and Esc stop, or let them be what they are elsewhere."""
        for key in self._keys:
            key.setEnabled(on)

    def may_move(self) -> None:
        """Refuse to move a real motor while a check before power says stop."""
        stops = blocking_checks(self.document.bench)
        if stops and not self.session.simulated:
            raise Refusal(f"{stops[0].check.inline} says stop: {stops[0].reason}", "mend it before anything moves")

    def began(self) -> None:
        """Note that this page's own run is under way."""
        self.why, self.mine = "", True
        self.show_document()

    def leave(self) -> None:
        """Leaving the page stops the motor that this window commands; somebody else's runs on."""
        self.session.leave()

    def take(self, told: object) -> None:
        """Take what a run of this page tells."""

    def _on_told(self, told: object) -> None:
        if self.mine:
            self.take(told)
            self.follow()

    def _on_freed(self, refused: str) -> None:
        if self.mine:
            self.why, self.mine = refused, False
        self.follow()

    def follow(self) -> None:
        """Show the state anew, if anybody looks."""
        if self.isVisible():
            self.show_document()


class CommandedPage(WatchedPage):
    """A page that looks on while its person runs the drive: arm, a speed, stop."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.speed = NumberField("Speed", "rpm", width=96)
        self.speed.setToolTip("Speed to run at; Enter sends it to the armed drive")
        self.speed.moved.connect(self._on_speed)
        self.arm = QPushButton("Arm")
        self.arm.setToolTip("Take command of the drive: from here on it may move")
        self.arm.clicked.connect(lambda: self.attempt(self._arm))
        self.session.telemetry.connect(self.follow_arming)

    @property
    def listens(self) -> bool:
        """Whether a drive is connected that can be told something."""
        told = self.session.description
        return self.session.state == "connected" and told is not None and not told.streams

    def _arm(self) -> None:
        self.may_move()
        self.session.talk().arm()

    def _on_speed(self, value: float) -> None:
        if self.session.armed:
            self.attempt(lambda: self.session.talk().run_at(value))

    def follow_arming(self) -> None:
        """Offer to arm, or to stop."""
        armed = self.session.armed
        self.arm.setEnabled(self.listens and not armed)
        self.offer_stop(on=armed)
