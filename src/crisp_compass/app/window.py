"""The window: course, leg, dial, ledger with entry line, next bearing."""

from __future__ import annotations

import importlib
from collections.abc import Callable
from functools import partial
from itertools import pairwise
from pathlib import Path

from PySide6.QtCore import QPoint, QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QResizeEvent, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.bench_files import BenchFiles
from crisp_compass.app.course_strip import CourseStrip, Waypoint
from crisp_compass.app.dial import Dial
from crisp_compass.app.document import Document, demo_folder
from crisp_compass.app.intake import Arrival, Intake, section_of
from crisp_compass.app.jobs import Job
from crisp_compass.app.ledger import Ledger
from crisp_compass.app.logs import copy_diagnostics
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.mapping import MappingDialog
from crisp_compass.app.pages import PAGES
from crisp_compass.app.theme import THEME
from crisp_compass.app.widgets.bearing import BearingLine
from crisp_compass.app.widgets.notice import Notice
from crisp_compass.app.widgets.page_stack import PageStack
from crisp_compass.app.widgets.parts import frame
from crisp_compass.app.widgets.plot import refusal_text
from crisp_compass.course.angle_sensors import SECTIONS
from crisp_compass.course.captures import Evaluated
from crisp_compass.course.open_points import next_bearing
from crisp_compass.course.waypoint import BY_KEY, headline, legs_of, state_of
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import tune_current
from crisp_compass.plant.simulation import READY, prepare

#: Between two pages that are built ahead.
AHEAD_MS = 120
#: Width of the panel, and below which width of the window it is the narrow one.
PANEL, NARROW_PANEL, NARROW = 332, 250, 1200


def _get_ready() -> None:
    """Do away from the window what would make the first visit of a page slow: kernels and late imports."""
    prepare()
    for name in ("scipy.optimize", "scipy.signal", "scipy.stats"):
        importlib.import_module(name)
    tune_current(r=1.0, ld=1e-3, lq=1e-3, loop_hz=1e4, bandwidth_hz=500.0)


