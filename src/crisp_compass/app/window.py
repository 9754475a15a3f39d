"""The window: course, leg, dial, ledger with entry line, next bearing."""

from __future__ import annotations

import importlib
from pathlib import Path

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QMainWindow, QVBoxLayout, QWidget

from crisp_compass.app.arrivals import Arrivals
from crisp_compass.app.bench_files import BenchFiles
from crisp_compass.app.course_strip import CourseStrip, Place
from crisp_compass.app.dial import Dial
from crisp_compass.app.disk_watch import DiskWatch
from crisp_compass.app.document import Document, demo_folder
from crisp_compass.app.guide_panel import GuidePanel
from crisp_compass.app.intake import Arrival, Intake
from crisp_compass.app.jobs import Job
from crisp_compass.app.ledger import Ledger
from crisp_compass.app.menus import Menus
from crisp_compass.app.navigation import Navigator
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.pages import PAGES
from crisp_compass.app.preferences import apply, read
from crisp_compass.app.theme import THEME
from crisp_compass.app.widgets.at_load import AT_LOAD
from crisp_compass.app.widgets.bearing import BearingLine
from crisp_compass.app.widgets.notice import Notice
from crisp_compass.app.widgets.parts import Text, frame
from crisp_compass.course.bridge import travel_of
from crisp_compass.course.course import headline, sections_of, state_of, waypoints_of
from crisp_compass.course.open_points import next_bearing
from crisp_compass.guide import Chapter
from crisp_compass.loops.current import tune_current
from crisp_compass.plant.simulation import READY, prepare

#: Width of the panel, and below which width of the window it is the narrow one.
PANEL, NARROW_PANEL, NARROW = 332, 250, 1200
#: Below this width the panel leaves its room to the page.
SMALL = 860


def _get_ready() -> None:
    """Do away from the window what would make the first visit of a page slow: kernels and late imports."""
    for key in PAGES:
        PAGES[key]
    prepare()
    for name in ("scipy.optimize", "scipy.signal", "scipy.special"):
        importlib.import_module(name)
    tune_current(r=1.0, ld=1e-3, lq=1e-3, loop_hz=1e4, bandwidth_hz=500.0)


