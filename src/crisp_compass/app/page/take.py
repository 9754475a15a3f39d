"""A capture taken through the connected drive, on the leg that wants it: rehearsed first, then armed on purpose, stopped at any moment."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import QDialog, QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from crisp_compass.app.autosave import now
from crisp_compass.app.document import Document
from crisp_compass.app.jobs import Job
from crisp_compass.app.widgets.parts import Text, button, label
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.captures import Evaluated, add_evidence
from crisp_compass.drive.conversation import Occupied
from crisp_compass.drive.hand import Hand
from crisp_compass.drive.rehearsal import Rehearsal
from crisp_compass.drive.single import Offer, offers, rehearse_one, take_one
from crisp_compass.errors import Refusal
from crisp_compass.preparation.checks import blocking_checks
from crisp_compass.quantities import grouped, show

_CAUTION = (
    "This arms the drive and current flows at once: motor clamped, load off and a hoisted one blocked, people and loose things clear, supply limited, and an emergency stop "
    "within reach, because software is none. Follow your local rules."
)


class TakeDialog(QDialog):
    """One capture: what it would do by simulation, then arm and take; Space, Esc, Stop and closing stop the motor."""

    def __init__(self, parent: QWidget, document: Document, offer: Offer) -> None:
        super().__init__(parent)
        self.document, self.offer, self.session = document, offer, document.drive
        self.taken: Evaluated | None = None
        #: What of the drive is not as it was before; empty where all is.
        self.warned = ""
        self._mine = False
        self.setWindowTitle(f"Take {offer.name} through the drive")
        self.setMinimumWidth(540)
        self.state = label("Rehearsing in simulation …", "heading")
        self.rows = Rows("On the drive, by simulation")
        self.rows.setMinimumHeight(160)
        self.why = label("", "stop")
        self.why.setWordWrap(True)
        self.why.hide()
        caution = label(_CAUTION, "caution")
        caution.setWordWrap(True)
        self.arm = button("Arm and take", "main")
        self.arm.setEnabled(False)
        self.arm.clicked.connect(self._on_arm)
        self.stop = QPushButton("Stop")
        self.stop.setToolTip("Stops and disarms; Space or Esc too")
        self.stop.setEnabled(False)
        self.stop.clicked.connect(self.session.stop)
        self.away = QPushButton("Close")
        self.away.clicked.connect(self.reject)
        for widget in (self.arm, self.stop, self.away):
            widget.setAutoDefault(False)  # Enter in a dialog must not arm a drive
        row = QHBoxLayout()
        row.addStretch(1)
        for widget in (self.away, self.stop, self.arm):
            row.addWidget(widget)
        column = QVBoxLayout(self)
        column.setSpacing(10)
        moves = Text(offer.moves)
        for part in (self.state, moves, self.rows, self.why, caution):
            column.addWidget(part)
        column.addLayout(row)
        self._space = QShortcut(QKeySequence(Qt.Key.Key_Space), self)
        self._space.activated.connect(self.session.stop)
        self._space.setEnabled(False)
        self._job = Job(self)
        self._job.done.connect(self._on_rehearsed)
        self._job.refused.connect(self._on_not_rehearsed)
        self.session.occupied.connect(self._on_told)
        self.session.freed.connect(self._on_freed)
        self.session.changed.connect(self._follow)
        self._job.ask_apart(rehearse_one, document.bench, offer.key)

    # ---- the rehearsal

    def _on_rehearsed(self, told: object) -> None:
        assert isinstance(told, Rehearsal)
        trip = self.document.bench.settings.run.i_trip
        fastest = f"{grouped(round(told.speed * RPM_PER_RAD_S))} rpm" if told.speed > 1.0 else "at rest"
        rows = [("largest current", show(told.current, "A", 3)), ("trips at", show(trip, "A", 3)), ("fastest", fastest), ("takes", f"{told.seconds:.0f} s")]
        note = f"Presumed, as nobody said: {', '.join(told.presumed)}." if told.presumed else "With everything as it is settled or stated."
        self.rows.show_rows(rows, note=note)
        self.state.setText("Ready to take")
        self._follow()

    def _on_not_rehearsed(self, refusal: Refusal) -> None:
        """The simulation does not go through: the drive may, with somebody who looks at it."""
        self.state.setText("The rehearsal does not go through")
        self._say(refusal.sentence)
        self._follow()

    # ---- the run

    def _on_arm(self) -> None:
        document = self.document
        try:
            if document.path is None:
                raise Refusal("the capture has no place yet", "save the bench first: it is kept beside it")
            stops = blocking_checks(document.bench)
            if stops and not self.session.simulated:
                raise Refusal(f"{stops[0].check.inline} says stop: {stops[0].reason}", "mend it before anything moves")
            bench, folder, key = document.bench, document.base, self.offer.key
            prefix = f"{document.path.name.removesuffix('.json').removesuffix('.bench')}-drive"

            def work(hand: Hand, busy: Occupied) -> None:
                busy.tell(take_one(bench, hand, folder, key, now=now, prefix=prefix, warn=busy.tell))

            self.session.occupy(work)
        except Refusal as refusal:
            self._say(refusal.sentence)
            return
        self._mine = True
        self.why.hide()
        self.state.setText("Takes it: the drive is armed")
        self._follow()

    def _on_told(self, told: object) -> None:
        if self._mine and isinstance(told, Evaluated):
            self.taken = told
        elif self._mine and isinstance(told, str):
            self.warned = told

    def _on_freed(self, refused: str) -> None:
        if not self._mine:
            return
        self._mine = False
        if self.taken is not None:
            self.document.edit(f"take {self.offer.name}", add_evidence(self.document.bench, self.taken.evidence), by_hand=False)
            self.accept()
            return
        self.state.setText("Nothing was taken")
        self._say(f"{refused} {self.warned}".strip())
        self._follow()

    def _say(self, text: str) -> None:
        self.why.setText(text)
        self.why.setVisible(bool(text))

    def _follow(self) -> None:
        connected = self.session.state == "connected"
        if self._mine and not connected:  # the line is gone, and nothing tells the end any more
            self._mine = False
            self.state.setText("Nothing was taken")
        self.arm.setEnabled(connected and not self.session.busy and not self._job.running)
        self.stop.setEnabled(self._mine)
        self._space.setEnabled(self._mine)
        self.away.setEnabled(not self._mine)
        if not connected:
            if self.state.text() != "Nothing was taken":
                self.state.setText("Not connected")
            self._say(self.session.why or "The drive is not connected any more.")

    def reject(self) -> None:
        """Esc, and closing: stop what runs, and go only once nothing does."""
        if self._mine:
            self.session.stop()
            return
        self._job.cancel()
        super().reject()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.reject()
        event.setAccepted(not self._mine)


class TakeButton(QPushButton):
    """Offers what the connected drive can take for a section; hidden where it can take nothing. ``page`` is told what was taken by ``on_taken``."""

    def __init__(self, document: Document, topic: str, section: str, page: QWidget) -> None:
        super().__init__("Take by drive…", page)
        self._document, self._topic, self._section, self._page = document, topic, section, page
        self.setToolTip("The program takes this capture through the connected drive: rehearsed in simulation first")
        self.clicked.connect(self._on_clicked)
        document.drive.changed.connect(self.follow)
        self.dialog: TakeDialog | None = None
        self.follow()

    def offered(self) -> tuple[Offer, ...]:
        """Return what can be taken now."""
        session = self._document.drive
        if session.state != "connected" or session.description is None:
            return ()
        return offers(self._document.bench, session.description, self._topic, self._section)

    def follow(self) -> None:
        """Show itself where something can be taken."""
        self.setVisible(bool(self.offered()))

    def _on_clicked(self) -> None:
        found = self.offered()
        if len(found) == 1:
            self.open(found[0])
            return
        menu = QMenu(self)
        for offer in found:
            menu.addAction(offer.name[:1].upper() + offer.name[1:], partial(self.open, offer))
        menu.popup(self.mapToGlobal(self.rect().topLeft()))

    def open(self, offer: Offer) -> None:
        """Rehearse and take one."""
        self.dialog = TakeDialog(self._page, self._document, offer)
        self.dialog.accepted.connect(self._on_taken)
        self.dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.dialog.open()

    def _on_taken(self) -> None:
        if self.dialog is not None and self.dialog.taken is not None:
            self._page.on_taken(self.dialog.taken)  # type: ignore[attr-defined]
            if self.dialog.warned:
                self._page.refused.emit(self.dialog.warned)  # type: ignore[attr-defined]
        self.dialog = None