class Window(QMainWindow):
    """One bench in one window."""

    #: Windows that are open: without this list the second one would be collected.
    opened: list[Window] = []  # noqa: RUF012 - shared on purpose

    def __init__(self, settings: QSettings | None = None) -> None:
        super().__init__()
        self.settings = settings or QSettings("crisp-compass", "crisp-compass")
        self.document = Document(self)
        self.intake = Intake(self.document, self.settings)
        self.files = BenchFiles(self, self.document, self.settings)
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(880, 520)
        self.course = CourseStrip()
        self.dial = Dial()
        #: Every section by leg and name; a page is built when it is first opened, so that the window opens fast.
        self.sections: dict[str, dict[str, type[Page]]] = {}
        for kind in PAGES:
            self.sections.setdefault(kind.key, {})[kind.section] = kind
        self._built: dict[type[Page], Page] = {}
        self.stack = PageStack()
        self.notices = Notice()
        self.page: Page = self.page_of("plate")
        self.dial.turned.connect(self._on_turned)
        self.ledger = Ledger(self.document)
        self.bearing = BearingLine()
        self.bearing.button.clicked.connect(self._follow_bearing)
        self._build()
        self._build_menus()
        self._connect()
        geometry = self.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        self.bearing.restyle()
        self.travel("plate")
        self._show_title()

    def _connect(self) -> None:
        self.ledger.refused.connect(self.notice)
        self.course.chosen.connect(self.travel)
        self.document.changed.connect(self.refresh)
        self.document.edited.connect(self.notices.clear)
        self.document.renamed.connect(self._show_title)
        self.files.refused.connect(self.notice)
        self.files.done.connect(self.say)
        self.files.opened.connect(self._on_opened)
        self.intake.busy.connect(self._on_busy)
        self.intake.taken.connect(self._on_taken)
        self.intake.refused.connect(self._on_capture_refused)
        self.intake.asks.connect(self._ask_channels)
        THEME.changed.connect(self.bearing.restyle)

    def page_of(self, key: str, section: str = "") -> Page:
        """Return a section's page (a leg's main one without a name), building it the first time."""
        kinds = self.sections[key]
        kind = kinds[section] if section else next(iter(kinds.values()))
        if kind not in self._built:
            page = self._built[kind] = kind(self.document)
            page.refused.connect(self.notice)
            page.mended.connect(self.notices.clear)
            page.dial_changed.connect(lambda view, p=page: self.dial.show_view(view) if self.page is p else None)
            page.section_chosen.connect(partial(self.travel, key))
            page.done.connect(self.say)
            if isinstance(page, CapturePage):
                page.chosen.connect(lambda path, p=page: self.intake.add(Arrival(path, leg=p.key)))
                self.intake.taken.connect(page.on_taken)
            page.show_sections(tuple(kinds))
            self.stack.add(page)
        return self._built[kind]

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
        self._ahead = QTimer(self)
        self._ahead.setInterval(AHEAD_MS)
        self._ahead.timeout.connect(self._build_ahead)
        self._ahead.start()

    def _build_ahead(self) -> None:
        """Build one more page while nobody waits for it."""
        for key, kinds in self.sections.items():
            for name, kind in kinds.items():
                if kind not in self._built:
                    self.page_of(key, name)
                    return
        self._ahead.stop()

    def _build(self) -> None:
        self._busy = frame("busy")
        row = QHBoxLayout(self._busy)
        row.setContentsMargins(12, 2, 6, 2)
        self.busy_text = QLabel()
        cancel = QPushButton("Cancel reading")
        cancel.setObjectName("small")
        cancel.clicked.connect(self.intake.cancel)
        row.addWidget(self.busy_text)
        row.addWidget(cancel)
        row.addStretch(1)
        self._busy.hide()
        self._panel = frame("panel")
        self._panel.setFixedWidth(PANEL)
        side = QVBoxLayout(self._panel)
        side.setContentsMargins(0, 4, 0, 0)
        side.setSpacing(0)
        side.addWidget(self.dial)
        side.addWidget(self.ledger, 1)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.stack, 1)
        middle.addWidget(self._panel)
        central = QWidget()
        column = QVBoxLayout(central)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.course)
        column.addLayout(middle, 1)
        column.addWidget(self._busy)
        column.addWidget(self.notices)
        column.addWidget(self.bearing)
        self.setCentralWidget(central)
        self.statusBar().setSizeGripEnabled(False)
        self._status = QLabel()
        self._status.setContentsMargins(0, 0, 14, 0)
        self.statusBar().addPermanentWidget(self._status)

    def _build_menus(self) -> None:
        def add(menu: QMenu, text: str, slot: Callable[..., object], keys: str = "") -> QAction:
            action = menu.addAction(text)
            action.triggered.connect(lambda _checked=False: slot())
            if keys:
                action.setShortcut(QKeySequence(keys))
            return action

        file = self.menuBar().addMenu("&File")
        add(file, "&New bench", self.files.new, "Ctrl+N")
        add(file, "New &window", self.another, "Ctrl+Shift+N")
        add(file, "&Open bench…", self.files.ask_open, "Ctrl+O")
        demos = file.addMenu("Open &demo")
        for name in ("winch", "thruster"):
            add(demos, name.capitalize(), partial(self.open, demo_folder() / name / f"{name}.bench.json"))
        self._recent = file.addMenu("Open &recent")
        self._recent.aboutToShow.connect(self._fill_recent)
        file.addSeparator()
        add(file, "&Save", self.files.save, "Ctrl+S")
        add(file, "Save &as…", self.files.save_as, "Ctrl+Shift+S")
        add(file, "Bench na&me…", self.rename)
        file.addSeparator()
        add(file, "&Quit", self.close, "Ctrl+Q")
        edit = self.menuBar().addMenu("&Edit")
        undo = self.document.undo_stack.createUndoAction(self, "&Undo")
        undo.setShortcut(QKeySequence.StandardKey.Undo)
        redo = self.document.undo_stack.createRedoAction(self, "&Redo")
        redo.setShortcuts([QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Y")])
        edit.addActions([undo, redo])
        edit.addSeparator()
        add(edit, "Copy window as &picture", lambda: QApplication.clipboard().setPixmap(self.grab()), "Ctrl+Shift+C")
        travel = self.menuBar().addMenu("&Course")
        self._leg_actions = []
        for number in range(1, 12):
            keys = f"Alt+{number % 10}" if number < 11 else "Alt+-"
            action = add(travel, f"Leg {number}", partial(self._travel_number, number), keys)
            self._leg_actions.append(action)
        travel.addSeparator()
        add(travel, "Next sec&tion", partial(self._turn_section, 1), "Ctrl+PgDown")
        add(travel, "P&revious section", partial(self._turn_section, -1), "Ctrl+PgUp")
        travel.addSeparator()
        add(travel, "Follow &next bearing", self._follow_bearing, "Ctrl+B")
        add(travel, "Type a &reading", self.ledger.entry.setFocus, "Ctrl+E")
        view = self.menuBar().addMenu("&View")
        self._night = add(view, "&Night colours", self._toggle_night, "Ctrl+T")
        self._night.setCheckable(True)
        self._night.setChecked(THEME.name == "night")
        help_menu = self.menuBar().addMenu("&Help")
        add(help_menu, "&Keyboard…", self._show_keys, "F1")
        add(help_menu, "Copy &diagnostics", self._copy_diagnostics)
        add(help_menu, "&About…", self._show_about)
        QShortcut(QKeySequence("F6"), self).activated.connect(self.course.setFocus)

    # ---- showing

    def refresh(self) -> None:
        """Show the document everywhere."""
        bench = self.document.bench
        legs = legs_of(bench)
        if self.page.key not in {leg.key for leg in legs}:
            self.travel("plate")
            return
        points = tuple(Waypoint(leg.key, leg.name, headline(bench, leg), state_of(bench, leg)) for leg in legs)
        self.course.show_course(points, self.page.key)
        for index, action in enumerate(self._leg_actions):
            action.setVisible(index < len(legs))
            if index < len(legs):
                action.setText(legs[index].name)
        self.bearing.show_text(next_bearing(bench).text)
        self.page.offer_sections(self._sections_of(self.page.key))
        self.page.show_document()
        self._show_title()

    def _show_title(self) -> None:
        document = self.document
        mark = " • unsaved" if document.unsaved else ""
        motor = document.bench.settings.plate.motor
        names = " · ".join(n for n in (document.bench.name, motor) if n)
        self.setWindowTitle(f"{names} – Crisp Compass{mark}")
        self._status.setText(f"{document.title}{mark}   ·   F1 keyboard   ·   Ctrl+T night")

    def notice(self, sentence: str) -> None:
        """Show one sentence until its cause is gone: the next entry, another page, or dismissed."""
        self.notices.show_sentence(sentence)

    def say(self, text: str) -> None:
        """Say in the status bar what was done."""
        self.statusBar().showMessage(text, 8000)

    def travel(self, key: str, section: str = "") -> None:
        """Open a leg, at one of its sections or at the main one."""
        if key == "commutation" and not section and self.document.bench.settings.plate.sensor == "encoder":
            section = "Encoder"
        fresh = self.page_of(key, section)
        if fresh is not self.page:
            self.page.leave()
            self.notices.clear()
        self.page = fresh
        self.stack.show_page(fresh)
        self.dial.setVisible(fresh.has_dial)
        fresh.enter()
        self.refresh()
        QTimer.singleShot(0, self._order_tabs)
        self.dial.show_view(fresh.dial_view)

    def _order_tabs(self) -> None:
        """Let Tab follow the eye: course, page from top left to bottom right, ledger, next bearing."""
        page = self.page
        stops = [w for w in page.findChildren(QWidget) if w.focusPolicy() & Qt.FocusPolicy.TabFocus and w.isVisible()]
        stops.sort(key=lambda w: (w.mapTo(page, QPoint(0, 0)).y() // 20, w.mapTo(page, QPoint(0, 0)).x()))
        chain = [self.course, *stops, self.dial, *self.ledger.findChildren(QWidget), self.bearing.button]
        chain = [w for w in chain if w.focusPolicy() != Qt.FocusPolicy.NoFocus]
        for before, after in pairwise(chain):
            QWidget.setTabOrder(before, after)

    def _travel_number(self, number: int) -> None:
        legs = legs_of(self.document.bench)
        if number <= len(legs):
            self.travel(legs[number - 1].key)

    def _sections_of(self, key: str) -> tuple[str, ...]:
        """Return the sections that this bench has use for: its own angle sensor's, and any with a capture."""
        names = tuple(self.sections[key])
        if key != "commutation":
            return names
        bench = self.document.bench
        held = {SECTIONS[e.slot] for e in bench.evidence.get(key, ()) if e.slot in SECTIONS}
        halls, encoder = {"Hand turn", "Edges"}, {"Encoder", "Alignment", "Pole search"}
        other = halls if bench.settings.plate.sensor == "encoder" else encoder
        return tuple(n for n in names if n not in other or n in held)

    def _turn_section(self, by: int) -> None:
        names = list(dict.fromkeys((*self._sections_of(self.page.key), self.page.section)))
        self.travel(self.page.key, names[(names.index(self.page.section) + by) % len(names)])

    def _follow_bearing(self) -> None:
        bearing = next_bearing(self.document.bench)
        self.travel(bearing.leg, bearing.section)

    def _on_turned(self, angle: float) -> None:
        self.page.on_dial(angle)

    def _toggle_night(self) -> None:
        THEME.use("night" if THEME.name == "light" else "light")
        self._night.setChecked(THEME.name == "night")
        self.settings.setValue("theme", THEME.name)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._panel.setFixedWidth(PANEL if self.width() >= NARROW else NARROW_PANEL)
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
        self.travel(next_bearing(self.document.bench).leg if self.document.path else "plate")

    def _fill_recent(self) -> None:
        self._recent.clear()
        for text in self.files.recent():
            action = self._recent.addAction(Path(text).name)
            action.setToolTip(text)
            action.triggered.connect(partial(self.open, Path(text)))
        if self._recent.isEmpty():
            self._recent.addAction("None yet").setEnabled(False)

    # ---- captures

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        event.acceptProposedAction()
        self.take_files([Path(url.toLocalFile()) for url in event.mimeData().urls()])

    def take_files(self, paths: list[Path]) -> None:
        """Open a bench, or bring every capture to the leg it belongs to; several benches at once are refused by name."""
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
        """Open a bench or bring a capture to the leg it belongs to."""
        self.take_files([path])

    def _on_busy(self, text: str) -> None:
        self._busy.setVisible(bool(text))
        self.busy_text.setText(text)

    def _on_taken(self, evaluated: Evaluated) -> None:
        """Say where a capture went, unless the person is looking at it."""
        key, section = evaluated.leg, section_of(evaluated)
        if evaluated.evidence.columns:
            self.say(
                f"{Path(evaluated.evidence.file).name}: channels mapped as {', '.join(evaluated.evidence.columns)}"
            )
        page = self.page
        if page.key == key and (page.section == section or not section):
            return
        name = BY_KEY[key].name
        self.notices.add_news(
            f"{Path(evaluated.evidence.file).name} was read into {name}{f', {section}' if section else ''}.",
            f"Show {name}",
            partial(self.travel, key, section),
        )

    def _on_capture_refused(self, arrival: Arrival, refusal: Refusal) -> None:
        self.notices.add_refusal(refusal_text(refusal.at(str(arrival.path))))

    def _ask_channels(self, arrival: Arrival, refusal: Refusal) -> None:
        page = self.page_of(arrival.leg or arrival.here)
        wanted = page.wanted if isinstance(page, CapturePage) else ()
        dialog = MappingDialog(self, arrival.path, wanted, f"{arrival.path.name}: {refusal.problem}.")
        if not dialog.usable or not dialog.exec():
            self._on_capture_refused(arrival, refusal)
            return
        columns = dialog.mappings()
        self.intake.remember_mappings(arrival, columns)
        self.intake.add(Arrival(arrival.path, arrival.leg, arrival.here, columns, asked=True), first=True)

    # ---- help and end

    def _show_keys(self) -> None:
        QMessageBox.information(self, "Keyboard", KEYS)

    def _copy_diagnostics(self) -> None:
        copy_diagnostics()
        self.say("Diagnostics copied to the clipboard")

    def _show_about(self) -> None:
        from crisp_compass import __version__

        QMessageBox.about(
            self,
            "Crisp Compass",
            f"Crisp Compass {__version__}\nThe navigator of the motor bench.\n\nSet in IBM Plex Sans and Mono (SIL Open Font License 1.1).",
        )

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_discard():
            event.ignore()
            return
        self.page.leave()
        self.intake.clear()
        self.document.drop_autosave()
        self.settings.setValue("geometry", self.saveGeometry())
        THEME.changed.disconnect(self.bearing.restyle)
        if self in Window.opened:
            Window.opened.remove(self)
        event.accept()


KEYS = """Alt+1 … Alt+0, Alt+-\tgo to a leg
Ctrl+PgUp, Ctrl+PgDown\tsections of a leg
F6, then ← →\ttravel the course
Ctrl+B\tfollow the next bearing
Ctrl+E\ttype a reading
Ctrl+L\tload a capture
Ctrl+Enter\tsettle, or save the header
Space\tstart or stop the run
Ctrl+R\treverse
Ctrl+K\tacknowledge a fault
↑ ↓, wheel\tstep a number; with Shift in 1-2-5
F, C\ton a plot: fit, cursors
Ctrl+Z, Ctrl+Shift+Z\tundo, redo
Ctrl+S, Ctrl+O, Ctrl+N\tsave, open, new
Ctrl+T\tnight colours"""
