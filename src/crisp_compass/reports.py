"""What an error of the program itself leaves behind: a file that says what was asked and where it failed."""

from __future__ import annotations

import platform
import sys
import tempfile
import traceback
from datetime import datetime
from pathlib import Path

import platformdirs


def write_report(error: BaseException) -> Path | None:
    """Write a report and return where it lies, in the state folder or else among temporary files; None where neither takes it."""
    from crisp_compass import __version__

    text = "\n".join([
        f"Crisp Compass {__version__}, Python {platform.python_version()}, {platform.platform()}",
        f"{datetime.now().isoformat(' ', 'seconds')}",
        "arguments: " + " ".join(ascii(a) for a in sys.argv[1:]),
        "",
        "".join(traceback.format_exception(error)),
    ])  # fmt: skip
    name = f"report-{datetime.now():%Y%m%d-%H%M%S}.txt"
    for folder in (Path(platformdirs.user_state_dir("crisp-compass")) / "reports", Path(tempfile.gettempdir())):
        try:
            folder.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(text, encoding="utf-8", errors="backslashreplace")
        except OSError:
            continue
        return folder / name
    return None
