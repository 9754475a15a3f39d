"""Drive, identify: what motor is on this drive? Every capture is taken by the program itself."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.jobs import Job
from crisp_compass.app.waypoints.drive.strip import Strip
from crisp_compass.app.waypoints.drive.watched import WatchedPage
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.drive.identification import Identification
from crisp_compass.drive.identification_plan import Progress, joined, steps_of
from crisp_compass.drive.rehearsal import Rehearsal, rehearse
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.quantities import grouped, show

_CAUTION = Finding(
    "caution",
    "identify-moves",
    "This arms the drive and turns the shaft by itself, several times: motor clamped, its load off and a hoisted one blocked, people and loose things clear, supply limited, and an "
    "emergency stop within reach, because software is none. Follow your local rules.",
)
_STATES = {"runs": ("runs", "magenta"), "done": ("done", "ink"), "left out": ("broke off", "ochre")}


class IdentifyPage(WatchedPage):
    """The steps of an identification, where it is, what came out; a rehearsal in simulation before."""

    key = "drive"
    section = "Identify"
    question = "What motor is on this drive?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._progress: dict[str, Progress] = {}
        self._found: tuple[Finding, ...] = ()
        self._rehearsed: Rehearsal | None = None
        self._rehearsed_of: Bench | None = None
        self._job = Job(self)
        self._job.done.connect(self._on_rehearsed)
        self._job.refused.connect(self.refuse)
        self._job.busy.connect(self._on_busy)
        self.table = Table("Steps of the identification", ("Step", "State", "Took", "Found"), widths={0: 318, 1: 84, 2: 72})
        self.table.setMinimumHeight(250)
        self.column.addWidget(self.table, 3)
        self.strip = Strip(self.session)
        self.rows = Rows("Rehearsed in simulation", width=280)
        self.column.addWidget(beside(QWidget(), (self.strip.speed,), (self.rows,)), 2)
        self.rehearse = QPushButton("Rehearse")
        self.rehearse.setToolTip("The same on a simulated drive in this program: what would flow, how fast it would turn, how long it takes; nothing real moves")
        self.rehearse.clicked.connect(self._on_rehearse)
        self.finish("Arm and identify", self.rehearse, self.stop)
        self.session.telemetry.connect(self._on_telemetry)

    # ---- what is asked

    def _on_rehearse(self) -> None:
        bench = self.document.bench
        self._rehearsed_of = bench
        self._job.ask_apart(rehearse, bench)

    def _on_rehearsed(self, told: object) -> None:
        assert isinstance(told, Rehearsal)
        self._rehearsed = told
        self.show_document()

    def _on_busy(self, busy: bool) -> None:
        self.answer.show_busy("Rehearsing in simulation …" if busy else "")
        self.rehearse.setEnabled(not busy)

    def on_main(self) -> None:
        """Begin; the drive is armed by it."""
        self.attempt(self._begin)

    def _begin(self) -> None:
        document = self.document
        if document.path is None:
            raise Refusal("the captures have no place yet", "save the bench first: they are kept beside it")
        self.may_move()
        told = self.session.description
        if told is not None:
            steps_of(document.bench, told)
        self._progress, self._found = {}, ()
        self.session.identify(document.bench, document.base, f"{document.path.name.removesuffix('.json').removesuffix('.bench')}-drive")
        self.began()

    # ---- what comes back

    def take(self, told: object) -> None:
        """Take where it is, and what it found."""
        if isinstance(told, Progress):
            self._progress[told.step.key] = told
        elif isinstance(told, Identification):
            self._found = tuple(told.findings)
            self.document.edit("identify the drive", joined(self.document.bench, told.bench), by_hand=False)

    def _on_telemetry(self) -> None:
        if self.isVisible():
            self.strip.draw()

    # ---- what is shown

    def refresh(self) -> None:
        connected, told, busy = self.session.state == "connected", self.session.description, self.session.busy
        steps = steps_of(self.document.bench, told if connected else None)
        assert self.main_button is not None
        self.main_button.setEnabled(connected and not busy)
        self.stop.setEnabled(connected)
        self.rehearse.setEnabled(not busy and not self._job.running)
        self.offer_stop(on=busy)
        if not connected:
            self.strip.clear()
        self.table.show_rows([self._line(step.key, step.name, step.moves) for step in steps])
        done = [p for p in self._progress.values() if p.state == "done"]
        runs = next((p for p in self._progress.values() if p.state == "runs"), None)
        if busy:
            self.answer.show_answer(runs.step.name.partition(",")[0] if runs else "Begins", f"{len(done) + 1} of {len(steps)}: {runs.step.moves}" if runs else "the drive is being armed", stale=False)
        elif self.why:
            kept = "what was found until then stands on the bench; one undo takes it back" if done else "nothing was settled"
            self.answer.show_answer(f"Broke off after {len(done)} of {len(steps)}", kept, self.why, stale=True)
        elif done:
            took = sum(p.took for p in done)
            self.answer.show_answer("Identified", f"{len(done)} steps in {took:.0f} s, settled and written to the drive; one undo takes it off the bench")
        elif not connected:
            self.answer.show_answer("Not connected", "rehearse it in simulation, or connect to the drive first", self.session.why, stale=True)
        else:
            self.answer.show_answer("Not identified yet", f"{len(steps)} steps, each a capture that the program takes and reads")
        self.findings.show_findings((*self._found, _CAUTION) if connected else ())
        self._show_rehearsal()

    def _line(self, key: str, name: str, moves: str) -> list[Cell]:
        told = self._progress.get(key)
        state, colour = _STATES[told.state] if told is not None else ("", "soft")
        text = told.text if told is not None else ""
        took = f"{told.took:.1f} s" if told is not None and told.state != "runs" else ""
        return [Cell(name, tip=f"{name}: {moves}"), Cell(state, colour, bold=state == "runs"), Cell(took, "soft", right=True), Cell(f"   {text}" if text else f"   {moves}" if told is None else "", "ink" if text else "soft", tip=text or moves)]

    def _show_rehearsal(self) -> None:
        told = self._rehearsed
        if told is None:
            self.rows.show_rows((), note="Rehearse shows what would flow and how fast the shaft would turn before anything moves.")
            return
        run = self.document.bench.settings.run
        rows = [
            ("largest current", show(told.current, "A", 3)), ("trips at", show(run.i_trip, "A", 3)), ("fastest", f"{grouped(round(told.speed * RPM_PER_RAD_S))} rpm"), ("on the drive", f"{told.seconds:.0f} s"),
        ]  # fmt: skip
        note = f"Presumed, as nobody said: {', '.join(told.presumed)}." if told.presumed else "With everything as it is settled or stated."
        if self._rehearsed_of != self.document.bench:
            note += " The bench has changed since."
        self.rows.show_rows(rows, note=note)
