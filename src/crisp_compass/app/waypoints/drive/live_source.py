"""Where the live page's rows come from: a stream of its own beside the line, a line that is a stream, or the looks at the telemetry."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QObject

from crisp_compass.app.drive_session import DriveSession
from crisp_compass.drive.description import Description
from crisp_compass.drive.live import LiveStore
from crisp_compass.drive.live_line import LiveReader

#: Telemetry that is kept, s.
KEPT_S = 10.0


class LiveSource(QObject):
    """A store that fills while a drive is connected; ``store`` is None while none is."""

    def __init__(self, session: DriveSession, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self._told: Description | None = None
        self._reader: LiveReader | None = None
        self.store: LiveStore | None = None
        session.telemetry.connect(self._on_telemetry)
        session.rows.connect(self._on_rows)

    def follow(self, *, listens: bool) -> bool:
        """Take up the session's drive, and listen to its own stream while somebody looks; tell whether it is another than before."""
        told = self._session.description if self._session.state == "connected" else None
        other = told is not self._told
        if other:
            self._close()
            self._told = told
            stream = told.live_stream() if told is not None else None
            entries = stream.telemetry if stream is not None else tuple(e for e in told.telemetry if e.readable) if told is not None else ()
            self.store = LiveStore(entries, stream.period_s if stream is not None else None, KEPT_S) if entries else None
        if listens and self._reader is None and told is not None and told.live is not None and self.store is not None:
            stream = told.live_stream()
            assert stream is not None
            self.store.broke_off()
            self._reader = LiveReader(told.live.link, stream, self.store)
            self._reader.start()
        elif not listens:
            self._close()
        return other

    def _close(self) -> None:
        if self._reader is not None:
            self._reader.close()
            self._reader = None

    @property
    def why(self) -> str:
        """Why nothing comes, empty while something does."""
        return self._reader.why if self._reader is not None else ""

    @property
    def lost(self) -> int:
        """Frames that did not come, or came broken."""
        if self._reader is not None:
            return self._reader.failed
        return self._session.line.failed if self._session.line is not None else 0

    def _on_rows(self, numbers: Any, values: Any) -> None:
        if self._told is not None and self._told.streams and self.store is not None:
            self.store.append(numbers, values)

    def _on_telemetry(self) -> None:
        told = self._told
        if told is None or told.streams or told.live is not None or self.store is None or not self._session.history:
            return
        t, values = self._session.history[-1]
        self.store.append(np.array([t]), np.array([[values.get(e.name, np.nan) for e in self.store.entries]]))
