"""Frames a second of the live page while the simulated drive sends sixteen channels at 20 kHz, and what arrives of them."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from PySide6.QtCore import QEventLoop, QSettings, QTimer

from crisp_compass.app.main import make_application
from crisp_compass.app.waypoints.drive.live import LivePage
from crisp_compass.app.window import Window

DEMO = Path(__file__).resolve().parent.parent / "demo"
_SECONDS = 5.0


def _wait(seconds: float) -> None:
    loop = QEventLoop()
    QTimer.singleShot(round(1000 * seconds), loop.quit)
    loop.exec()


def measure() -> None:
    """Print frames and rows a second, rolling, with all sixteen channels shown, over five seconds."""
    application = make_application()
    with tempfile.TemporaryDirectory() as folder:
        window = Window(QSettings(str(Path(folder) / "s.ini"), QSettings.Format.IniFormat))
        window.document.load(DEMO / "winch" / "winch.bench.json")
        window.resize(1280, 800)
        window.show()
        session = window.document.drive
        session.start_simulated(window.document.bench)
        window.travel("drive", "Live")
        page = window.page
        assert isinstance(page, LivePage)
        while page.source.store is None or page.source.store.rows < 20_000:
            _wait(0.1)
        store = page.source.store
        page.chosen = {c.name for c in store.channels if c.bit is None} | {store.channels[-1].name}
        page._begin()
        _wait(1.0)
        frames, rows, began, spent = page.frames, store.rows, time.monotonic(), time.process_time()
        _wait(_SECONDS)
        took = time.monotonic() - began
        share = (time.process_time() - spent) / took
        print(f"live, {len(page.chosen)} channels           {(page.frames - frames) / took:.0f} frames/s at {(store.rows - rows) / took:.0f} rows/s, {page.source.lost} lost, {100 * share:.0f} % of a processor")
        session.close(wait=True)
        window.document.undo_stack.setClean()
        window.document.drop_autosave()
        window.close()
        application.processEvents()


if __name__ == "__main__":
    measure()
