"""Drive, connect: is the drive there, and does it do what it is told?"""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QFileDialog, QMenu, QPushButton, QWidget

from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.waypoints.drive.editor import Editor
from crisp_compass.app.waypoints.drive.line_row import Finder, LinkField
from crisp_compass.app.waypoints.drive.strip import Strip
from crisp_compass.app.widgets.flow import FlowRow
from crisp_compass.app.widgets.number_field import NumberField
from crisp_compass.app.widgets.parts import beside, label
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.running import DRIVE_MOVES
from crisp_compass.drive.conversation import factor_to_si
from crisp_compass.drive.description import Description, Entry, load_description
from crisp_compass.drive.faults import faults_of
from crisp_compass.drive.importing import import_description
from crisp_compass.drive.library import kept
from crisp_compass.drive.line_search import FoundDrive
from crisp_compass.drive.recording import as_capture
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically
from crisp_compass.preparation.checks import blocking_checks
from crisp_compass.quantities import grouped, show


class ConnectPage(Page):
    """Link, description, who commands, a speed, and the last ten seconds of telemetry."""

    key = "drive"
    section = "Connect"
    has_dial = False
    arranges_fields = True

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.session = document.drive
        self._description: Description | None = None
        self._path: Path | None = None
        #: Framing and address that answered a search, and on which link.
        self._found: dict[str, object] = {}
        self._found_at = ""
        self.picture = Strip(self.session)
        self.rows = Rows("On the line", width=330)
        self.column.addWidget(beside(QWidget(), self.picture.plots, (self.rows,)), 1)
        self._build_line()
        self._build_commands()
        self.session.changed.connect(self._follow)
        self.session.telemetry.connect(self._on_telemetry)

    def _build_line(self) -> None:
        self.link = LinkField()
        self.finder = Finder(self.link, self)
        self.finder.moved.connect(self._follow)
        self.finder.found.connect(self._on_found)
        self.finder.refused.connect(self.refuse)
        self.file = QPushButton("Description…")
        self.file.setToolTip("What the drive is: a JSON file of its registers (docs/drive.schema.json), a node's electronic data sheet (.eds), or a table of registers (.csv)")
        self._menu = QMenu(self.file)
        self.file.clicked.connect(self._on_menu)
        self.own = QPushButton("Connect")
        self.own.clicked.connect(self._on_connect)
        self.simulated = QPushButton("Simulated drive of this bench")
        self.simulated.setToolTip("Starts the simulated drive as a device of its own, behind Modbus TCP, and connects to it")
        self.simulated.clicked.connect(self._on_simulated)
        self.hang_up = QPushButton("Disconnect")
        self.hang_up.clicked.connect(self.session.close)
        row = FlowRow()
        for widget in (label("Link", "info"), self.link, self.finder.button, self.file, self.own, self.simulated, self.hang_up):
            row.add(widget)
        self.add_row(row)

    def _build_commands(self) -> None:
        self.speed = NumberField("Speed", "rpm", width=110)
        self.speed.setToolTip("Speed to run at; Enter sends it to the armed drive")
        self.speed.moved.connect(self._on_speed)
        self.arm = QPushButton("Arm")
        self.arm.setToolTip("Take command of the drive: from here on it may move")
        self.arm.clicked.connect(self._on_arm)
        self.clear = QPushButton("Acknowledge fault")
        self.clear.clicked.connect(lambda: self.attempt(lambda: self.session.talk().send("acknowledge")))
        self.strip = QPushButton("Save strip…")
        self.strip.setToolTip("The last ten seconds as a capture, which every leg reads")
        self.strip.clicked.connect(self._on_save)
        self.hold = QPushButton("Hold")
        self.hold.setCheckable(True)
        self.hold.setToolTip("Holds the strip still, to look at with two cursors (C in a plot) and to save; the drive goes on")
        self.hold.toggled.connect(self.picture.hold)
        self.add_fields(self.speed)
        self.finish("Stop", self.hold, self.strip, self.arm, self.clear)
        assert self.main_button is not None
        self.main_button.setShortcut(QKeySequence())
        self.main_button.setToolTip("Stops and disarms; Space or Esc while it is armed")
        self._keys = [QShortcut(QKeySequence(key), self) for key in (Qt.Key.Key_Space, Qt.Key.Key_Escape)]
        for key in self._keys:
            key.setEnabled(False)
            key.activated.connect(self.session.stop)

    # ---- what is asked

    def fill_menu(self) -> QMenu:
        """Offer what there is: a file, the library, the editor."""
        self._menu.clear()
        self._menu.addAction("Open file…", self._on_file)
        for path in kept():
            self._menu.addAction(path.stem, partial(self.take_description, path))
        self._menu.addSeparator()
        self._menu.addAction("Edit this one…" if self._description else "Write a new one…", self._on_edit)
        return self._menu

    def _on_menu(self) -> None:
        menu = self.fill_menu()
        menu.popup(self.file.mapToGlobal(QPoint(0, -menu.sizeHint().height())))

    def _on_edit(self) -> None:
        editor = Editor(self._description, self.link.link, self._path.parent if self._path else self.document.base, self)
        if editor.exec() and editor.description is not None:
            self.use_description(editor.description)

    def use_description(self, description: Description) -> None:
        """Take a description as it was edited."""
        self._description, self._path = description, None
        self.finder.take_description(description)
        self._follow()

    def _on_file(self) -> None:
        start = str(self._path or self.document.base)
        name, _ = QFileDialog.getOpenFileName(self, "Description of the drive", start, "Descriptions, data sheets, tables (*.json *.eds *.dcf *.csv);;All files (*)")
        if name:
            self.take_description(Path(name))

    def take_description(self, path: Path) -> None:
        """Read the description of one's own drive."""
        try:
            if path.suffix.lower() in (".eds", ".dcf", ".csv"):
                rtu = self.link.link.startswith(("serial:", "pty:"))
                made, told = import_description(path, protocol="modbus rtu" if rtu else "modbus tcp", unit_id=1)
                self._description, self._path = made, path
                if told:
                    self.done.emit(told[0].text)
            else:
                self._description, self._path = load_description(path), path
            if self._found and self._found_at == self.link.link and not self._description.over_can and not self._description.streams:
                self._description = self._description.model_copy(update=self._found)  # what answered knows better than a file
            self.finder.take_description(self._description)
        except Refusal as refusal:
            self.refuse(refusal)
            return
        self._follow()

    def _on_connect(self) -> None:
        if self._description is None:
            self.refuse(Refusal("nothing says what the drive is", "choose its description first"))
            return
        self.session.close()
        self.finder.stop()
        self.session.connect_to(self.link.link, self._description)

    def _on_found(self, found: FoundDrive) -> None:
        """Take framing and address that answered into the description, if one is chosen."""
        how: dict[str, object] = {"baud": found.framing.baud, "parity": found.framing.parity, "stop_bits": found.framing.stop_bits, "unit_id": found.unit}
        text = f"unit {found.unit} answers at {found.framing.text}"
        if found.unasked:
            text += ", and somebody sends there who was not asked: let one master ask"
        if self._description is None or self._description.over_can or self._description.streams:
            self.done.emit(f"{text}; choose the drive's description, then connect")
        else:
            self._description = self._description.model_copy(update=how)
            self.done.emit(f"{text}; connect")
        self._found, self._found_at = how, self.link.link
        self._follow()

    def _on_simulated(self) -> None:
        self.attempt(lambda: self.session.start_simulated(self.document.bench))

    def _on_arm(self) -> None:
        stops = blocking_checks(self.document.bench)
        if stops and not self.session.simulated:
            self.refuse(Refusal(f"{stops[0].check.inline} says stop: {stops[0].reason}", "mend it before anything moves"))
            return
        self.attempt(lambda: self.session.talk().arm())

    def _on_speed(self, value: float) -> None:
        if self.session.armed:
            self.attempt(lambda: self.session.talk().run_at(value))

    def on_main(self) -> None:
        """Stop; this works whatever else is under way."""
        self.session.stop()

    def leave(self) -> None:
        """Leaving the page stops the motor that this window commands; the line stays."""
        self.session.leave()

    # ---- what is shown

    def refresh(self) -> None:
        self._follow()

    def _entry(self, role: str) -> Entry | None:
        return self.session.description.role("telemetry", role) if self.session.description else None

    def _follow(self) -> None:
        """Show the state of the line."""
        session, told = self.session, self.session.description
        connected = session.state == "connected"
        named = self._path.stem if self._path else self._description.name or "edited" if self._description else ""
        self.file.setText(f"Description: {named[:22]}" if named else "Description…")
        busy = session.state in ("starting", "connecting")
        asked: tuple[QWidget, ...] = (self.link, self.file, self.own, self.simulated)
        told_what: tuple[QWidget, ...] = (self.arm, self.clear, self.speed)
        for widget in asked:
            widget.setEnabled(not connected and not busy and not (self.finder.running and widget is not self.link))
        self.hang_up.setEnabled(connected or busy)
        self.strip.setEnabled(connected)
        self.hold.setEnabled(connected)
        if not connected:
            self.hold.setChecked(False)
        listens = connected and told is not None and not told.streams
        for widget in told_what:
            widget.setEnabled(listens)
        assert self.main_button is not None
        self.main_button.setEnabled(listens)
        if connected and told is not None:
            self._on_telemetry()
            return
        self.findings.show_findings(())
        self.picture.clear()
        self.rows.show_rows((), note="Its description names the drive's registers or objects. The simulated drive brings its own.")
        for key in self._keys:
            key.setEnabled(False)
        text = {
            "apart": ("Not connected", "choose the simulated drive, or a link and the description of your own"), "starting": ("Starting", "the simulated drive of this bench"),
            "connecting": ("Connecting", session.link), "lost": ("Not connected", session.why),
        }[session.state]  # fmt: skip
        if self.finder.running:
            text = ("Searching", f"{self.finder.text}; one register is read, nothing is written")
        self.answer.show_answer(*text, stale=session.state == "lost" and not self.finder.running)

    def _on_telemetry(self) -> None:
        session, told = self.session, self.session.description
        if session.state != "connected" or told is None or not self.isVisible():
            return
        armed, speed = session.armed, self._entry("speed")
        rpm = session.now.get(speed.name, 0.0) * factor_to_si(speed) * RPM_PER_RAD_S if speed else float("nan")
        name = told.name or session.link
        who = "a stream: it tells and cannot be told" if told.streams else "ARMED: this window commands it" if armed and session.commanding else "ARMED by somebody else" if armed else "disarmed: nothing moves"
        fault = self._fault()
        shown = f"{grouped(round(rpm))} rpm".replace("-", "−") if speed and speed.name in session.now else "Connected"
        self.answer.show_answer(shown, f"{who}; {name}", f"Fault: {fault}. Find the cause, then acknowledge." if fault else "", stale=bool(fault))
        self.findings.show_findings(() if told.streams else (DRIVE_MOVES,))
        self.arm.setEnabled(not armed and not told.streams)
        for key in self._keys:
            key.setEnabled(armed)
        self.picture.draw()
        self._show_rows(told)

    def _fault(self) -> str:
        told = self.session.description
        return ", ".join(f.name for f in faults_of(told, self.session.now) if f.stands) if told else ""

    def _on_save(self) -> None:
        """Save what the strip shows as a capture."""
        told, rows = self.session.description, self.picture.rows
        entries = [e for e in told.telemetry if e.signal and all(e.name in r[1] for r in rows)] if told else []
        if told is None or len(rows) < 2 or not entries:
            self.refuse(Refusal("there is nothing to save yet", "connect, and let some seconds pass"))
            return
        path = ask_save_path(self, "Save the strip as a capture", self.document.base / "drive.csv", "Captures (*.csv)", suffixes=(".csv",))
        if path is None:
            return
        try:
            write_atomically(path, as_capture(told, entries, [t - rows[0][0] for t, _ in rows], [values for _, values in rows]))
        except (Refusal, OSError) as error:
            self.refuse(error if isinstance(error, Refusal) else Refusal(f"{path.name} cannot be written ({error.strerror})", "choose another folder"))
            return
        self.done.emit(f"{len(rows)} rows saved as {path.name}")

    def _line_rows(self) -> list[tuple[str, str]]:
        """Say how the line does: how long an answer takes, how much of its time is taken, what had to be asked again."""
        line = self.session.line
        if line is None:
            return []
        rows = [("an answer takes", show(line.answer_s, "s", 2))] if line.answer_s else []
        if line.load:
            rows.append(("line taken", f"{100 * line.load:.0f} % of its time, at most 80"))
        failed = "none" if not line.failed else f"{grouped(line.failed)}, {100 * line.failed / max(line.asked, 1):.2g} %"
        return [*rows, ("frames", f"{grouped(line.asked)}, lost or broken {failed}")]

    def _show_rows(self, told: Description) -> None:
        watchdog = told.watchdog
        rows = [
            ("link", self.session.link), ("protocol", f"{told.protocol}, unit {told.unit_id}"), *self._line_rows(),
            ("values", f"{len(told.parameters)} parameters, {len(told.telemetry)} telemetry"),
            ("frame", show(told.period_s, "s")) if told.streams else ("watchdog", f"{show(watchdog.seconds, 's')}, at rest {show(watchdog.stop_s, 's')} later" if watchdog else "none told: it may run on when the line is cut"),
        ]  # fmt: skip
        known = {e.name for e in (self._entry("speed"), self._entry("armed")) if e}
        values = self.session.now
        known |= {e.name for e in told.telemetry if e.role in ("scope_rows", "tune_state")}
        rows += [
            (e.name.replace("_", " "), show(values[e.name], e.unit, 4) if e.unit else f"{values[e.name]:g}") for e in told.telemetry if e.name not in known and e.name in values and e.signal != "angle"
        ]  # fmt: skip
        self.rows.show_rows(rows, note="The simulated drive: nothing real moves." if self.session.simulated else "Leaving this page, closing the window or a lost line stops the motor.")
