"""The window's one conversation with a drive, shared by the pages of its leg; and the simulated drive that the window starts beside itself."""

from __future__ import annotations

import contextlib
import sys
import tempfile
from collections import deque
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QProcess, QProcessEnvironment, QTimer, Signal

from crisp_compass.app.autosave import now
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import save_bench
from crisp_compass.drive.conversation import Conversation, Event, Occupied, Telemetry
from crisp_compass.drive.description import Description, load_description
from crisp_compass.drive.faults import faults_of
from crisp_compass.drive.hand import Hand
from crisp_compass.drive.identification import Identification
from crisp_compass.drive.identification_plan import bare
from crisp_compass.drive.link import AnyLink, Link
from crisp_compass.drive.linked import LinkedDrive
from crisp_compass.drive.writing import Written
from crisp_compass.errors import Refusal

#: Telemetry that is kept for the strip, s.
KEPT_S = 10.0
_ALIVE_MS = 80
#: Time in which a simulated drive ends by itself.
_ENDS_MS = 2000


class DriveSession(QObject):
    """Connected or not, armed or not, what was read last. ``state`` is ``apart``, ``starting``, ``connecting``, ``connected`` or ``lost``."""

    changed = Signal()
    telemetry = Signal()
    rows = Signal(object, object)
    values = Signal()
    written = Signal(object)
    refused = Signal(str)
    occupied = Signal(object)
    freed = Signal(str)
    _event = Signal(int, object)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.state = "apart"
        self.why = ""
        self.link = ""
        self.description: Description | None = None
        self.now: dict[str, float] = {}
        self.held: dict[str, float] = {}
        self.before: dict[str, float] = {}
        #: How the line does: see :class:`Telemetry`.
        self.line: Telemetry | None = None
        #: Whether something has the line to itself, as an identification does.
        self.busy = False
        #: Faults since the conversation began: how often, and when last.
        self.seen_faults: dict[str, tuple[int, str]] = {}
        self._standing: set[str] = set()
        self.history: deque[tuple[float, dict[str, float]]] = deque()
        self._round = 0
        self._talk: Conversation | None = None
        self._port: LinkedDrive | None = None
        self._process: QProcess | None = None
        #: Simulated drives that were told to end.
        self._ending: list[QProcess] = []
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self._event.connect(self._on_event)
        self._timer = QTimer(self)
        self._timer.setInterval(_ALIVE_MS)
        self._timer.timeout.connect(self._on_alive)

    # ---- beginning and end

    @property
    def simulated(self) -> bool:
        """Whether the drive is the simulated one that this window started."""
        return self._process is not None

    def start_simulated(self, bench: Bench) -> None:
        """Start the simulated drive of a bench in a process of its own, and connect to it."""
        self.close()
        self._folder = tempfile.TemporaryDirectory(prefix="crisp-compass-")
        folder = Path(self._folder.name)
        path = folder / "served.bench.json"
        save_bench(bench, path)
        self._process = QProcess(self)
        environment = QProcessEnvironment.systemEnvironment()
        environment.insert("PYTHONUNBUFFERED", "1")
        self._process.setProcessEnvironment(environment)
        self._process.readyReadStandardOutput.connect(self._on_served)
        self._process.finished.connect(self._on_process_ended)
        arguments = ["-m", "crisp_compass", "drive", "serve", str(path), "--link", "tcp:127.0.0.1:0", "--description", str(folder / "drive.json"), "--until-stdin-closes"]
        self._process.start(sys.executable, arguments)
        self._show("starting", "")

    def connect_to(self, link: str, description: Description) -> None:
        """Begin a conversation over a link."""
        self._hang_up()
        self._round += 1
        number = self._round
        self.link, self.description = link, description
        self.now, self.held, self.before, self.line = {}, {}, {}, None
        self.history.clear()
        self.seen_faults, self._standing = {}, set()
        self._talk = Conversation(link, description, lambda event: self._told(number, event))
        self._talk.start()
        self._timer.start()
        self._show("connecting", "")

    def close(self, *, wait: bool = False) -> None:
        """Stop the motor, hang up, and end the simulated drive if it is ours. Without ``wait`` a line that answers nobody ends by itself, and nothing on the screen waits for it."""
        self._hang_up(wait=wait)
        process, self._process = self._process, None
        if process is not None:
            process.finished.disconnect(self._on_process_ended)
            process.terminate()
            self._ending.append(process)
            process.finished.connect(self._on_ended)
            QTimer.singleShot(_ENDS_MS, process, process.kill)
        if wait:
            for ending in self._ending:
                if not ending.waitForFinished(_ENDS_MS):
                    ending.kill()
                    ending.waitForFinished(1000)
            self._on_ended()
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None
        self._show("apart", "")

    def _on_ended(self) -> None:
        """Let go of simulated drives that have ended."""
        for process in [p for p in self._ending if p.state() == QProcess.ProcessState.NotRunning]:
            self._ending.remove(process)
            process.deleteLater()

    def _hang_up(self, *, wait: bool = False) -> None:
        self._timer.stop()
        self.busy = False
        talk, self._talk, self._port = self._talk, None, None
        if talk is not None:
            talk.close(wait=2.0 if wait else 0.0)

    def _show(self, state: str, why: str) -> None:
        self.state, self.why = state, why
        self.changed.emit()

    # ---- requests

    @property
    def armed(self) -> bool:
        """Whether the drive says that somebody may command it."""
        return self.description is not None and self.description.armed(self.now)

    @property
    def commanding(self) -> bool:
        """Whether this window armed it."""
        return self._talk is not None and self._talk.commands

    def leave(self) -> None:
        """Stop the motor if this window commands it; somebody else's runs on."""
        if self._talk is not None and self._talk.may_command:
            self._talk.stop()

    def talk(self) -> Conversation:
        """Return the conversation; raises Refusal where there is none."""
        if self._talk is None or self.state != "connected":
            raise Refusal("no drive is connected", "connect to one on the Drive leg")
        return self._talk

    def port(self) -> LinkedDrive:
        """Return what is connected as the drive that it is to a run; raises Refusal where nothing is, or where it only tells.

        One conversation has one port, so that whoever asks again commands the same.
        """
        talk, told = self.talk(), self.description
        assert told is not None
        if self._port is None:
            self._port = LinkedDrive(talk, told)
        return self._port

    def identify(self, bench: Bench, folder: Path, prefix: str) -> None:
        """Identify the drive for a bench; captures land in ``folder`` under ``prefix``. ``occupied`` tells how it goes, the run itself last."""
        def work(hand: Hand, busy: Occupied) -> None:
            run = Identification(bare(bench), hand, folder, tell=busy.tell, now=now, prefix=prefix)
            try:
                run.run()
            finally:
                busy.tell(run)

        self.occupy(work)

    def occupy(self, work: Callable[[Hand, Occupied], None], *, alone: bool = True) -> None:
        """Let ``work`` have the drive to itself, or with ``alone`` False look on while it runs; ``occupied`` tells what it tells, ``freed`` its end.

        Raises Refusal where no drive is connected, or something has it already.
        """
        if self.busy:
            raise Refusal("something else has the drive just now", "wait for its end, or stop it")
        talk, told = self.talk(), self.description
        assert told is not None

        def by_hand(line: AnyLink, busy: Occupied) -> None:
            if not isinstance(line, Link):
                raise Refusal("this needs a drive over Modbus", "connect by such a link")
            hand = Hand(line, told, busy.pass_time, saw=busy.saw)
            hand.looks_on = not alone
            if not alone and talk.commands:
                hand.go_on()
            work(hand, busy)

        self.busy = True
        (talk.occupy if alone else talk.borrow)(by_hand)

    def stop(self) -> None:
        """Stop the motor; nothing is asked."""
        if self._talk is not None:
            self._talk.stop()

    def read_parameters(self) -> None:
        """Read every parameter."""
        assert self.description is not None
        self.talk().read([e for e in self.description.parameters if e.readable])

    # ---- what comes back

    def _told(self, number: int, event: Event) -> None:
        with contextlib.suppress(RuntimeError):  # the window may be gone meanwhile
            self._event.emit(number, event)

    def _on_event(self, number: int, event: Event) -> None:
        if number != self._round or self._talk is None:
            return  # of a conversation before
        if event.kind == "connected":
            self._show("connected", "")
            self.read_parameters()
        elif event.kind == "lost":
            self._hang_up()
            self.now = {}
            text = event.text.removeprefix("--link: ")  # an option of the commands; here it is the field above
            self._show("lost", text[:1].upper() + text[1:])
        elif event.kind == "telemetry" and event.telemetry is not None:
            self.now = event.telemetry.values
            if event.telemetry.rounds:  # what an occupation saw tells nothing of the line
                self.line = event.telemetry
            self.history.append((event.telemetry.t, self.now))
            self._note_faults()
            if self._port is not None:
                self._port.take(event.telemetry.t, self.now)
            while self.history and self.history[-1][0] - self.history[0][0] > KEPT_S:
                self.history.popleft()
            self.telemetry.emit()
        elif event.kind == "rows":
            self.rows.emit(*event.told)
        elif event.kind == "values":
            self.held |= event.values
            self.values.emit()
        elif event.kind == "written":
            self._on_written(event.written)
        elif event.kind == "occupied":
            self.occupied.emit(event.told)
        elif event.kind == "free":
            self.busy = False
            self.read_parameters()
            self.freed.emit(event.text)
        elif event.kind == "refused":
            self.refused.emit(event.text)

    def _note_faults(self) -> None:
        assert self.description is not None
        standing = {f.name for f in faults_of(self.description, self.now) if f.stands}
        for name in standing - self._standing:
            self.seen_faults[name] = (self.seen_faults.get(name, (0, ""))[0] + 1, now()[11:19])
        self._standing = standing

    def _on_written(self, written: tuple[Written, ...]) -> None:
        for w in written:
            if not w.refused:
                self.before.setdefault(w.entry.name, self.held.get(w.entry.name, w.value))
                self.held[w.entry.name] = w.value
        self.values.emit()
        self.written.emit(written)

    def _on_alive(self) -> None:
        if self._talk is not None:
            self._talk.alive()

    def _on_served(self) -> None:
        process = self._process
        if process is None or self._folder is None or self.state != "starting":
            return
        line = bytes(process.readLine().data()).decode(errors="replace").strip()
        if not line:
            return
        try:
            self.connect_to(line, load_description(Path(self._folder.name) / "drive.json"))
        except Refusal as refusal:
            self._show("lost", refusal.sentence)

    def _on_process_ended(self) -> None:
        process = self._process
        said = bytes(process.readAllStandardError().data()).decode(errors="replace").strip().splitlines() if process is not None else []
        self._hang_up()
        self._process = None
        text = said[-1].replace("served.bench.json: ", "") if said else "The simulated drive has ended."
        self._show("lost", text.rpartition("/")[2])


