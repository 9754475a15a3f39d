"""The window: course, leg, dial, ledger with entry line, next bearing."""

from __future__ import annotations

import importlib
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from crisp_compass.app.course_strip import CourseStrip, Waypoint
from crisp_compass.app.dial import Dial
from crisp_compass.app.document import Document, demo_folder
from crisp_compass.app.jobs import Job
from crisp_compass.app.ledger import Ledger
from crisp_compass.app.legs.base import LegPage
from crisp_compass.app.legs.capture_leg import CaptureLeg
from crisp_compass.app.legs.hand_over import HandOverPage
from crisp_compass.app.pages import PAGES
from crisp_compass.app.theme import THEME
from crisp_compass.app.widgets.bearing import BearingLine
from crisp_compass.app.widgets.deck import Deck
from crisp_compass.app.widgets.parts import frame
from crisp_compass.app.widgets.plot import refusal_text
from crisp_compass.capture import Capture, Progress, read_capture
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import tune_current
from crisp_compass.plant.simulation import READY, prepare
from crisp_compass.voyage.angle_evidence import SECTIONS
from crisp_compass.voyage.course import headline, legs_of, next_bearing, state_of
from crisp_compass.voyage.evidence import guess_leg

_RECENT = 8


#: Between two pages that are built ahead.
AHEAD_MS = 120


def _get_ready() -> None:
    """Do away from the window what would make the first visit of a page slow: kernels and late imports."""
    prepare()
    for name in ("scipy.optimize", "scipy.signal", "scipy.stats"):
        importlib.import_module(name)
    tune_current(r=1.0, ld=1e-3, lq=1e-3, loop_hz=1e4, bandwidth_hz=500.0)


