"""Where the drive is: one's own address, the ports there are, and the search for what answers on a serial line."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QObject, QPoint, Signal
from PySide6.QtWidgets import QLineEdit, QMenu, QPushButton, QWidget

from crisp_compass.app.jobs import Job
from crisp_compass.capture import Progress
from crisp_compass.drive.description import Description
from crisp_compass.drive.line_search import FoundDrive, Framing, Trial, can_interfaces, search, serial_ports

_SERIAL = ("serial:", "pty:")
_FEW, _ALL = range(1, 17), range(1, 248)


class LinkField(QLineEdit):
    """A link, typed or chosen."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumWidth(210)
        self.setPlaceholderText("tcp:HOST:PORT")
        self.setAccessibleName("Link to the drive")
        self.setToolTip("Where your own drive is: tcp:HOST:PORT, serial:DEVICE or can:CHANNEL; Ports… lists what this machine has")

    @property
    def link(self) -> str:
        """The link as typed or chosen."""
        return self.text().strip()


class Finder(QObject):
    """Asks a serial line for its drive. ``moved`` says that ``text`` is another; ``found`` brings what answered."""

    moved = Signal()
    found = Signal(object)
    refused = Signal(object)

    def __init__(self, box: LinkField, parent: QWidget) -> None:
        super().__init__(parent)
        self._box = box
        self._first: Framing | None = None
        self._job = Job(self)
        self._job.done.connect(self._on_found)
        self._job.refused.connect(self._on_refused)
        self._job.progress.connect(self._on_progress)
        #: What is under way, for the page; nothing when it rests.
        self.text = ""
        self.button = QPushButton("Ports…")
        self.button.setToolTip("The ports of this machine, and the search for what answers on a serial one: it reads one register and writes nothing")
        self._menu = QMenu(self.button)
        self.button.clicked.connect(self._on_clicked)

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
            return
        self.fill_menu()
        self._menu.popup(self.button.mapToGlobal(QPoint(0, -self._menu.sizeHint().height())))

    def fill_menu(self) -> QMenu:
        """Look for ports anew, and offer the search where the link is a serial one."""
        self._menu.clear()
        ports = [*serial_ports(), *can_interfaces()]
        for port in ports:
            self._menu.addAction(f"{port.link}   {port.text}", partial(self._box.setText, port.link))
        if not ports:
            self._menu.addAction("No serial port and no CAN interface is there").setEnabled(False)
        self._menu.addSeparator()
        for text, units in (("Ask units 1 to 16 on this link", _FEW), ("Ask all 247 units on this link", _ALL)):
            self._menu.addAction(text, partial(self.start, units)).setEnabled(self._box.link.startswith(_SERIAL))
        return self._menu

    def _show(self) -> None:
        self.button.setText("Stop search" if self.running else "Ports…")
        if not self.running:
            self.text = ""
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
