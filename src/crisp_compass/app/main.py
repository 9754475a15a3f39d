"""Starting the window."""

from __future__ import annotations

import os
import sys
from importlib.resources import files
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication, QMessageBox

from crisp_compass.app.document import leftovers
from crisp_compass.app.theme import THEME, load_fonts
from crisp_compass.app.window import Window
from crisp_compass.errors import Refusal


def make_application() -> QApplication:
    """Return the application with font, icon and theme set."""
    existing = QApplication.instance()
    application = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    application.setApplicationName("crisp-compass")
    application.setApplicationDisplayName("")
    application.setDesktopFileName("crisp-compass")
    application.setStyle("Fusion")
    application.setWindowIcon(QIcon(str(files("crisp_compass.app") / "assets" / "crisp-compass.svg")))
    load_fonts()
    THEME.use(THEME.name)
    return application


def main(arguments: list[str]) -> int:
    """Open the window, perhaps on a bench file; without a display say so and return 2."""
    if not _has_display():
        print("No display was found; connect one, or use the commands (crisp-compass --help).", file=sys.stderr)
        return 2
    if len(arguments) > 1:
        print(f"{arguments[1]}: one bench file can be opened at a time.", file=sys.stderr)
        return 2
    application = make_application()
    window = Window()
    theme = window.settings.value("theme")
    if theme:
        THEME.use(str(theme))
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
    QTimer.singleShot(0, lambda: offer_recovery(window))
    return application.exec()


def _has_display() -> bool:
    chosen = os.environ.get("QT_QPA_PLATFORM", "")
    return bool(
        os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or chosen in ("offscreen", "minimal", "vnc")
    )


def offer_recovery(window: Window) -> None:
    """Offer the unsaved work of a session that ended without closing."""
    for file in leftovers()[:1]:
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            window,
            "Unsaved work found",
            "The last session ended without closing. Take up its unsaved work?",
            buttons.Yes | buttons.Discard | buttons.Cancel,
            buttons.Yes,
        )
        if answer == buttons.Yes:
            try:
                window.document.recover(file)
            except Refusal as refusal:
                window.notice(refusal.sentence)
        elif answer == buttons.Discard:
            file.unlink(missing_ok=True)
