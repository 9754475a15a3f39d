"""The log in the state folder, and what happens when something breaks: the window lives on and says where to look."""

from __future__ import annotations

import faulthandler
import logging
import platform
import sys
import traceback
from collections import deque
from collections.abc import Callable
from datetime import datetime
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType
from typing import TextIO

import platformdirs
from PySide6 import __version__ as pyside_version
from PySide6.QtCore import QtMsgType, qInstallMessageHandler, qVersion
from PySide6.QtWidgets import QApplication

from crisp_compass import __version__

LOG = logging.getLogger("crisp_compass")
_LAST_LINES = 40
_OPEN: list[TextIO] = []


def log_file() -> Path:
    """Return the log's path, its folder made if missing."""
    folder = Path(platformdirs.user_state_dir("crisp-compass"))
    folder.mkdir(parents=True, exist_ok=True)
    return folder / "crisp-compass.log"


def start_log() -> None:
    """Write warnings, errors and Qt's messages to the rotating log; a disk that takes none is no reason not to start."""
    try:
        handler = RotatingFileHandler(log_file(), maxBytes=500_000, backupCount=2, encoding="utf-8", delay=True)
    except OSError:
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    LOG.addHandler(handler)
    LOG.setLevel(logging.INFO)
    LOG.propagate = False
    logging.raiseExceptions = False
    LOG.info("started %s", _versions())

    def from_qt(kind: QtMsgType, _context: object, message: str) -> None:
        LOG.log(
            logging.INFO if kind in (QtMsgType.QtDebugMsg, QtMsgType.QtInfoMsg) else logging.WARNING,
            "Qt: %s",
            message,
        )

    qInstallMessageHandler(from_qt)


def watch_crashes() -> Path | None:
    """Let a crash, also one in Qt's own code, leave where it was (faulthandler); return the report of a run that crashed before, None where none did.

    The file stays open as long as the program runs: it is written when nothing else can be done any more.
    """
    folder = log_file().parent
    running = folder / "crash.log"
    try:
        left = None
        if running.exists() and running.stat().st_size > 0:
            (folder / "reports").mkdir(exist_ok=True)
            left = running.replace(folder / "reports" / f"crash-{datetime.now():%Y%m%d-%H%M%S}.txt")
        stream = running.open("w", encoding="utf-8")
    except OSError:
        return None
    faulthandler.enable(stream)
    _OPEN.append(stream)
    return left


def keep_alive(say: Callable[[str], object]) -> None:
    """Log what nobody caught and say one sentence, so that the window lives on."""

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            QApplication.quit()
            return
        LOG.error("not caught: %s", "".join(traceback.format_exception(kind, error, trace)))
        say(f"Something failed inside the program ({kind.__name__}); your work is kept. Details are in {log_file()}.")

    sys.excepthook = hook


def _versions() -> str:
    return (
        f"Crisp Compass {__version__}, Python {platform.python_version()}, Qt {qVersion()}, PySide6 {pyside_version}, "
        f"{platform.system()} {platform.release()}"
    )


def diagnostics() -> str:
    """Return versions, screen and the end of the log, for a report; nothing of the bench."""
    application = QApplication.instance()
    screens = application.screens() if isinstance(application, QApplication) else []
    lines = [
        _versions(),
        *(f"screen {s.size().width()} × {s.size().height()} at {s.devicePixelRatio():g}" for s in screens),
    ]
    try:
        with log_file().open(encoding="utf-8", errors="replace") as stream:
            lines += [f"log: {log_file()}", *(line.rstrip() for line in deque(stream, _LAST_LINES))]
    except OSError:
        lines.append("no log yet")
    return "\n".join(lines)
