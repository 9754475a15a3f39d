"""Starting the window."""

from __future__ import annotations

import os
import sys
from functools import partial
from importlib.resources import files
from pathlib import Path

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtGui import QIcon, QPixmapCache
from PySide6.QtWidgets import QApplication

from crisp_compass.app.autosave import Leftover
from crisp_compass.app.collector import Collector
from crisp_compass.app.logs import keep_alive, start_log, watch_crashes
from crisp_compass.app.preferences import apply, read, use_size
from crisp_compass.app.recovery import offer_recovery
from crisp_compass.app.theme import THEME, load_fonts
from crisp_compass.app.window import Window
from crisp_compass.course.open_points import next_bearing
from crisp_compass.errors import Refusal


def make_application() -> QApplication:
    """Return the application with font, icon and theme set."""
    existing = QApplication.instance()
    application = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    if application.findChild(Collector) is None:
        Collector(application)
    application.setApplicationName("crisp-compass")
    application.setApplicationDisplayName("")
    application.setDesktopFileName("crisp-compass")
    application.setStyle("Fusion")
    application.setWindowIcon(QIcon(str(files("crisp_compass.app") / "assets" / "crisp-compass.svg")))
    load_fonts()
    sys.setswitchinterval(
        0.0005
    )  # at the usual 5 ms a calculation in a thread holds every repaint up several times over
    # the axes of plots are kept as pictures; on a large screen they would not fit the usual cache and be drawn every frame
    QPixmapCache.setCacheLimit(256 * 1024)
    THEME.use(THEME.name)
    return application


def main(arguments: list[str]) -> int:
    """Open the window, perhaps on a bench file; without a display say so and return 2."""
    if not has_display():
        print("No display was found; connect one, or use the commands (crisp-compass --help).", file=sys.stderr)
        return 2
    if len(arguments) > 1:
        print(f"{arguments[1]}: one bench file can be opened at a time.", file=sys.stderr)
        return 2
    start_log()
    crashed = watch_crashes()
    use_size(QSettings("crisp-compass", "crisp-compass"))
    application = make_application()
    window = Window()
    keep_alive(window.notice)
    apply(window, read(window.settings))
    if arguments:
        from crisp_compass.bench.store import load_bench

        try:
            load_bench(arguments[0])
        except Refusal as refusal:
            print(refusal.sentence, file=sys.stderr)
            return 2
        window.open(Path(arguments[0]))
    window.show()
    window.prepare_simulation()
    if crashed is not None:
        window.notice(f"The program crashed the last time; where it was lies in {crashed}. Unsaved work is offered, if there was any.")
    QTimer.singleShot(0, lambda: offer_recovery(window, partial(restore, window)))
    return application.exec()


def has_display() -> bool:
    """Tell whether a window can be shown."""
    chosen = os.environ.get("QT_QPA_PLATFORM", "")
    return bool(
        os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or chosen in ("offscreen", "minimal", "vnc")
    )


def restore(window: Window, left: Leftover) -> bool:
    """Restore a session: in this window if it is empty or shows that very bench, else in another; return whether it could be."""
    document = window.document
    same = document.path is not None and str(document.path) == left.path and not document.unsaved
    target = window if document.untouched or same else window.another()
    try:
        target.document.recover(left.file)
    except Refusal as refusal:
        window.notice(refusal.sentence)
        return False
    target.travel(next_bearing(target.document.bench).waypoint)
    return True