class Window(QMainWindow):
    """One bench in one window."""

    #: Windows that are open: without this list the second one would be collected.
    opened: list[Window] = []  # noqa: RUF012 - shared on purpose

    def __init__(self, settings: QSettings | None = None) -> None:
        super().__init__()
        self._reads = False
        self.settings = settings or QSettings("crisp-compass", "crisp-compass")
        self.document = Document(self)
        self.intake = Intake(self.document, self.settings)
        self.files = BenchFiles(self, self.document, self.settings)
        self.navigator = Navigator(self, self.document)
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(600, 380)
        self.course = CourseStrip()
        self.dial = Dial()
        self.notices = Notice()
        self.ledger = Ledger(self.document)
        self.guide = GuidePanel()
        self.bearing = BearingLine()
        self.arrivals = Arrivals(self, self.intake, self.navigator, self.notices)
        self.disk = DiskWatch(self, self.document, self.files)
        self._connect()
        self._build()
        self.menus = Menus(self, demo_folder())
        geometry = self.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        self.bearing.restyle()
        self.travel("plate")

    def _connect(self) -> None:
        self.dial.turned.connect(self._on_turned)
        self.bearing.button.clicked.connect(self.follow_bearing)
        self.navigator.made.connect(self._on_made)
        self.navigator.left.connect(self.notices.clear)
        self.navigator.arrived.connect(self._on_arrived)
        self.ledger.refused.connect(self.notice)
        self.guide.wanted.connect(self.open_guide)
        self.guide.closed.connect(self.toggle_guide)
        self.course.chosen.connect(self.travel)
        self.document.changed.connect(self.refresh)
        self.document.edited.connect(self.notices.clear)
        self.document.renamed.connect(self._show_title)
        self.files.refused.connect(self.notice)
        self.document.drive.refused.connect(self.notice)  # whichever page asked
        self.document.unkept.connect(self.notice)
        self.files.done.connect(self.say)
        self.arrivals.said.connect(self.say)
        self.disk.refused.connect(self.notice)
        self.files.opened.connect(self._on_opened)
        THEME.changed.connect(self.bearing.restyle)

    def _build(self) -> None:
        self._panel = frame("panel")
        self._panel.setFixedWidth(PANEL)
        side = QVBoxLayout(self._panel)
        side.setContentsMargins(0, 4, 0, 0)
        side.setSpacing(0)
        side.addWidget(self.dial)
        side.addWidget(self.ledger, 1)
        side.addWidget(self.guide, 1)
        self.guide.hide()
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.navigator.stack, 1)
        middle.addWidget(self._panel)
        central = QWidget()
        column = QVBoxLayout(central)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.course)
        # above the page: a sentence that comes there moves nothing that the hand is on
        for line in (self.arrivals, self.disk, self.notices):
            column.addWidget(line)
        column.addLayout(middle, 1)
        column.addWidget(self.bearing)
        self.setCentralWidget(central)
        self.statusBar().setSizeGripEnabled(False)
        self._status = Text()
        self._status.setContentsMargins(0, 0, 14, 0)
        self.statusBar().addPermanentWidget(self._status)

    def prepare_simulation(self) -> None:
        """Compile the plant in the background; pages that need it say so until it is done."""
        READY.clear()
        self._prepare = Job(self)
        for signal in (self._prepare.done, self._prepare.refused):
            signal.connect(self._on_prepared)
        self._prepare.ask(_get_ready)

    def _on_prepared(self, _: object) -> None:
        READY.set()
        self.refresh()
        self.navigator.build_ahead()

    # ---- pages

    @property
    def page(self) -> Page:
        """The open page."""
        return self.navigator.page

    def page_of(self, key: str, section: str = "") -> Page:
        """Return a section's page, building it the first time."""
        return self.navigator.page_of(key, section)

    def travel(self, key: str, section: str = "") -> None:
        """Open a waypoint, at one of its sections or at the main one."""
        self.navigator.travel(key, section)

    def connect_simulated(self) -> None:
        """Start the simulated drive of this bench as a device, and go to its leg."""
        self.travel("drive")
        if self.document.drive.state in ("apart", "lost"):
            self.document.drive.start_simulated(self.document.bench)

    def connect_demo(self, path: Path) -> None:
        """Open a demo and connect to its simulated drive; nothing happens where the open bench is to stay."""
        if self.open(path):
            self.connect_simulated()

    def _show_panel(self) -> None:
        """Keep dial and ledger where there is room beside the page; in a small window, or with large text, the guide and a reading bring them back."""
        self._panel.setVisible(self.width() >= SMALL or not self.guide.isHidden() or self._reads)

    def read_entry(self) -> None:
        """Go to the line for readings, which a small window hides."""
        self._reads = True
        self._show_panel()
        self.ledger.entry.setFocus()

    def toggle_guide(self) -> None:
        """Put the guide beside the page, in the place of dial and ledger, or take it away."""
        shown = self.guide.isHidden()
        self._reads = False
        self.guide.setVisible(shown)
        self.ledger.setVisible(not shown)
        if shown:
            self.guide.show_page(self.page.key, self.page.section)
        self._show_dial()
        self._show_panel()
        self._order_tabs()
        (self.guide.view if shown else self.page).setFocus()

    def open_guide(self, chapter: Chapter) -> None:
        """Go to a chapter's page with the guide beside it."""
        self.travel(chapter.key, chapter.section)
        if self.guide.isHidden():
            self.toggle_guide()

    def _show_dial(self) -> None:
        """Show the dial where the page has one, the motor an angle, and the guide does not take its room."""
        self.dial.setVisible(self.page.has_dial and self.document.bench.settings.plate.windings > 1 and self.guide.isHidden())

    def follow_bearing(self) -> None:
        """Go where the next bearing points."""
        bearing = next_bearing(self.document.bench, ran=self.document.ran)
        self.travel(bearing.waypoint, bearing.section)

    def _on_turned(self, angle: float) -> None:
        self.page.on_dial(angle)

    def _on_made(self, page: Page) -> None:
        page.refused.connect(self.notice)
        page.explained.connect(self.notices.explain)
        page.mended.connect(self.notices.clear)
        page.dial_changed.connect(lambda view, p=page: self.dial.show_view(view) if self.page is p else None)
        page.done.connect(self.say)
        page.wished.connect(self._on_wished)
        if isinstance(page, CapturePage):
            page.chosen.connect(lambda path, p=page: self.intake.add(Arrival(path, topic=p.key)))
            page.remap.connect(lambda p=page: self.arrivals.ask_again(p))
            self.intake.taken.connect(page.on_taken)

    def _on_wished(self, wish: str) -> None:
        kind, _, name = wish.partition(":")
        {"open": self.files.ask_open, "drills": self.menus.show_drills, "guide": self.toggle_guide}.get(kind, lambda: self.open(demo_folder() / name / f"{name}.bench.json"))()

    def _on_arrived(self, page: Page) -> None:
        self.refresh()
        QTimer.singleShot(0, self._order_tabs)
        self.dial.show_view(page.dial_view)
        if not self.guide.isHidden():
            self.guide.show_page(page.key, page.section)

    def _order_tabs(self) -> None:
        self.navigator.order_tabs([self.course], [self.dial, *self.ledger.findChildren(QWidget), self.guide.line, self.guide.view, self.bearing.button])

    # ---- showing

    def refresh(self) -> None:
        """Show the document everywhere."""
        bench, page = self.document.bench, self.page
        waypoints = waypoints_of(bench)
        if page.waypoint not in waypoints:
            self.travel("plate")
            return
        places = tuple(Place(w.key, w.name, headline(bench, w), state_of(bench, w)) for w in waypoints)
        self.course.show_course(places, page.key)
        AT_LOAD.follow(travel_of(bench), bench.settings.load_side.unit)
        self.menus.refresh()
        self.bearing.show_text(next_bearing(bench, ran=self.document.ran).text)
        windings = bench.settings.plate.windings
        self.dial.show_windings(windings)
        self._show_dial()
        page.offer_sections(sections_of(bench, page.waypoint))
        page.show_document()
        self._show_title()

    def _show_title(self) -> None:
        document = self.document
        mark = " • unsaved" if document.unsaved else ""
        motor = document.bench.settings.plate.motor
        names = " · ".join(n for n in (document.bench.name, motor) if n)
        self.setWindowTitle(f"{names} – Crisp Compass{mark}")
        self._status.setText(f"{document.title}{mark}   ·   F1 guide   ·   Ctrl+F find   ·   Ctrl+T night")

    def notice(self, sentence: str) -> None:
        """Show one sentence until its cause is gone: the next entry, another page, or dismissed."""
        self.notices.show_sentence(sentence)

    def say(self, text: str) -> None:
        """Say in the status bar what was done."""
        self.statusBar().showMessage(text, 8000)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._panel.setFixedWidth(PANEL if self.width() >= NARROW else NARROW_PANEL)
        self._show_panel()
        self.dial.fit(self._panel.width(), self.height())

    # ---- files

    def open(self, path: Path) -> bool:
        """Open a bench; on refusal the open one stays and a sentence says why."""
        return self.files.open(path)

    def save(self) -> bool:
        """Save, asking for a name if there is none; return whether it was saved."""
        return self.files.save()

    def another(self) -> Window:
        """Open a second window with an empty bench."""
        fresh = Window(self.settings)
        apply(fresh, read(self.settings))
        Window.opened.append(fresh)
        fresh.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        fresh.show()
        return fresh

    def rename(self) -> None:
        """Ask for the names of bench and motor."""
        from crisp_compass.app.names import NamesDialog

        NamesDialog(self, self.document).exec()

    def _on_opened(self) -> None:
        self.notices.clear()
        self.travel(next_bearing(self.document.bench).waypoint if self.document.path else "plate")

    # ---- captures

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        event.acceptProposedAction()
        self.take_files([Path(url.toLocalFile()) for url in event.mimeData().urls()])

    def take_files(self, paths: list[Path]) -> None:
        """Open a bench, or bring every capture to the waypoint it belongs to; several benches at once are refused by name."""
        benches = [p for p in paths if p.name.endswith(".json")]
        if len(benches) == 1 and len(paths) == 1:
            self.open(benches[0])
            return
        for path in benches:
            self.notices.add_refusal(f"{path.name}: a bench is opened by itself; drop it alone.")
        here = self.page.key if isinstance(self.page, CapturePage) else ""
        for path in paths:
            if path not in benches:
                self.intake.add(Arrival(path, here=here))

    def take_file(self, path: Path) -> None:
        """Open a bench or bring a capture to the waypoint it belongs to."""
        self.take_files([path])

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_discard():
            event.ignore()
            return
        self.page.leave()
        self.document.drive.close(wait=True)
        self.intake.clear()
        self.document.drop_autosave()
        self.settings.setValue("geometry", self.saveGeometry())
        THEME.changed.disconnect(self.bearing.restyle)
        if self in Window.opened:
            Window.opened.remove(self)
        event.accept()