class Window(QMainWindow):
    """One bench in one window."""

    def __init__(self, settings: QSettings | None = None) -> None:
        super().__init__()
        self.settings = settings or QSettings("crisp-compass", "crisp-compass")
        self.document = Document(self)
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(1260, 730)  # every lever row fits
        self.course = CourseStrip()
        self.dial = Dial()
        #: Every section by leg and name; a page is built when it is first opened, so that the window opens fast.
        self.sections: dict[str, dict[str, type[LegPage]]] = {}
        for kind in PAGES:
            self.sections.setdefault(kind.key, {})[kind.section] = kind
        self._built: dict[type[LegPage], LegPage] = {}
        self.stack = Deck()
        self.page: LegPage = self.page_of("plate")
        self.dial.turned.connect(self._on_turned)
        self.ledger = Ledger(self.document)
        self.ledger.refused.connect(self.notice)
        self.bearing = BearingLine()
        self.bearing.button.clicked.connect(self._follow_bearing)
        self._drop_job = Job(self)
        self._dropped = ""
        self._drop_job.progress.connect(self._on_drop_progress)
        self._drop_job.done.connect(lambda found: self._open_in_leg(*found))
        self._drop_job.refused.connect(lambda refusal: self.notice(refusal_text(refusal)))
        self._build()
        self._build_menus()
        self.course.chosen.connect(self.travel)
        self.document.changed.connect(self.refresh)
        self.document.renamed.connect(self._show_title)
        THEME.changed.connect(self.bearing.restyle)
        geometry = self.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        self.bearing.restyle()
        self.travel("plate")
        self._show_title()

    def page_of(self, key: str, section: str = "") -> LegPage:
        """Return a section's page (a leg's main one without a name), building it the first time."""
        kinds = self.sections[key]
        kind = kinds[section] if section else next(iter(kinds.values()))
        if kind not in self._built:
            page = self._built[kind] = kind(self.document)
            page.refused.connect(self.notice)
            page.dial_changed.connect(lambda view, p=page: self.dial.show_view(view) if self.page is p else None)
            page.section_chosen.connect(partial(self.travel, key))
            if isinstance(page, HandOverPage):
                page.written.connect(lambda text: self.statusBar().showMessage(text, 8000))
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
        self._notice = frame("notice")
        row = QHBoxLayout(self._notice)
        row.setContentsMargins(12, 4, 6, 4)
        self.notice_text = QLabel()
        self.notice_text.setWordWrap(True)
        self.notice_text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        close = QPushButton("Dismiss")
        close.clicked.connect(self._notice.hide)
        row.addWidget(self.notice_text, 1)
        row.addWidget(close)
        self._notice.hide()
        panel = frame("panel")
        panel.setFixedWidth(332)
        side = QVBoxLayout(panel)
        side.setContentsMargins(0, 4, 0, 0)
        side.setSpacing(0)
        side.addWidget(self.dial)
        side.addWidget(self.ledger, 1)
        left = QVBoxLayout()
        left.setSpacing(0)
        left.addWidget(self.stack, 1)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addLayout(left, 1)
        middle.addWidget(panel)
        central = QWidget()
        column = QVBoxLayout(central)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.course)
        column.addLayout(middle, 1)
        column.addWidget(self._notice)
        column.addWidget(self.bearing)
        self.setCentralWidget(central)
        self.statusBar().setSizeGripEnabled(False)
        self._status = QLabel()
        self._status.setContentsMargins(0, 0, 14, 0)
        self.statusBar().addPermanentWidget(self._status)
        self.statusBar().setFixedHeight(24)

    def _build_menus(self) -> None:
        def add(menu: QMenu, text: str, slot: Callable[..., object], keys: str = "") -> QAction:
            action = menu.addAction(text)
            action.triggered.connect(lambda _checked=False: slot())
            if keys:
                action.setShortcut(QKeySequence(keys))
            return action

        file = self.menuBar().addMenu("&File")
        add(file, "&New bench", self.new, "Ctrl+N")
        add(file, "&Open bench…", self._ask_open, "Ctrl+O")
        demos = file.addMenu("Open &demo")
        for name in ("winch", "thruster"):
            add(demos, name.capitalize(), partial(self.open, demo_folder() / name / f"{name}.bench.json"))
        self._recent = file.addMenu("Open &recent")
        self._recent.aboutToShow.connect(self._fill_recent)
        file.addSeparator()
        add(file, "&Save", self.save, "Ctrl+S")
        add(file, "Save &as…", self.save_as, "Ctrl+Shift+S")
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
        add(travel, "Section befo&re", partial(self._turn_section, -1), "Ctrl+PgUp")
        travel.addSeparator()
        add(travel, "Follow &next bearing", self._follow_bearing, "Ctrl+B")
        add(travel, "Type a &reading", self.ledger.entry.setFocus, "Ctrl+E")
        view = self.menuBar().addMenu("&View")
        self._night = add(view, "&Night colours", self._toggle_night, "Ctrl+T")
        self._night.setCheckable(True)
        self._night.setChecked(THEME.name == "night")
        help_menu = self.menuBar().addMenu("&Help")
        add(help_menu, "&Keyboard…", self._show_keys, "F1")
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
        self.bearing.text.setText(next_bearing(bench).text)
        self.bearing.setAccessibleName("Next bearing: " + next_bearing(bench).text)
        self.page.offer_sections(self._sections_of(self.page.key))
        self.page.show_document()
        self._show_title()

    def _show_title(self) -> None:
        mark = " • unsaved" if self.document.unsaved else ""
        self.setWindowTitle(f"{self.document.bench.name} – Crisp Compass{mark}")
        self._status.setText(f"{self.document.title}{mark}   ·   F1 keyboard   ·   Ctrl+T night")

    def notice(self, sentence: str) -> None:
        """Show one sentence until it is dismissed or the next leg is opened."""
        self.notice_text.setText(sentence)
        self._notice.setAccessibleName(sentence)
        self._notice.show()

    def travel(self, key: str, section: str = "") -> None:
        """Open a leg, at one of its sections or at the main one."""
        if key == "commutation" and not section and self.document.bench.levers.plate.sensor == "encoder":
            section = "Encoder"
        fresh = self.page_of(key, section)
        if fresh is not self.page:
            self.page.leave()
            self._notice.hide()
        self.page = fresh
        self.stack.show_page(fresh)
        self.refresh()
        self.dial.show_view(fresh.dial_view)

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
        held = {SECTIONS[e.slot] for e in bench.evidence.get(key, ())}
        halls, encoder = {"Hand turn", "Edges"}, {"Encoder", "Alignment", "Pole search"}
        other = halls if bench.levers.plate.sensor == "encoder" else encoder
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

    # ---- files

    def new(self) -> None:
        """Start an empty bench after asking about unsaved work."""
        if self._may_discard():
            self.document.new()
            self.travel("plate")

    def _ask_open(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "Open bench", str(self.document.base), "Benches (*.bench.json);;All files (*)"
        )
        if path:
            self.open(Path(path))

    def open(self, path: Path) -> bool:
        """Open a bench; on refusal the open one stays and a sentence says why."""
        if not self._may_discard():
            return False
        try:
            self.document.load(path)
        except Refusal as refusal:
            self.notice(refusal_text(refusal))
            return False
        self._remember(path)
        self.travel(next_bearing(self.document.bench).leg)
        return True

    def save(self) -> bool:
        """Save, asking for a name if there is none; return whether it was saved."""
        if self.document.path is None:
            return self.save_as()
        return self._save_to(self.document.path)

    def save_as(self) -> bool:
        """Save under a new name."""
        start = (
            self.document.path
            or self.document.base / f"{self.document.bench.name.lower().replace(' ', '-')}.bench.json"
        )
        text, _ = QFileDialog.getSaveFileName(self, "Save bench", str(start), "Benches (*.bench.json)")
        if not text:
            return False
        path = Path(text)
        return self._save_to(path if path.name.endswith(".json") else path.with_name(path.name + ".bench.json"))

    def _save_to(self, path: Path) -> bool:
        try:
            self.document.save(path)
        except Refusal as refusal:
            self.notice(refusal_text(refusal))
            return False
        self._remember(path)
        self.statusBar().showMessage(f"Saved {path.name}", 4000)
        return True

    def _may_discard(self) -> bool:
        """Ask about unsaved work; True if it may go."""
        if not self.document.unsaved:
            return True
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self,
            "Unsaved work",
            f"Save the changes of {self.document.title}?",
            buttons.Save | buttons.Discard | buttons.Cancel,
            buttons.Save,
        )
        if answer == buttons.Save:
            return self.save()
        return answer == buttons.Discard

    def _remember(self, path: Path) -> None:
        recent = [str(path.resolve()), *(p for p in self._recent_paths() if p != str(path.resolve()))]
        self.settings.setValue("recent", recent[:_RECENT])

    def _recent_paths(self) -> list[str]:
        stored = self.settings.value("recent") or []
        return [stored] if isinstance(stored, str) else list(stored)

    def _fill_recent(self) -> None:
        self._recent.clear()
        for text in self._recent_paths():
            self._recent.addAction(Path(text).name).triggered.connect(partial(self.open, Path(text)))
        if self._recent.isEmpty():
            self._recent.addAction("None yet").setEnabled(False)

    # ---- dropped files

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        event.acceptProposedAction()
        for url in event.mimeData().urls():
            self.take_file(Path(url.toLocalFile()))

    def take_file(self, path: Path) -> None:
        """Open a bench or bring a capture to the leg it belongs to."""
        if path.name.endswith(".json"):
            self.open(path)
            return
        here = self.page.key if isinstance(self.page, CaptureLeg) else ""

        def decide(report: Progress) -> tuple[str, Path, Capture | None]:
            try:
                capture = read_capture(path, need_time=False, progress=report)
                return guess_leg(capture), path, capture
            except Refusal:
                if not here:
                    raise
                return here, path, None  # the open leg says what is wrong, or asks for the channels

        self._dropped = path.name
        self._drop_job.ask_reporting(decide)

    def _on_drop_progress(self, part: float) -> None:
        self.statusBar().showMessage(f"Reading {self._dropped} … {100 * part:.0f} %", 2000)

    def _open_in_leg(self, key: str, path: Path, capture: Capture | None) -> None:
        section = {"pwm": "Command", "current_loop": "Measured step"}.get(key, "")
        if key == "commutation" and capture is not None and "hall_1" not in capture:
            section = "Pole search" if "i_peak" in capture else "Alignment" if "field_angle" in capture else "Encoder"
        halls = capture is not None and "hall_1" in capture
        if key == "commutation" and halls and self.document.bench.levers.plate.sensor != "halls":
            self.notice(
                f"{path.name} holds hall signals, but the plate says encoder: set the angle sensor on the plate to halls first."
            )
            return
        self.travel(key, section)
        page = self.page
        assert isinstance(page, CaptureLeg)
        page.load(path, capture=capture)

    # ---- help and end

    def _show_keys(self) -> None:
        QMessageBox.information(self, "Keyboard", KEYS)

    def _show_about(self) -> None:
        from crisp_compass import __version__

        QMessageBox.about(
            self,
            "Crisp Compass",
            f"Crisp Compass {__version__}\nThe navigator of the motor bench.\n\nSet in B612 (SIL Open Font License 1.1).",
        )

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_discard():
            event.ignore()
            return
        self.page.leave()
        self.document.drop_autosave()
        self.settings.setValue("geometry", self.saveGeometry())
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
↑ ↓, wheel\tstep a lever; with Shift in 1-2-5
F, C\ton a plot: fit, cursors
Ctrl+Z, Ctrl+Shift+Z\tundo, redo
Ctrl+S, Ctrl+O, Ctrl+N\tsave, open, new
Ctrl+T\tnight colours"""
