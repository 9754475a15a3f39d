"""The last seconds of a drive's telemetry: speed beside its reference, and torque current."""

from __future__ import annotations

import numpy as np

from crisp_compass.app.drive_session import DriveSession
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.drive.conversation import factor_to_si


class Strip:
    """Two plots of a session's history, for the pages that watch a drive."""

    def __init__(self, session: DriveSession) -> None:
        self._session = session
        #: Rows that are held still, to be looked at with cursors (C) and saved; none: the strip moves on.
        self.held: list[tuple[float, dict[str, float]]] | None = None
        self.speed = Plot(("time, 0 is now", "s"), ("speed", "rpm"), name="speed, measured by the drive")
        self.speed.curve("reference", "ink", width=1.2, dash="dash")
        self.speed.curve("speed", "magenta", width=2.0)
        self.current = Plot(("time, 0 is now", "s"), ("current", "A"), name="torque current, measured by the drive")
        self.current.curve("i_q", "magenta", width=2.0)

    @property
    def plots(self) -> tuple[Plot, Plot]:
        """Both plots, from left to right."""
        return self.speed, self.current

    def clear(self) -> None:
        """Show nothing."""
        for plot in self.plots:
            plot.clear_data()

    @property
    def rows(self) -> list[tuple[float, dict[str, float]]]:
        """What is shown: times and values by name."""
        return list(self._session.history) if self.held is None else self.held

    def hold(self, on: bool) -> None:
        """Hold what is shown still, or let it move on."""
        self.held = list(self._session.history) if on else None

    def draw(self) -> None:
        """Show the history as it is now, unless it is held."""
        if self.held is not None:
            return
        told, rows = self._session.description, self.rows
        if not rows or told is None:
            return
        t = np.array([r[0] for r in rows]) - rows[-1][0]
        for plot, key, signal, factor in (
            (self.speed, "speed", "speed", RPM_PER_RAD_S), (self.speed, "reference", "speed_ref", RPM_PER_RAD_S), (self.current, "i_q", "i_q", 1.0),
        ):  # fmt: skip
            entry = next((e for e in told.telemetry if e.signal == signal), None) or (told.role("telemetry", "speed") if signal == "speed" else None)
            if entry is not None:
                plot.set(key, t, np.array([r[1].get(entry.name, np.nan) for r in rows]) * factor_to_si(entry) * factor)
        self.speed.follow(-10.0, 0.0, floor=20.0)
        self.current.follow(-10.0, 0.0, floor=0.5)
