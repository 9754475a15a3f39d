"""Where the drive is: the ports there are, one's own address, and the search for what answers on a serial line."""

from __future__ import annotations

from PySide6.QtCore import QObject, QPoint, Signal
from PySide6.QtWidgets import QComboBox, QMenu, QPushButton, QWidget

from crisp_compass.app.jobs import Job
from crisp_compass.capture import Progress
from crisp_compass.drive.description import Description
from crisp_compass.drive.line_search import FoundDrive, Framing, Trial, can_interfaces, search, serial_ports

_SERIAL = ("serial:", "pty:")
_FEW, _ALL = range(1, 17), range(1, 248)


class LinkBox(QComboBox):
    """A link that is typed, or chosen from the ports that there are; they are looked for anew whenever it opens."""

    def __init__(self) -> None:
        super().__init__()
        self.setEditable(True)
        self.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.setMinimumWidth(230)
        self.setAccessibleName("Link to the drive")
        self.setToolTip("Where your own drive is: a port of the list, or tcp:HOST:PORT, serial:DEVICE, can:CHANNEL")
        edit = self.lineEdit()
        assert edit is not None
        edit.setPlaceholderText("tcp:HOST:PORT")
        self.activated.connect(lambda i: self.setEditText(str(self.itemData(i) or "")))

    @property
    def link(self) -> str:
        """The link as typed or chosen."""
        return self.currentText().strip()

    def showPopup(self) -> None:
        kept = self.currentText()
        self.clear()
        for port in (*serial_ports(), *can_interfaces()):
            self.addItem(f"{port.link}   {port.text}", port.link)
        if self.count() == 0:
            self.addItem("No serial port and no CAN interface is there", "")
        self.setEditText(kept)
        super().showPopup()


class Finder(QObject):
    """Asks a serial line for its drive. ``moved`` says that ``text`` is another; ``found`` brings what answered."""

    moved = Signal()
    found = Signal(object)
    refused = Signal(object)

    def __init__(self, box: LinkBox, parent: QWidget) -> None:
        super().__init__(parent)
        self._box = box
        self._first: Framing | None = None
        self._job = Job(self)
        self._job.done.connect(self._on_found)
        self._job.refused.connect(self._on_refused)
        self._job.progress.connect(self._on_progress)
        #: What is under way, for the page; nothing when it rests.
        self.text = ""
        self.button = QPushButton("Find…")
        self.button.setToolTip("Asks a serial line for its drive: every common rate and parity, one address after the other. It reads one register and writes nothing")
        menu = QMenu(self.button)
        menu.addAction("Ask units 1 to 16", lambda: self.start(_FEW))
        menu.addAction("Ask all 247 units", lambda: self.start(_ALL))
        self._menu = menu
        self.button.clicked.connect(self._on_clicked)
        box.editTextChanged.connect(self._enable)
        self._enable()

    @property
    def running(self) -> bool:
        """Whether it is asking."""
        return self._job.running

    def take_description(self, description: Description | None) -> None:
        """Ask first as a description says."""
        self._first = Framing(description.baud or 115200, description.parity, description.stop_bits) if description else None

    def start(self, units: range) -> None:
        """Ask one unit after the other."""
        link, first = self._box.link, self._first
        _, _, device = link.partition(":")
        self.text = "listening"

        def work(report: Progress) -> FoundDrive:
            def tell(part: float, trial: Trial | None) -> None:
                report(part)

            return search(device, units, first, tell=tell)

        self._job.ask_reporting(work)
        self._show()

    def stop(self) -> None:
        """Ask no more."""
        self._job.cancel()
        self._show()

    def _on_clicked(self) -> None:
        if self.running:
            self.stop()
        else:
            self._menu.popup(self.button.mapToGlobal(QPoint(0, -self._menu.sizeHint().height())))

    def _enable(self) -> None:
        self.button.setEnabled(self.running or self._box.link.startswith(_SERIAL))

    def _show(self) -> None:
        self.button.setText("Stop search" if self.running else "Find…")
        if not self.running:
            self.text = ""
        self._enable()
        self.moved.emit()

    def _on_progress(self, part: float) -> None:
        self.text = f"{100 * part:.0f} % of rates and addresses asked"
        self.moved.emit()

    def _on_found(self, found: FoundDrive) -> None:
        self._show()
        self.found.emit(found)

    def _on_refused(self, refusal: object) -> None:
        self._show()
        self.refused.emit(refusal)
