"""The window's menus and keys; the course's own from the registry of waypoints."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt
from PySide6.QtGui import QAction, QKeySequence, QShortcut
from PySide6.QtWidgets import QApplication, QMenu, QMessageBox

from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.preferences import PreferencesDialog
from crisp_compass.app.theme import THEME
from crisp_compass.app.widgets.parts import unmarked
from crisp_compass.course.course import waypoints_of
from crisp_compass.course.waypoints import WAYPOINTS

if TYPE_CHECKING:
    from crisp_compass.app.window import Window

#: Keys of the waypoints, with Alt, in the order of the course.
WAYPOINT_KEYS = "1234567890-=[];,"
KEYS = """F1	guide to this page
Ctrl+F	find anything: page, field, value, command, guide
Ctrl+Shift+D	drills
Alt+1 … Alt+0, Alt+-\tgo to a leg
Ctrl+PgUp, Ctrl+PgDown\tsections of a leg
F6, then ← →\ttravel the course
Ctrl+B\tfollow the next bearing
Ctrl+E\ttype a reading
Ctrl+D\tconnect to the simulated drive of this bench
Ctrl+L\tload a capture
Ctrl+Enter\tsettle, save the header, start the run
Space, Esc\tstop the run
Ctrl+R\treverse the run
Ctrl+K\tacknowledge a fault
↑ ↓, wheel\tstep a number; with Shift in 1-2-5
F, C\ton a plot: fit, cursors
Ctrl+Z, Ctrl+Shift+Z\tundo, redo
Ctrl+S, Ctrl+O, Ctrl+N\tsave, open, new
Ctrl+T\tnight colours"""


class Menus(QObject):
    """Menus of one window."""

    def __init__(self, window: Window, demos: Path) -> None:
        super().__init__(window)
        self._window = window
        self._build_file(demos)
        self._build_edit()
        self._build_course()
        view = window.menuBar().addMenu("&View")
        self._night = self._add(view, "&Night colours", self._toggle_night, "Ctrl+T")
        self._night.setCheckable(True)
        self._night.setChecked(THEME.name == "night")
        help_menu = window.menuBar().addMenu("&Help")
        self._add(help_menu, "&Guide to this page", window.toggle_guide, "F1")
        self._add(help_menu, "&Find anything…", self._find, "Ctrl+F")
        self._add(help_menu, "&Drills…", self.show_drills, "Ctrl+Shift+D")
        self._add(help_menu, "&Keyboard…", self._show_keys, "Ctrl+F1")
        self._add(help_menu, "D&iagnostics…", self._show_diagnostics)
        self._add(help_menu, "&About…", self._show_about)
        QShortcut(QKeySequence("F6"), window).activated.connect(window.course.setFocus)

    def _add(self, menu: QMenu, text: str, slot: Callable[..., object], keys: str = "") -> QAction:
        action = menu.addAction(text)
        action.triggered.connect(lambda _checked=False: slot())
        if keys:
            action.setShortcut(QKeySequence(keys))
        return action

    def _build_file(self, demos: Path) -> None:
        window, files = self._window, self._window.files
        file = window.menuBar().addMenu("&File")
        self._add(file, "&New bench", files.new, "Ctrl+N")
        self._add(file, "New &window", window.another, "Ctrl+Shift+N")
        self._add(file, "&Open bench…", files.ask_open, "Ctrl+O")
        menu = file.addMenu("Open &demo")
        for bench in sorted(demos.glob("*/*.bench.json")):
            self._add(menu, bench.parent.name.capitalize(), partial(window.open, bench))
        there = file.addMenu("Connect to a &simulated demo")
        for bench in sorted(demos.glob("*/*.bench.json")):
            self._add(there, f"Connect to the simulated {bench.parent.name}", partial(window.connect_demo, bench))
        self._recent = file.addMenu("Open &recent")
        self._recent.aboutToShow.connect(self._fill_recent)
        file.addSeparator()
        self._add(file, "&Channels of the shown capture…", self._map_channels)
        file.addSeparator()
        self._add(file, "&Save", files.save, "Ctrl+S")
        self._add(file, "Save &as…", files.save_as, "Ctrl+Shift+S")
        self._add(file, "Bench na&me…", window.rename)
        file.addSeparator()
        self._add(file, "&Quit", window.close, "Ctrl+Q")

    def _map_channels(self) -> None:
        page = self._window.page
        if isinstance(page, CapturePage) and page.evidence() is not None:
            page.remap.emit()
        else:
            self._window.say("Open a page that shows a capture first.")

    def _build_edit(self) -> None:
        window = self._window
        edit = window.menuBar().addMenu("&Edit")
        undo = window.document.undo_stack.createUndoAction(window, "&Undo")
        undo.setShortcut(QKeySequence.StandardKey.Undo)
        redo = window.document.undo_stack.createRedoAction(window, "&Redo")
        redo.setShortcuts([QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Y")])
        for action in (undo, redo):  # what was said of a step goes with it
            action.triggered.connect(window.notices.clear)
        edit.addActions([undo, redo])
        edit.addSeparator()
        self._add(
            edit,
            "Copy window as &picture",
            lambda: QApplication.clipboard().setPixmap(window.grab()),
            "Ctrl+Shift+C",
        )
        edit.addSeparator()
        self._add(edit, "&Settings…", lambda: PreferencesDialog(window).exec(), "Ctrl+,")

    def _build_course(self) -> None:
        window, navigator = self._window, self._window.navigator
        travel = window.menuBar().addMenu("&Course")
        self._places = [
            self._add(travel, f"Leg {number}", partial(navigator.travel_number, number), f"Alt+{key}")
            for number, key in zip(range(1, len(WAYPOINTS) + 1), WAYPOINT_KEYS, strict=False)
        ]
        travel.addSeparator()
        self._add(travel, "Next sec&tion", partial(navigator.turn_section, 1), "Ctrl+PgDown")
        self._add(travel, "P&revious section", partial(navigator.turn_section, -1), "Ctrl+PgUp")
        travel.addSeparator()
        self._add(travel, "Follow &next bearing", window.follow_bearing, "Ctrl+B")
        self._add(travel, "Connect to the &simulated drive", window.connect_simulated, "Ctrl+D")
        self._add(travel, "Type a &reading", window.read_entry, "Ctrl+E")

    def refresh(self) -> None:
        """Name the waypoints that the bench has."""
        waypoints = waypoints_of(self._window.document.bench)
        for index, action in enumerate(self._places):
            action.setVisible(index < len(waypoints))
            if index < len(waypoints):
                action.setText(waypoints[index].name)

    def _fill_recent(self) -> None:
        self._recent.clear()
        for text in self._window.files.recent():
            action = self._recent.addAction(Path(text).name)
            action.setToolTip(unmarked(text))
            action.triggered.connect(partial(self._window.open, Path(text)))
        if self._recent.isEmpty():
            self._recent.addAction("None yet").setEnabled(False)

    def _toggle_night(self) -> None:
        THEME.use("night" if THEME.name == "light" else "light")
        self._night.setChecked(THEME.name == "night")
        self._window.settings.setValue("theme", THEME.name)

    def _find(self) -> None:
        from crisp_compass.app.finder import find

        find(self._window)

    def show_drills(self) -> None:
        """Open the drills in a window of their own."""
        from crisp_compass.app.drills import DrillsWindow

        window = DrillsWindow(self._window)
        window.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        window.show()

    def _show_keys(self) -> None:
        QMessageBox.information(self._window, "Keyboard", KEYS)

    def _show_diagnostics(self) -> None:
        from crisp_compass.app.diagnostics import DiagnosticsDialog

        DiagnosticsDialog(self._window, self._window.settings, self._window.document.bench).exec()

    def _show_about(self) -> None:
        from crisp_compass import __version__
        from crisp_compass.licences import as_text

        box = QMessageBox(self._window)
        box.setWindowTitle("Crisp Compass")
        box.setText(f"Crisp Compass {__version__}\nThe navigator of the motor bench.")
        box.setInformativeText("Set in IBM Plex Sans and Mono (SIL Open Font License 1.1). Details name every part with its licence.")
        box.setDetailedText(as_text())
        box.exec()
