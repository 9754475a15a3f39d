"""Hand over: what goes into the firmware and into the file?"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QSize, QTimer, Signal
from PySide6.QtWidgets import QFileDialog, QPlainTextEdit, QPushButton, QSizePolicy

from crisp_compass.app.autosave import now
from crisp_compass.app.dialogs import ask_save_path, may_replace
from crisp_compass.app.document import Document
from crisp_compass.app.jobs import Job
from crisp_compass.app.page.base import Page
from crisp_compass.bench.models import Bench
from crisp_compass.course.open_points import open_points
from crisp_compass.drive.compare import handed_over
from crisp_compass.drive.writing import Written
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically
from crisp_compass.firmware.cost import cost_of, verdict
from crisp_compass.firmware.plan import plan_of
from crisp_compass.firmware.save import Made, make_firmware, write_files
from crisp_compass.outputs import is_ours
from crisp_compass.quantities import grouped
from crisp_compass.record.formats import FORMS, export_settings
from crisp_compass.record.formats.form import Form
from crisp_compass.record.save import get_ready, save_record
from crisp_compass.studies.apart import let_go, stand_by

#: Time on the page after which a process is made ready to write.
_STAND_BY_MS = 1200
_FIRMWARE_TIP = "A folder of C that compiles as it is: drive, hardware layer to fill in, a motor on a PC, test vectors"


def _firmware_outlook(bench: Bench) -> tuple[str, str]:
    """Return what the firmware still lacks, or else what it takes of the processor."""
    try:
        plan = plan_of(bench)
    except Refusal as refusal:
        return refusal.sentence, ""
    cost = cost_of(plan)
    size = f"{grouped(cost.instructions)} instructions a period, {grouped(cost.code)} bytes of code, {grouped(cost.memory)} of memory"
    return "", f"Firmware: {plan.called}; {size}. {verdict(plan)}"


class HandOverPage(Page):
    """The C header as it will be written; the record as HTML; JSON and CSV for tools."""

    key = "hand_over"
    has_dial = False
    written = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.preview = QPlainTextEdit(readOnly=True)
        self.preview.setObjectName("code")
        self.preview.setAccessibleName("C header as it will be written")
        self.preview.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.preview.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.preview.setMinimumSize(QSize(300, 200))
        self.column.addWidget(self.preview, 1)
        self._report = Job(self)
        self._report.done.connect(lambda path: self.written.emit(f"Record written to {path}"))
        self._report.refused.connect(self.refuse)
        self._report.busy.connect(self._on_writing)
        self.buttons: dict[str, QPushButton] = {}
        self.forms = list(FORMS.values())
        others = ((form.key, f"Save {form.label}…") for form in self.forms[1:])
        for key, text in (("record", "Save record…"), *others, ("firmware", "Save firmware…")):
            self.buttons[key] = QPushButton(text)
        self.buttons["record"].clicked.connect(
            lambda: self._ask("record", ".html", "Record (*.html *.pdf)", self.save_record)
        )
        for form in self.forms[1:]:
            self.buttons[form.key].clicked.connect(partial(self._ask_settings, form))
        self.buttons["firmware"].clicked.connect(self._ask_folder)
        # whoever stays here will save something: the process that writes it is made ready
        self._standing_by = QTimer(self)
        self._standing_by.setSingleShot(True)
        self._standing_by.setInterval(_STAND_BY_MS)
        self._standing_by.timeout.connect(lambda: stand_by(get_ready))
        self._firmware = Job(self)
        self._firmware.done.connect(self._on_made)
        self._firmware.refused.connect(self.refuse)
        self._firmware.busy.connect(self._on_making)
        self._folder = Path()
        self._writing, self._left = False, ""
        self.buttons["drive"] = QPushButton("Write to the drive")
        self.buttons["drive"].setToolTip("Writes what is settled into the parameters of the connected drive that hold it, and reads each back")
        self.buttons["drive"].clicked.connect(lambda: self.attempt(self.write_to_drive))
        document.drive.changed.connect(self._on_drive)
        document.drive.written.connect(self._on_written)
        self.finish(f"Save {self.forms[0].label}…", *self.buttons.values())

    def refresh(self) -> None:
        bench = self.document.bench
        found = open_points(bench)
        count = sum(len(s.values) for s in bench.settled.values())
        assert self.main_button is not None
        self.main_button.setEnabled(bool(bench.settled))
        for form in self.forms[1:]:
            self.buttons[form.key].setEnabled(bool(bench.settled))
            self.buttons[form.key].setVisible(form.suits(bench))
        lacks, takes = _firmware_outlook(bench)
        self.buttons["firmware"].setEnabled(not lacks and not self._firmware.running)
        self.buttons["firmware"].setToolTip(lacks or f"{_FIRMWARE_TIP}. {takes}")
        points = f"{len(found)} open point{'s' if len(found) != 1 else ''}" if found else "no open points"
        self.answer.show_answer(
            f"{count} settings",
            points,
            takes or f"C header for the firmware, record for people. No firmware yet: {lacks}" if bench.settled else "C header for the firmware, record for people.",
        )
        self.findings.show_findings(found)
        self._on_drive()
        text = (
            self.forms[0].write(bench)
            if bench.settled
            else "Nothing is settled yet: the header will appear here."
        )
        if text != self.preview.toPlainText():
            self.preview.setPlainText(text)

    def write_to_drive(self) -> None:
        """Write what the connected drive holds otherwise than the bench, but nothing that rests on an outdated value."""
        session = self.document.drive
        talk, told = session.talk(), session.description
        assert told is not None
        found = handed_over(self.document.bench, [e for e in told.parameters if e.bench], session.held)
        left = f"; {', '.join(n.replace('_', ' ') for n in found.left[:3])}{' and more' if len(found.left) > 3 else ''} left: outdated, settle again first" if found.left else ""
        if found.values:
            self._writing, self._left = True, left
            talk.write(found.values)
        elif found.agree:
            self.done.emit(f"the drive holds all {found.agree} already{left}")
        else:
            raise Refusal(f"nothing can be written{left}", "name in the drive's description which settled value a parameter holds" if not left else "")

    def _on_written(self, written: tuple[Written, ...]) -> None:
        if not self._writing:
            return
        self._writing = False
        wrong = [w.entry.name for w in written if w.refused or w.differs]
        restart = sum(w.entry.restart for w in written)
        waits = f"; {restart} count{'s' if restart == 1 else ''} after a restart" if restart else ""
        if wrong:
            self.refuse(Refusal(f"{', '.join(wrong[:3])} did not take what was written", "look at Parameters on the Drive leg"))
        else:
            self.done.emit(f"{len(written)} written and read back{waits}{self._left}")

    def _on_drive(self) -> None:
        connected = self.document.drive.state == "connected"
        self._writing = self._writing and connected
        self.buttons["drive"].setVisible(connected)

    def _ask_folder(self) -> None:
        text = QFileDialog.getExistingDirectory(self, "Folder for the firmware", str(self.document.base))
        if text:
            self.save_firmware(Path(text))

    def save_firmware(self, folder: Path) -> None:
        """Make the firmware in a process of its own, because its vectors play the simulated drive, then write it."""
        self._folder = folder
        self._firmware.ask_apart(make_firmware, self.document.bench, now().replace("T", " ")[:16])

    def _on_making(self, busy: bool) -> None:
        self.buttons["firmware"].setEnabled(not busy)
        self.buttons["firmware"].setText("Making firmware…" if busy else "Save firmware…")

    def _on_made(self, made: Made) -> None:
        folder, fresh = self._folder, made.fresh(self._folder)
        foreign = [f.name for f in fresh if (folder / f.name).exists() and not is_ours(folder / f.name)]
        more = f" and {len(foreign) - 2} more" if len(foreign) > 2 else ""
        if foreign and not may_replace(
            self, f"{', '.join(foreign[:2])}{more} in {folder.name} were changed by hand, or are somebody else's."
        ):
            return
        try:
            write_files(folder, fresh)
        except Refusal as refusal:
            self.refuse(refusal)
            return
        kept = f"; {', '.join(made.kept(folder))} left as it is" if made.kept(folder) and len(fresh) < len(made.files) else ""
        said = f" Left out: {' '.join(made.left_out)}" if made.left_out else ""
        self.written.emit(f"{len(fresh)} files written to {folder}{kept}.{said}")

    def _ask(self, stem: str, suffix: str, kinds: str, save: Callable[[Path], None]) -> None:
        name = self.document.bench.name.lower().replace(" ", "-").replace("/", "-")
        suffixes = (suffix, ".pdf") if suffix == ".html" else (suffix,)
        path = ask_save_path(self, "Save", self.document.base / f"{name}-{stem}{suffix}", kinds, suffixes=suffixes)
        if path is not None:
            save(path)

    def on_main(self) -> None:
        self._ask_settings(self.forms[0])

    def _ask_settings(self, form: Form) -> None:
        self._ask(form.stem, form.suffix, f"{form.label} (*{form.suffix})", lambda p: self.save_settings(p, form.key))

    def save_settings(self, path: Path, form: str) -> None:
        """Write the settings in one of the export forms."""
        try:
            write_atomically(path, export_settings(self.document.bench, form))
        except Refusal as refusal:
            self.refuse(refusal)
            return
        self.written.emit(f"Written to {path.name}")

    def _on_writing(self, busy: bool) -> None:
        self.buttons["record"].setEnabled(not busy)
        self.buttons["record"].setText("Writing record…" if busy else "Save record…")

    def save_record(self, path: Path) -> None:
        """Write the record in a process of its own: drawing its figures would hold the window up in a thread."""
        document = self.document
        when = now().replace("T", " ")[:16]
        self._report.ask_apart(save_record, path, document.bench, document.base, when, frozenset(document.picked))

    def enter(self) -> None:
        super().enter()
        self._standing_by.start()

    def leave(self) -> None:
        """Let a record under way finish; only its message is dropped."""
        self._standing_by.stop()
        let_go()
