"""Drive, faults: what stopped it, and what is to be looked at?"""

from __future__ import annotations

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.drive.faults import faults_of, history_of


class FaultsPage(Page):
    """Every fault the description names: standing or not, how often and when it was seen, its usual cause, what to look at."""

    key = "drive"
    section = "Faults"
    question = "What stopped the drive, and what is to be looked at?"
    has_dial = False
    arranges_fields = True

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.session = document.drive
        self.table = Table("Faults of the drive", ("Fault", "Now", "Seen", "Last", "What it says", "Look at"), widths={0: 128, 1: 74, 2: 58, 3: 84})
        self.table.setWordWrap(True)
        self.column.addWidget(self.table, 1)
        self.finish("Acknowledge")
        self.session.changed.connect(self._show)
        self.session.telemetry.connect(self._show)
        self.session.values.connect(self._show)
        self._shown: object = None

    def on_main(self) -> None:
        """Clear the fault; the drive stays disarmed."""
        self.attempt(lambda: self.session.talk().send("acknowledge"))

    def _show(self) -> None:
        if self.isVisible():
            self.show_document()

    def refresh(self) -> None:
        told, seen = self.session.description, self.session.seen_faults
        connected = self.session.state == "connected" and told is not None
        assert self.main_button is not None
        self.main_button.setEnabled(connected and told is not None and told.role("commands", "acknowledge") is not None)
        if not connected or told is None:
            self._shown = None
            self.table.show_rows(())
            self.answer.show_answer("Not connected", "connect to a drive first", self.session.why, stale=True)
            return
        faults = faults_of(told, self.session.now, self.session.held)
        past = history_of(told, self.session.now)
        shown = (tuple(faults), tuple(sorted(seen.items())), past)
        if shown == self._shown:
            return  # twenty times a second nothing changes
        self._shown = shown
        standing, masked = [f.name for f in faults if f.stands], [f for f in faults if f.masked]
        if standing:
            self.answer.show_answer(standing[0].capitalize(), "stands: the drive is off until it is acknowledged", "Find the cause first.", stale=True)
        elif masked:
            names = ", ".join(f.name for f in masked)
            self.answer.show_answer("No fault", f"but the drive does not watch for {names}", f"{masked[0].masked}: unmask it before anything moves that can hurt.", stale=True)
        elif faults:
            self.answer.show_answer("No fault", f"{sum(n for n, _ in seen.values())} seen since the drive was connected{'; ' if past else ''}{past}")
        else:
            self.answer.show_answer("No fault is named", "the description has no faults with bits")
        self.table.show_rows([
            [
                Cell(f.name, "magenta" if f.stands else "ink", bold=f.stands, tip=f.text), Cell("STANDS" if f.stands else "masked" if f.masked else "no", "magenta" if f.stands else "ochre" if f.masked else "soft", bold=f.stands or bool(f.masked), tip=f.masked),
                Cell(str(seen[f.name][0]) if f.name in seen else "–", right=True), Cell(seen[f.name][1] if f.name in seen else "", "soft"), Cell(f.cause or f.text, "soft", tip=f.cause or f.text),
                Cell(f.look, "soft", tip=f.look),
            ]
            for f in faults
        ])  # fmt: skip
        self.table.resizeRowsToContents()
